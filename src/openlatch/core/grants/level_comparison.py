"""Levels side by side, and what changing one does to those who hold it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from openlatch.core.access.paths import by_holder, lost
from openlatch.core.register import Holder, Level, Permission, Register


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two levels side by side."""

    both: tuple[Permission, ...]
    first_only: tuple[Permission, ...]
    second_only: tuple[Permission, ...]


@dataclass(frozen=True, slots=True)
class Effect:
    """What a change does to one holder's rights in one account."""

    holder: Holder
    account: UUID
    gains: tuple[Permission, ...]
    loses: tuple[Permission, ...]


def compare(first: Level, second: Level) -> Comparison:
    """What both levels give, and what only the one or the other does."""
    return Comparison(
        ordered(first.permissions & second.permissions),
        ordered(first.permissions - second.permissions),
        ordered(second.permissions - first.permissions),
    )


def effects(before: Register, after: Register, accounts: Iterable[UUID], at: datetime) -> list[Effect]:
    """Whose rights grow or shrink in these accounts between two states of the register."""
    found = []
    for account in accounts:
        was = by_holder(before, account, at)
        will = by_holder(after, account, at)
        for holder in {**was, **will}:
            gains = lost(will.get(holder, []), was.get(holder, []))
            loses = lost(was.get(holder, []), will.get(holder, []))
            if gains or loses:
                found.append(Effect(holder, account, ordered(gains), ordered(loses)))
    return found


def ordered(permissions: Iterable[Permission]) -> tuple[Permission, ...]:
    """Permissions, the furthest reaching first."""
    return tuple(sorted(permissions, key=lambda p: (-p.reach, p.sentence)))
