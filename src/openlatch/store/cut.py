"""Cutting out of the register the part that a question about access needs, as plain values for ``core``."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterable, Sequence
from datetime import time
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, Select, select, text
from sqlalchemy.orm import Session as Db

from openlatch.core import register as core
from openlatch.core.windows import ALWAYS, WeeklyHours, Window
from openlatch.core.words import GrantState, HolderKind, Reach, Standing
from openlatch.store.columns import among
from openlatch.store.database import ask
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
_OUTWARD = """
    with recursive met(kind, id) as (
        select cast(k as text), i from unnest(%(kinds)s::text[], %(ids)s::uuid[]) as start(k, i)
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
# Every team and account by which one comes to act as those named: members of teams, and whoever can act in accounts.
# The people and apps at the ends come with what is read of these.
_INWARD = """
    with recursive met(kind, id) as (
        select cast(k as text), i from unnest(%(kinds)s::text[], %(ids)s::uuid[]) as start(k, i)
        union
        select next.kind, next.id from met cross join lateral (
            select holder_kind as kind, holder_id as id from grants
            where met.kind = 'account' and account_id = met.id and holder_kind in ('team', 'account')
                and state in ('active', 'revoking', 'suspended')
            union all
            select 'team', member_team_id from memberships
            where met.kind = 'team' and team_id = met.id and member_team_id is not null
        ) next
    )
    select kind, id from met
    """
# From one holder to one account: every step onward, and then back from the account over those steps. Seen from an
# account that tens of thousands share there would be far more to look at.
_BETWEEN = """
    with recursive steps(origin, kind, id) as (
        select cast(null as uuid), %(kind)s::text, %(holder)s::uuid
        union
        select s.id, next.kind, next.id from steps s cross join lateral (
            select 'team' as kind, team_id as id from memberships where s.kind <> 'account' and member_id = s.id
            union all
            select 'account', account_id from grants
            where holder_id = s.id and state in ('active', 'revoking', 'suspended')
            union all
            select 'account', id from accounts where s.kind = 'person' and owner_id = s.id
        ) next
    ), towards(id) as (
        select %(account)s::uuid union select s.origin from towards t join steps s on s.id = t.id
    )
    select met.kind, met.id, known.* from (
        select s.kind, s.id from steps s join towards t on t.id = s.id
        union select 'account', %(account)s union select %(kind)s, %(holder)s
    ) met cross join lateral (
        select a.name, a.owner_id, a.time_zone, cast(null as bool) as partner, cast(null as bool) as inside,
            cast(null as text) as standing, cast(null as timestamptz) as leaves_at, cast(null as bool) as second_factor
        from accounts a where met.kind = 'account' and a.id = met.id
        union all
        select p.name, null, null, null, p.inside, p.standing, p.leaves_at, p.second_factor
        from people p where met.kind = 'person' and p.id = met.id
        union all
        select t.name, null, null, t.partner, null, null, null, null from teams t
        where met.kind = 'team' and t.id = met.id
        union all
        select ap.name, null, null, null, null, null, null, null from apps ap
        where met.kind = 'app' and ap.id = met.id
    ) known
"""


def _met(db: Db, statement: str, kinds: Sequence[str], ids: Sequence[UUID]) -> list[tuple[HolderKind, UUID]]:
    """Everyone and everything met on the way from these."""
    (rows,) = ask(db, [(statement, {"kinds": list(kinds), "ids": list(ids)})])
    return [(_KINDS[kind], ident) for kind, ident in rows]


def around_holder(db: Db, holder: core.Holder) -> core.Register:
    """The part that ``access.everything_reached`` needs for one holder."""
    return _cut(db, _met(db, _OUTWARD, [holder.kind.value], [holder.id]))


def between(db: Db, holder: core.Holder, account: UUID) -> core.Register:
    """The part that ``access.paths_to`` needs for one holder and one account."""
    (rows,) = ask(db, [(_BETWEEN, {"kind": holder.kind.value, "holder": holder.id, "account": account})])
    met: dict[str, list[Any]] = {kind.value: [] for kind in HolderKind}
    for row in rows:
        met[row[0]].append(row)
    named = {
        "everyone": [row[1] for row in rows],
        "accounts": [row[1] for row in met["account"]],
        "teams": [row[1] for row in met["team"]],
    }
    held, belongs = ask(db, [(_HELD_TOWARDS, named), (_BELONGS_TOWARDS, named)])
    return core.Register.of(
        people=[_person((ident, name, *row)) for _, ident, name, _, _, _, *row in met["person"]],
        teams=[core.Team(row[1], row[2], row[5]) for row in met["team"]],
        apps=[core.App(row[1], row[2]) for row in met["app"]],
        accounts=[core.Account(row[1], row[2], row[3], ZoneInfo(row[4])) for row in met["account"]],
        grants=_with_terms(db, held),
        memberships=[_membership(row) for row in belongs],
    )


def around_accounts(
    db: Db, accounts: Sequence[UUID], onward: bool = False, holders: Sequence[core.Holder] = ()
) -> core.Register:
    """The part that ``access.everyone_reaching`` needs for these accounts; ``holders`` are in it whatever they hold.

    With ``onward`` also the accounts that can be reached through them, and everyone who reaches those: what a
    change to them can touch.
    """
    if onward:
        further = _met(db, _OUTWARD, ["account"] * len(accounts), accounts)
        accounts = [i for kind, i in further if kind is HolderKind.ACCOUNT]
    kinds = ["account"] * len(accounts) + [holder.kind.value for holder in holders]
    return _behind(db, _met(db, _INWARD, kinds, [*accounts, *(holder.id for holder in holders)]))


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
    found = _behind(db, _met(db, _INWARD, [k for k, _ in holders], [i for _, i in holders]))
    into = Grant.account_id.in_(accounts) & Grant.holder_kind.in_(("team", "account"))
    grants = {g.id: g for g in [*found.grants, *_grants(db, _live().where(into))]}
    known = {**found.accounts, **{a.id: a for a in _accounts(db, accounts)}}
    owners = {a.owner for a in known.values() if a.owner is not None} - set(found.people)
    return core.Register.of(
        people=[*found.people.values(), *_people(db, owners)],
        teams=found.teams.values(),
        apps=found.apps.values(),
        accounts=known.values(),
        grants=grants.values(),
        memberships=found.memberships,
    )


def with_grants(db: Db, register: core.Register, ids: Sequence[UUID]) -> core.Register:
    """The same register with some grants more, and the people who hold them."""
    more = _grants(db, _live().where(among(Grant.id, ids)))
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
    found = db.execute(select(Team.id, Team.name, Team.partner).where(among(Team.id, ids)))
    return [core.Team(i, name, partner) for i, name, partner in found]


def _apps(db: Db, ids: Sequence[UUID]) -> list[core.App]:
    return [core.App(i, name) for i, name in db.execute(select(App.id, App.name).where(among(App.id, ids)))]


# What a cut reads, each in one statement that the server keeps planned, sent together. Terms come with their grants.
_READ_GRANTS = """
    select g.id, g.account_id, g.holder_kind, g.holder_id, g.state, t.since, t.until, t.hours, t.resource_id,
        t.group_id, t.level_id, l.xmin::text || l.ctid::text{more}
    from grants g left join terms t on t.grant_id = g.id left join levels l on l.id = t.level_id {joined}
    where g.{column} = any(%({of})s){also} and g.state in ('active', 'revoking', 'suspended') order by g.id, t.id
"""
_READ_ACCOUNTS = "select id, name, owner_id, time_zone from accounts where id = any(%(accounts)s)"
_MEMBERSHIP = "m.id, m.team_id, m.person_id is null, m.member_id, m.since, m.until"
_PERSON = "p.id, p.name, p.inside, p.standing, p.leaves_at, p.second_factor"
_READ_PEOPLE = f"""
    select {_PERSON} from people p where p.id = any(%(people)s)
    union
    select {_PERSON} from accounts a join people p on p.id = a.owner_id where a.id = any(%(accounts)s)
"""  # noqa: S608  constants
_READ_TEAMS = "select id, name, partner from teams where id = any(%(teams)s)"
_READ_APPS = "select id, name from apps where id = any(%(apps)s)"
_HELD = _READ_GRANTS.format(column="holder_id", of="everyone", more="", joined="", also="")
_BELONGS = f"select {_MEMBERSHIP} from memberships m where m.member_id = any(%(everyone)s)"  # noqa: S608  constants
# Seen from accounts and teams, the people and apps come with the grants and memberships that lead to them.
_GIVEN = _READ_GRANTS.format(
    column="account_id",
    of="accounts",
    more=f", {_PERSON}, ap.name",
    joined="left join people p on p.id = g.person_id left join apps ap on ap.id = g.app_id",
    also="",
)
# On the way from one holder to one account: only what leads on towards it.
_HELD_TOWARDS = _READ_GRANTS.format(
    column="holder_id", of="everyone", more="", joined="", also=" and g.account_id = any(%(accounts)s)"
)
_BELONGS_TOWARDS = f"{_BELONGS} and m.team_id = any(%(teams)s)"
_MEMBERS = f"""
    select m.id, m.team_id, m.member_team_id, m.since, m.until, {_PERSON}
    from memberships m left join people p on p.id = m.person_id where m.team_id = any(%(teams)s)
"""  # noqa: S608  constants


def _cut(db: Db, met: Iterable[tuple[HolderKind, UUID]]) -> core.Register:
    """Those met, with all grants that they hold and all teams that they belong to."""
    named = _named(met)
    statements = (_HELD, _BELONGS, _READ_ACCOUNTS, _READ_PEOPLE, _READ_TEAMS, _READ_APPS)
    held, belongs, accounts, people, teams, apps = ask(db, [(statement, named) for statement in statements])
    return core.Register.of(
        people=[_person(row) for row in people],
        teams=[core.Team(*row) for row in teams],
        apps=[core.App(*row) for row in apps],
        accounts=[core.Account(i, name, owner, ZoneInfo(zone)) for i, name, owner, zone in accounts],
        grants=_with_terms(db, held),
        memberships=[_membership(row) for row in belongs],
    )


def _behind(db: Db, met: Iterable[tuple[HolderKind, UUID]]) -> core.Register:
    """Those met, with all grants on them, all their members, and the people and apps at the ends."""
    named = _named(met)
    statements = (_GIVEN, _MEMBERS, _READ_ACCOUNTS, _READ_PEOPLE, _READ_TEAMS, _READ_APPS)
    given, members, accounts, people, teams, apps = ask(db, [(statement, named) for statement in statements])
    known = {row[0]: _person(row) for row in people}
    known |= {row[12]: _person(row[12:18]) for row in given if row[12] is not None}
    belonging = []
    for ident, team, nested, since, until, person, *row in members:
        within = Window(since, until) if since is not None or until is not None else ALWAYS
        if person is None:
            member = core.Holder(HolderKind.TEAM, nested)
        else:
            member = core.Holder(HolderKind.PERSON, person)
            if person not in known:
                known[person] = _person((person, *row))
        belonging.append(core.Membership(ident, team, member, within))
    linked = {row[3]: row[18] for row in given if row[18] is not None}
    return core.Register.of(
        people=known.values(),
        teams=[core.Team(*row) for row in teams],
        apps=[core.App(*row) for row in {**dict(apps), **linked}.items()],
        accounts=[core.Account(i, name, owner, ZoneInfo(zone)) for i, name, owner, zone in accounts],
        grants=_with_terms(db, given),
        memberships=belonging,
    )


def _named(met: Iterable[tuple[HolderKind, UUID]]) -> dict[str, list[UUID]]:
    ids: dict[HolderKind, list[UUID]] = {kind: [] for kind in HolderKind}
    for kind, ident in met:
        ids[kind].append(ident)
    return {
        "accounts": ids[HolderKind.ACCOUNT],
        "people": ids[HolderKind.PERSON],
        "teams": ids[HolderKind.TEAM],
        "apps": ids[HolderKind.APP],
        "everyone": [i for found in ids.values() for i in found],
    }


def _person(row: Any) -> core.Person:
    ident, name, inside, word, left, second = row
    return core.Person(ident, name, inside, _STANDINGS[word], left, second)


def _membership(row: Any) -> core.Membership:
    ident, team, nested, member, since, until = row[:6]
    window = Window(since, until) if since is not None or until is not None else ALWAYS
    return core.Membership(ident, team, core.Holder(_TEAM_OR_PERSON[nested], member), window)


_STANDINGS = {standing.value: standing for standing in Standing}
_STATES = {state.value: state for state in GrantState}
_KINDS = {kind.value: kind for kind in HolderKind}
_TEAM_OR_PERSON = {True: HolderKind.TEAM, False: HolderKind.PERSON}
# Levels as values, by id and the version of their row: the same few are met again and again.
_known_levels: OrderedDict[tuple[UUID, str], core.Level] = OrderedDict()
MOST_LEVELS = 4_000


def _with_terms(db: Db, rows: Sequence[Any]) -> list[core.Grant]:
    """Grants out of rows of grants with a term each, those of one grant one after the other."""
    missing = {(row[10], row[11]) for row in rows if row[10] is not None} - _known_levels.keys()
    if missing:
        while len(_known_levels) > MOST_LEVELS:
            _known_levels.popitem(last=False)
        wanted = select(Level).where(Level.id.in_({ident for ident, _ in missing}))
        fresh = {row.id: level_value(row) for row in db.scalars(wanted.execution_options(populate_existing=True))}
        _known_levels.update({(ident, version): fresh[ident] for ident, version in missing})
    parts = parts_of(db, {row[8] or row[9] for row in rows if row[8] or row[9]})
    found: list[core.Grant] = []
    last: UUID | None = None
    for row in rows:
        ident, account, kind, holder, state, since, until, hours, resource, group, level_id, version = row[:12]
        terms: tuple[core.Term, ...] = ()
        if level_id is not None:
            window = Window(since, until) if since is not None or until is not None else ALWAYS
            part = parts.get(resource or group) if parts else None
            terms = (core.Term(_known_levels[level_id, version], window, hours_value(hours), part),)
        if ident == last:
            found[-1] = found[-1]._replace(terms=found[-1].terms + terms)
        else:
            found.append(core.Grant(ident, account, core.Holder(_KINDS[kind], holder), _STATES[state], terms))
        last = ident
    return found


def _people(db: Db, ids: Iterable[UUID]) -> list[core.Person]:
    columns = select(Person.id, Person.name, Person.inside, Person.standing, Person.leaves_at, Person.second_factor)
    found = db.execute(columns.where(among(Person.id, ids)))
    return [core.Person(i, name, inside, Standing(word), left, second) for i, name, inside, word, left, second in found]


def _accounts(db: Db, ids: Sequence[UUID]) -> list[core.Account]:
    found = db.execute(
        select(Account.id, Account.name, Account.owner_id, Account.time_zone).where(among(Account.id, ids))
    )
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
    if not grants:
        return {}
    found: dict[UUID, list[core.Term]] = {}
    rows = db.execute(
        select(Term.grant_id, Term.since, Term.until, Term.hours, Term.resource_id, Term.group_id, Term.level_id)
        .where(among(Term.grant_id, grants))
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
    met = _met(db, _OUTWARD, [h.kind.value for h in wanted], [h.id for h in wanted])
    return sorted({ident for kind, ident in met if kind is HolderKind.ACCOUNT})


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
