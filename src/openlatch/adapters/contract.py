"""The contract between Open Latch and a system: read, apply one step, confirm one step.

An adapter is made from a system's settings and its secret. It keeps no state between calls. Every call ends in
time: SystemDown when the system does not answer, SystemRefused when it says no.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol

from openlatch.core.words import Reach, StepKind


@dataclass(frozen=True, slots=True)
class FoundLevel:
    """A level that the system knows: key, name, sentence, and its permissions as (key, sentence, reach)."""

    key: str
    name: str
    sentence: str
    permissions: tuple[tuple[str, str, Reach], ...]


@dataclass(frozen=True, slots=True)
class SharedAccount:
    """A shared account by the name that the system has for it."""

    handle: str
    comment: str


@dataclass(frozen=True, slots=True)
class Login:
    """Somebody or something that can sign in."""

    handle: str
    comment: str
    is_app: bool


@dataclass(frozen=True, slots=True)
class Holding:
    """That a login, or another shared account, may act in a shared account."""

    account: str
    holder: str
    holder_is_account: bool
    level: str
    until: datetime | None
    handle: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Presence:
    """A session that is going on."""

    key: str
    login: str
    device: str
    address: str
    started_at: datetime
    last_seen_at: datetime
    handle: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Reading:
    """What a system has, all of it: a reading is complete or is not made."""

    levels: tuple[FoundLevel, ...]
    accounts: tuple[SharedAccount, ...]
    logins: tuple[Login, ...]
    holdings: tuple[Holding, ...]
    presences: tuple[Presence, ...]


class Adapter(Protocol):
    """What a kind of system has to be able to do."""

    def read(self) -> Reading:
        """Everything that there is, read in one consistent view."""
        ...

    def can_reduce(self, level: str, lower: str) -> bool:
        """Whether a holding of one level can be reduced to the other, by their keys."""
        ...

    def holding(self, account: str, login: str, level: str) -> dict[str, str]:
        """How a holding that does not exist yet is named in steps: account and login by their handles, level by key."""
        ...

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """Carry one step out, and say what was done. Doing it again changes nothing and says so."""
        ...

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """Look whether a step's effect is there: None when it is, else what the system shows instead."""
        ...
