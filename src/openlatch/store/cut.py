"""Cutting out of the register the part that a question about access needs, as plain values for ``core``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import time
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, Select, select, text
from sqlalchemy.orm import Session as Db

from openlatch.core import register as core
from openlatch.core.windows import WeeklyHours, Window
from openlatch.core.words import GrantState, HolderKind, Reach, Standing
from openlatch.store.tables import (
    Account,
    App,
    Grant,
    Level,
    Membership,
    Person,
    Resource,
    ResourceGroup,
    ResourceInGroup,
    Team,
    Term,
)

# Everything that the holders named can act in, over teams and over accounts that are holders themselves.
# UNION, not UNION ALL: what was met once is not followed again, so cycles end.
_OUTWARD = text(
    """
    with recursive met(kind, id) as (
        select cast(k as text), i from unnest(cast(:kinds as text[]), cast(:ids as uuid[])) as start(k, i)
        union
        select next.kind, next.id from met cross join lateral (
            select 'team' as kind, team_id as id from memberships where member_id = met.id
            union all
            select 'account', account_id from grants
            where holder_id = met.id and state in ('active', 'revoking', 'suspended')
            union all
            select 'account', id from accounts where met.kind = 'person' and owner_id = met.id
        ) next
    )
    select kind, id from met
    """
)
# Everyone behind the holders named: the members of teams, and whoever can act in accounts.
_BEHIND = text(
    """
    with recursive met(kind, id) as (
        select cast(k as text), i from unnest(cast(:kinds as text[]), cast(:ids as uuid[])) as start(k, i)
        union
        select next.kind, next.id from met cross join lateral (
            select holder_kind as kind, holder_id as id from grants
            where met.kind = 'account' and account_id = met.id and state in ('active', 'revoking', 'suspended')
            union all
            select case when person_id is null then 'team' else 'person' end, member_id from memberships
            where met.kind = 'team' and team_id = met.id
        ) next
    )
    select kind, id from met
    """
)


def around_holder(db: Db, holder: core.Holder) -> core.Register:
    """The part that ``access.everything_reached`` needs for one holder."""
    met = db.execute(_OUTWARD, {"kinds": [holder.kind.value], "ids": [holder.id]}).all()
    return _cut(db, [(HolderKind(k), i) for k, i in met], by_holder=True)


def around_accounts(
    db: Db, accounts: Sequence[UUID], onward: bool = False, holders: Sequence[core.Holder] = ()
) -> core.Register:
    """The part that ``access.everyone_reaching`` needs for these accounts; ``holders`` are in it whatever they hold.

    With ``onward`` also the accounts that can be reached through them, and everyone who reaches those: what a
    change to them can touch.
    """
    if onward:
        kinds = ["account"] * len(accounts)
        further = db.execute(_OUTWARD, {"kinds": kinds, "ids": list(accounts)}).all()
        accounts = [i for kind, i in further if kind == "account"]
    kinds = ["account"] * len(accounts) + [holder.kind.value for holder in holders]
    met = db.execute(_BEHIND, {"kinds": kinds, "ids": [*accounts, *(holder.id for holder in holders)]}).all()
    return _cut(db, [(HolderKind(k), i) for k, i in met], by_holder=False)


def indirect(db: Db, accounts: Sequence[UUID]) -> core.Register:
    """What leads into these accounts over teams and other accounts.

    For questions about many accounts of which most holders have no second way in.
    """
    started = text(
        """
        select distinct holder_kind, holder_id from grants
        where account_id = any(:ids) and holder_kind in ('team', 'account')
            and state in ('active', 'revoking', 'suspended')
        """
    )
    holders = db.execute(started, {"ids": list(accounts)}).all()
    met = db.execute(_BEHIND, {"kinds": [k for k, _ in holders], "ids": [i for _, i in holders]}).all()
    ids: dict[HolderKind, list[UUID]] = {kind: [] for kind in HolderKind}
    for kind, ident in met:
        ids[HolderKind(kind)].append(ident)
    into = Grant.account_id.in_(accounts) & Grant.holder_kind.in_(("team", "account"))
    within = Grant.account_id.in_(ids[HolderKind.ACCOUNT]) | into
    grants = _grants(db, _live().where(within))
    people = {*ids[HolderKind.PERSON], *(g.holder.id for g in grants if g.holder.kind is HolderKind.PERSON)}
    known = _accounts(db, [*accounts, *ids[HolderKind.ACCOUNT]])
    return core.Register.of(
        people=_people(db, {*people, *(a.owner for a in known if a.owner is not None)}),
        teams=_teams(db, ids[HolderKind.TEAM]),
        apps=_apps(db, [g.holder.id for g in grants if g.holder.kind is HolderKind.APP]),
        accounts=known,
        grants=grants,
        memberships=_memberships(db, Membership.team_id.in_(ids[HolderKind.TEAM])),
    )


def with_grants(db: Db, register: core.Register, ids: Sequence[UUID]) -> core.Register:
    """The same register with some grants more, and the people who hold them."""
    more = _grants(db, _live().where(Grant.id.in_(ids)))
    unknown = {g.holder.id for g in more if g.holder.kind is HolderKind.PERSON} - set(register.people)
    return core.Register.of(
        people=[*register.people.values(), *_people(db, unknown)],
        teams=register.teams.values(),
        apps=[*register.apps.values(), *_apps(db, [g.holder.id for g in more if g.holder.kind is HolderKind.APP])],
        accounts=register.accounts.values(),
        grants=[*register.grants, *more],
        memberships=register.memberships,
    )


def _live() -> Select[UUID, UUID, str, UUID, str]:
    # Columns, not objects: a cut can hold tens of thousands.
    columns = select(Grant.id, Grant.account_id, Grant.holder_kind, Grant.holder_id, Grant.state)
    return columns.where(Grant.state.in_(("active", "revoking", "suspended")))


def _teams(db: Db, ids: Sequence[UUID]) -> list[core.Team]:
    found = db.execute(select(Team.id, Team.name, Team.partner).where(Team.id.in_(ids)))
    return [core.Team(i, name, partner) for i, name, partner in found]


def _apps(db: Db, ids: Sequence[UUID]) -> list[core.App]:
    return [core.App(i, name) for i, name in db.execute(select(App.id, App.name).where(App.id.in_(ids)))]


def _cut(db: Db, met: Iterable[tuple[HolderKind, UUID]], by_holder: bool) -> core.Register:
    ids: dict[HolderKind, list[UUID]] = {kind: [] for kind in HolderKind}
    for kind, ident in met:
        ids[kind].append(ident)
    everyone = [i for found in ids.values() for i in found]
    live = _live()
    if by_holder:
        grants = _grants(db, live.where(Grant.holder_id.in_(everyone)))
        within = Membership.member_id.in_(everyone)
    else:
        grants = _grants(db, live.where(Grant.account_id.in_(ids[HolderKind.ACCOUNT])))
        within = Membership.team_id.in_(ids[HolderKind.TEAM])
    accounts = _accounts(db, ids[HolderKind.ACCOUNT])
    owners = [a.owner for a in accounts if a.owner is not None]
    return core.Register.of(
        people=_people(db, {*ids[HolderKind.PERSON], *owners}),
        teams=_teams(db, ids[HolderKind.TEAM]),
        apps=_apps(db, ids[HolderKind.APP]),
        accounts=accounts,
        grants=grants,
        memberships=_memberships(db, within),
    )


def _people(db: Db, ids: Iterable[UUID]) -> list[core.Person]:
    columns = select(Person.id, Person.name, Person.inside, Person.standing, Person.leaves_at, Person.second_factor)
    found = db.execute(columns.where(Person.id.in_(list(ids))))
    return [core.Person(i, name, inside, Standing(word), left, second) for i, name, inside, word, left, second in found]


def _accounts(db: Db, ids: Sequence[UUID]) -> list[core.Account]:
    found = db.execute(select(Account.id, Account.name, Account.owner_id, Account.time_zone).where(Account.id.in_(ids)))
    return [core.Account(i, name, owner, ZoneInfo(zone)) for i, name, owner, zone in found]


def _memberships(db: Db, within: ColumnElement[bool]) -> list[core.Membership]:
    columns = (Membership.id, Membership.team_id, Membership.person_id, Membership.member_id)
    rows = db.execute(select(*columns, Membership.since, Membership.until).where(within))
    return [
        core.Membership(
            ident,
            team,
            core.Holder(HolderKind.TEAM if person is None else HolderKind.PERSON, member),
            Window(since, until),
        )
        for ident, team, person, member, since, until in rows
    ]


def _grants(db: Db, statement: Select[UUID, UUID, str, UUID, str]) -> list[core.Grant]:
    rows = db.execute(statement).all()
    terms = terms_of(db, [row.id for row in rows])
    return [grant_value(row, terms.get(row.id, ())) for row in rows]


def grant_value(row: Any, terms: Sequence[core.Term]) -> core.Grant:
    """A grant's row, or those of its columns that count here, as a plain value."""
    holder = core.Holder(HolderKind(row.holder_kind), row.holder_id)
    return core.Grant(row.id, row.account_id, holder, GrantState(row.state), tuple(terms))


