"""A part of the register as plain values, indexed so that paths can be followed both ways.

The store cuts the part that a question needs out of the database; nothing here knows where it came from.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import NamedTuple, TypeVar, cast
from uuid import UUID
from zoneinfo import ZoneInfo

from openlatch.core.time_windows import ALWAYS, WeeklyHours, Window
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing

UTC_ZONE = ZoneInfo("UTC")
Value = TypeVar("Value")
Key = TypeVar("Key")


# Tuples, and not data classes, where a question meets tens of thousands: a tuple is made in a third of the time.
class Holder(NamedTuple):
    """Whoever a grant is for, by kind and id."""

    kind: HolderKind
    id: UUID


class Person(NamedTuple):
    """A human being known to the organisation."""

    id: UUID
    name: str
    inside: bool = True
    standing: Standing = Standing.CURRENT
    left_at: datetime | None = None
    second_factor: bool = False

    def is_gone(self, at: datetime) -> bool:
        """Whether the person had left by that instant."""
        if self.standing is Standing.CURRENT:
            return False
        return self.left_at <= at if self.left_at is not None else self.standing is Standing.LEFT


@dataclass(frozen=True, slots=True)
class Team:
    """People and teams, or a partner organisation, treated as one holder."""

    id: UUID
    name: str
    partner: bool = False


@dataclass(frozen=True, slots=True)
class App:
    """Software that can hold grants."""

    id: UUID
    name: str


@dataclass(frozen=True, slots=True)
class Account:
    """A shared account."""

    id: UUID
    name: str
    owner: UUID | None = None
    zone: ZoneInfo = UTC_ZONE


@dataclass(frozen=True, slots=True)
class Permission:
    """One thing that a system lets a holder do."""

    key: str
    sentence: str
    reach: Reach


@dataclass(frozen=True, slots=True)
class Level:
    """A named set of permissions."""

    id: UUID
    name: str
    sentence: str
    permissions: frozenset[Permission]
    reach: Reach = field(init=False, compare=False)
    """The highest reach of its permissions."""

    def __post_init__(self) -> None:
        # Worked out once: every path that ends in the level is sorted by it.
        highest = max((p.reach for p in self.permissions), default=Reach.OBSERVE)
        object.__setattr__(self, "reach", highest)


@dataclass(frozen=True, slots=True)
class Part:
    """A part of an account that a term is limited to: a resource, or a group with the resources in it."""

    id: UUID
    name: str
    resources: frozenset[UUID]


class Term(NamedTuple):
    """One level on an account or a part of it, within one window, perhaps only in certain hours of the week."""

    level: Level
    window: Window = ALWAYS
    hours: WeeklyHours | None = None
    part: Part | None = None


class Grant(NamedTuple):
    """The fact that a holder may act in an account."""

    id: UUID
    account: UUID
    holder: Holder
    state: GrantState
    terms: tuple[Term, ...]

    @property
    def gives(self) -> bool:
        """Whether its state gives rights. While it is being revoked it still does."""
        return self.state in (GrantState.ACTIVE, GrantState.REVOKING)


class Membership(NamedTuple):
    """That a person or a team belongs to a team, for a while."""

    id: UUID
    team: UUID
    member: Holder
    window: Window = ALWAYS


def _grouped(values: Iterable[Value], by: Callable[[Value], Key]) -> dict[Key, list[Value]]:
    grouped: dict[Key, list[Value]] = defaultdict(list)
    for value in values:
        grouped[by(value)].append(value)
    return grouped


@dataclass(frozen=True)
class Register:
    """The values, with the indexes that following a path needs, each made when it is first asked for."""

    people: dict[UUID, Person] = field(default_factory=dict)
    teams: dict[UUID, Team] = field(default_factory=dict)
    apps: dict[UUID, App] = field(default_factory=dict)
    accounts: dict[UUID, Account] = field(default_factory=dict)
    grants: tuple[Grant, ...] = ()
    memberships: tuple[Membership, ...] = ()

    @classmethod
    def of(
        cls,
        people: Iterable[Person] = (),
        teams: Iterable[Team] = (),
        apps: Iterable[App] = (),
        accounts: Iterable[Account] = (),
        grants: Iterable[Grant] = (),
        memberships: Iterable[Membership] = (),
    ) -> Register:
        """A register of these values."""
        return cls(
            people={p.id: p for p in people},
            teams={t.id: t for t in teams},
            apps={a.id: a for a in apps},
            accounts={a.id: a for a in accounts},
            grants=tuple(grants),
            memberships=tuple(memberships),
        )

    @cached_property
    def by_holder(self) -> dict[Holder, list[Grant]]:
        """The grants of each holder."""
        return _grouped(self.grants, lambda grant: grant.holder)

    @cached_property
    def by_account(self) -> dict[UUID, list[Grant]]:
        """The grants on each account."""
        return _grouped(self.grants, lambda grant: grant.account)

    @cached_property
    def teams_of(self) -> dict[Holder, list[Membership]]:
        """The memberships of each person and team."""
        return _grouped(self.memberships, lambda membership: membership.member)

    @cached_property
    def members_of(self) -> dict[UUID, list[Membership]]:
        """The memberships in each team."""
        return _grouped(self.memberships, lambda membership: membership.team)

    @cached_property
    def owned_by(self) -> dict[UUID, list[Account]]:
        """The accounts of each owner."""
        owned = [account for account in self.accounts.values() if account.owner is not None]
        return _grouped(owned, lambda account: cast(UUID, account.owner))

    def with_grants(self, grants: Iterable[Grant]) -> Register:
        """The same register with other grants: the "what if" of a change."""
        return Register.of(
            self.people.values(),
            self.teams.values(),
            self.apps.values(),
            self.accounts.values(),
            grants,
            self.memberships,
        )

    def as_held(self) -> Register:
        """The same register as the systems have it: there, people who have left hold what they held."""
        return replace(self, people={i: p._replace(standing=Standing.CURRENT) for i, p in self.people.items()})

    def without(self, ids: Iterable[UUID]) -> Register:
        """The same register without these grants."""
        gone = frozenset(ids)
        return self.with_grants(g for g in self.grants if g.id not in gone)

    def with_levels(self, changed: Iterable[Level]) -> Register:
        """The same register with other permissions in some levels."""
        levels = {level.id: level for level in changed}

        def renew(grant: Grant) -> Grant:
            terms = tuple(t._replace(level=levels.get(t.level.id, t.level)) for t in grant.terms)
            return grant if terms == grant.terms else grant._replace(terms=terms)

        return self.with_grants(renew(g) for g in self.grants)

    def with_terms(self, grant_id: UUID, terms: tuple[Term, ...]) -> Register:
        """The same register with other terms on one grant."""
        return self.with_grants(g._replace(terms=terms) if g.id == grant_id else g for g in self.grants)

    def name_of(self, holder: Holder) -> str:
        """The holder's name, or "somebody unknown" when this part of the register does not have it."""
        found: Person | Team | App | Account | None
        match holder.kind:
            case HolderKind.PERSON:
                found = self.people.get(holder.id)
            case HolderKind.TEAM:
                found = self.teams.get(holder.id)
            case HolderKind.APP:
                found = self.apps.get(holder.id)
            case HolderKind.ACCOUNT:
                found = self.accounts.get(holder.id)
        return found.name if found else "somebody unknown"
