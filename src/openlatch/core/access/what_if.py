"""What-if questions: the register as it would be after some changes, and what they change about who can do what.

Nothing is changed here. KeyError for a change that names something outside the given register; the service checks that
first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from uuid import UUID

from openlatch.core.access.paths import Path, behind, by_holder, lost
from openlatch.core.register import Grant, Holder, Level, Membership, Permission, Register, Term
from openlatch.core.vocabulary import GrantState, HolderKind, Standing


@dataclass(frozen=True, slots=True)
class Give:
    """A new grant."""

    id: UUID
    account: UUID
    holder: Holder
    terms: tuple[Term, ...]


@dataclass(frozen=True, slots=True)
class SetState:
    """Another state for a grant: ended, suspended, active again."""

    grant: UUID
    state: GrantState


@dataclass(frozen=True, slots=True)
class SetLevel:
    """Another level in every term of a grant."""

    grant: UUID
    level: Level


@dataclass(frozen=True, slots=True)
class Join:
    """Add a person or team to a team."""

    id: UUID
    team: UUID
    member: Holder


@dataclass(frozen=True, slots=True)
class Leave:
    """Remove a person or team from a team."""

    team: UUID
    member: Holder


@dataclass(frozen=True, slots=True)
class SetStanding:
    """Somebody leaves, or is back."""

    person: UUID
    standing: Standing
    at: datetime


@dataclass(frozen=True, slots=True)
class SetOwner:
    """Another owner of an account, or none."""

    account: UUID
    owner: UUID | None


Change = Give | SetState | SetLevel | Join | Leave | SetStanding | SetOwner


def suppose(register: Register, changes: Iterable[Change]) -> Register:
    """The register after these changes, one after the other."""
    people, accounts = dict(register.people), dict(register.accounts)
    grants = {grant.id: grant for grant in register.grants}
    memberships = list(register.memberships)
    for change in changes:
        match change:
            case Give():
                grants[change.id] = Grant(change.id, change.account, change.holder, GrantState.ACTIVE, change.terms)
            case SetState():
                grants[change.grant] = grants[change.grant]._replace(state=change.state)
            case SetLevel():
                held = grants[change.grant]
                terms = tuple(term._replace(level=change.level) for term in held.terms)
                grants[change.grant] = held._replace(terms=terms)
            case Join():
                memberships.append(Membership(change.id, change.team, change.member))
            case Leave():
                memberships = [m for m in memberships if (m.team, m.member) != (change.team, change.member)]
            case SetStanding():
                left = change.at if change.standing is Standing.LEFT else None
                person = people[change.person]
                people[change.person] = person._replace(standing=change.standing, left_at=left)
            case SetOwner():
                accounts[change.account] = replace(accounts[change.account], owner=change.owner)
    return Register.of(
        people.values(),
        register.teams.values(),
        register.apps.values(),
        accounts.values(),
        grants.values(),
        memberships,
    )


@dataclass(frozen=True, slots=True)
class Shift:
    """How one holder's rights in one account change. Ownership is not a permission, so it is listed separately."""

    holder: Holder
    account: UUID
    gained: frozenset[Permission]
    lost: frozenset[Permission]
    owns_now: bool
    owned_before: bool
    last_path_lost: bool
    first_path_gained: bool
    paths_before: tuple[Path, ...]
    paths_after: tuple[Path, ...]


def shifts(
    accounts: Sequence[UUID],
    before: Callable[[UUID], dict[Holder, list[Path]]],
    after: Callable[[UUID], dict[Holder, list[Path]]],
) -> list[Shift]:
    """Whose rights differ between two answers about the same accounts, and how."""
    found = []
    for account in accounts:
        was, will = before(account), after(account)
        for holder in {**was, **will}:
            one, other = was.get(holder, []), will.get(holder, [])
            shift = Shift(
                holder,
                account,
                lost(other, one),
                lost(one, other),
                _owns(other),
                _owns(one),
                bool(one) and not other,
                bool(other) and not one,
                tuple(one),
                tuple(other),
            )
            if shift.gained or shift.lost or shift.owns_now != shift.owned_before or bool(one) != bool(other):
                found.append(shift)
    return found


def shifts_of(accounts: Sequence[UUID], before: Register, after: Register, at: datetime) -> list[Shift]:
    """The same between two registers at one instant."""
    return shifts(accounts, lambda a: by_holder(before, a, at), lambda a: by_holder(after, a, at))


def _owns(paths: Sequence[Path]) -> bool:
    return any(path.level is None for path in paths)


@dataclass(frozen=True, slots=True)
class Row:
    """A line of an account's matrix: a person or app, and which of the columns they can do, on the whole or in part."""

    holder: Holder
    owner: bool
    whole: frozenset[str]
    partly: frozenset[str]


def matrix(register: Register, account: UUID, at: datetime) -> tuple[list[Permission], list[Row]]:
    """Everyone who reaches an account against everything that can be done in it.

    The same as following every path, without building the paths; for accounts shared by tens of thousands.
    """
    whole: dict[Holder, set[str]] = {}
    partly: dict[Holder, set[str]] = {}
    columns: set[Permission] = set()
    crowds: dict[Holder, frozenset[Holder]] = {}
    here = register.accounts.get(account)
    owner = Holder(HolderKind.PERSON, here.owner) if here is not None and here.owner is not None else None
    if owner is not None and owner not in behind(register, owner, at):
        owner = None
    for grant in register.by_account.get(account, ()):
        terms = [term for term in grant.terms if term.window.contains(at)] if grant.gives else []
        if not terms:
            continue
        crowd = crowds.get(grant.holder)
        if crowd is None:
            crowd = crowds[grant.holder] = behind(register, grant.holder, at)
        for term in terms if crowd else ():
            columns |= term.level.permissions
            keys = {permission.key for permission in term.level.permissions}
            into = whole if term.part is None else partly
            for holder in crowd:
                into.setdefault(holder, set()).update(keys)
    rows = [
        Row(
            holder,
            holder == owner,
            frozenset(held := whole.get(holder, set())),
            frozenset(partly.get(holder, set()) - held),
        )
        for holder in {**dict.fromkeys([owner] if owner else []), **whole, **partly}
    ]
    ordered = sorted(columns, key=lambda p: (p.reach, p.key))
    return ordered, sorted(rows, key=lambda r: (not r.owner, -len(r.whole), register.name_of(r.holder)))