def terms_of(db: Db, grants: Sequence[UUID]) -> dict[UUID, list[core.Term]]:
    """The terms of grants, by grant."""
    found: dict[UUID, list[core.Term]] = {}
    rows = db.execute(
        select(Term.grant_id, Term.since, Term.until, Term.hours, Term.resource_id, Term.group_id, Term.level_id)
        .where(Term.grant_id.in_(grants))
        .order_by(Term.id)
    ).all()
    parts = parts_of(db, {row.resource_id or row.group_id for row in rows} - {None})
    wanted = select(Level).where(Level.id.in_({row.level_id for row in rows}))
    levels = {level.id: level_value(level) for level in db.scalars(wanted)}
    for grant, since, until, hours, resource, group, level in rows:
        part = parts.get(resource or group) if parts else None
        term = core.Term(levels[level], Window(since, until), hours_value(hours), part)
        found.setdefault(grant, []).append(term)
    return found


def parts_of(db: Db, ids: Iterable[UUID | None]) -> dict[UUID, core.Part]:
    """Resources and groups by their ids, each with the resources that it comes to."""
    wanted = [i for i in ids if i is not None]
    if not wanted:
        return {}
    single = db.execute(select(Resource.id, Resource.name).where(Resource.id.in_(wanted)))
    found = {i: core.Part(i, name, frozenset({i})) for i, name in single}
    groups = db.execute(
        select(ResourceGroup.id, ResourceGroup.name, ResourceInGroup.resource_id)
        .outerjoin(ResourceInGroup, ResourceInGroup.group_id == ResourceGroup.id)
        .where(ResourceGroup.id.in_(wanted))
    )
    for ident, name, resource in groups:
        held = found[ident].resources if ident in found else frozenset()
        found[ident] = core.Part(ident, name, held | ({resource} if resource else frozenset()))
    return found


def onward(db: Db, holders: Iterable[core.Holder]) -> list[UUID]:
    """Every account that holders can act in, over teams and accounts: what a change to them can touch."""
    wanted = list(holders)
    met = db.execute(_OUTWARD, {"kinds": [h.kind.value for h in wanted], "ids": [h.id for h in wanted]}).all()
    return sorted({ident for kind, ident in met if kind == "account"})


def level_value(row: Level) -> core.Level:
    """A level's row as a plain value."""
    held = frozenset(core.Permission(p["key"], p["sentence"], Reach.from_word(p["reach"])) for p in row.permissions)
    return core.Level(row.id, row.name, row.sentence, held)


def hours_value(stored: dict[str, Any] | None) -> WeeklyHours | None:
    """Weekly hours as they are stored, as a plain value."""
    if stored is None:
        return None
    begins, ends = time.fromisoformat(stored["begins"]), time.fromisoformat(stored["ends"])
    return WeeklyHours(frozenset(stored["days"]), begins, ends)
