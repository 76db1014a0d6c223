"""Reading the part of the register that a question about access needs, as values for ``core``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain
from uuid import UUID
from zoneinfo import ZoneInfo

from psycopg.rows import tuple_row
from sqlalchemy import text
from sqlalchemy.orm import Session as Db

from openlatch.core import register as core
from openlatch.core.vocabulary import HolderKind
from openlatch.json_values import SqlTuple
from openlatch.store.access import team_members
from openlatch.store.access.mapping import (
    GRANT_WITH_TERM,
    MEMBERSHIP,
    PERSON,
    grants_with_terms,
    kind_value,
    membership_value,
    person_value,
)
from openlatch.store.database import Question, ask, driver_of

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
# The people and apps at the ends come with what is read of these; members only, where they have another version.
_INWARD = f"""
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
    select met.kind, met.id, a.name, a.owner_id, a.time_zone, tm.name, tm.partner, r.version, {PERSON}
    from met
    left join lateral (select * from accounts where met.kind = 'account' and id = met.id offset 0) a on true
    left join lateral (select * from teams where met.kind = 'team' and id = met.id offset 0) tm on true
    left join lateral (select * from rosters where met.kind = 'team' and team_id = met.id offset 0) r on true
    left join lateral (select * from people where id = a.owner_id offset 0) p on true
    """  # noqa: S608  constants
# From one holder to one account: every step onward, and then back from the account over those steps. Seen from an
# account that tens of thousands share there would be far more to look at. What is known of a step is looked up row by
# row ("offset 0"): the server takes there to be a great many.
_BETWEEN = f"""
    with recursive steps(origin, kind, id, edge) as (
        select cast(null as uuid), %(kind)s::text, %(holder)s::uuid, cast(null as uuid)
        union
        select s.id, next.kind, next.id, next.edge from steps s cross join lateral (
            select 'team' as kind, team_id as id, id as edge from memberships
            where s.kind <> 'account' and member_id = s.id
            union all
            select 'account', account_id, id from grants
            where holder_id = s.id and state in ('active', 'revoking', 'suspended')
            union all
            select 'account', id, null from accounts where s.kind = 'person' and owner_id = s.id
        ) next
    ), towards(id) as (
        select %(account)s::uuid union select s.origin from towards t join steps s on s.id = t.id
    )
    select {GRANT_WITH_TERM}, {MEMBERSHIP}, {PERSON},
        s.id, a.name, a.owner_id, a.time_zone, tm.name, tm.partner, ap.name
    from steps s
    left join lateral (select * from accounts where s.kind = 'account' and id = s.id offset 0) a on true
    left join lateral (select * from grants where s.kind = 'account' and id = s.edge offset 0) g on true
    left join lateral (select * from terms where grant_id = g.id offset 0) t on true
    left join lateral (select *, xmin, ctid from levels where id = t.level_id offset 0) l on true
    left join lateral (select * from teams where s.kind = 'team' and id = s.id offset 0) tm on true
    left join lateral (select * from memberships where s.kind = 'team' and id = s.edge offset 0) m on true
    left join lateral (select * from people where s.kind = 'person' and id = s.id offset 0) p on true
    left join lateral (select * from apps where s.kind = 'app' and id = s.id offset 0) ap on true
    where s.edge is null and s.origin is null or s.id in (select id from towards)
    order by g.id, t.id
"""  # noqa: S608  constants


def _met(db: Db, statement: str, kinds: Sequence[str], ids: Sequence[UUID]) -> list[tuple[HolderKind, UUID]]:
    """All holders and accounts met on the way from these."""
    (rows,) = ask(db, [(statement, {"kinds": list(kinds), "ids": list(ids)})])
    return [(kind_value(kind), ident) for kind, ident in rows]


def around_holder(db: Db, holder: core.Holder) -> core.Register:
    """The part of the register that ``paths.everything_reached`` needs for one holder."""
    return _cut(db, _met(db, _OUTWARD, [holder.kind.value], [holder.id]))


def between(db: Db, holder: core.Holder, account: UUID) -> core.Register:
    """The part of the register that ``paths.paths_to`` needs for one holder and one account."""
    named = {"kind": holder.kind.value, "holder": holder.id, "account": account}
    rows = driver_of(db).cursor(row_factory=tuple_row, binary=True).execute(_BETWEEN, named, prepare=True).fetchall()
    people, teams, apps, accounts, grants, memberships = [], [], [], [], [], []
    for row in rows:
        membership, person = row[12:18], row[18:24]
        ident, account_name, owner, zone, team_name, partner, app_name = row[24:]
        if row[0] is not None:
            grants.append(row)
        if membership[0] is not None:
            memberships.append(membership_value(membership))
        if account_name is not None:
            accounts.append(core.Account(ident, account_name, owner, ZoneInfo(zone)))
        elif team_name is not None:
            teams.append(core.Team(ident, team_name, partner))
        elif app_name is not None:
            apps.append(core.App(ident, app_name))
        elif person[0] is not None:
            people.append(person_value(person))
    return core.Register.of(people, teams, apps, accounts, grants_with_terms(db, grants), memberships)


def around_accounts(
    db: Db, accounts: Sequence[UUID], onward: bool = False, holders: Sequence[core.Holder] = ()
) -> core.Register:
    """The part of the register that ``paths.everyone_reaching`` needs for these accounts; ``holders`` are always
    included.

    With ``onward`` also the accounts reached through them, with everyone who reaches those: what a change to them can
    touch.
    """
    if onward:
        further = _met(db, _OUTWARD, ["account"] * len(accounts), accounts)
        accounts = [i for kind, i in further if kind is HolderKind.ACCOUNT]
    kinds = ["account"] * len(accounts) + [holder.kind.value for holder in holders]
    return _behind(db, kinds, [*accounts, *(holder.id for holder in holders)])


def indirect(db: Db, accounts: Sequence[UUID]) -> core.Register:
    """What leads into these accounts through teams and other accounts.

    For questions about many accounts whose holders mostly have no second path.
    """
    started = text(
        """
        select distinct holder_kind, holder_id from grants
        where account_id = any(:ids) and holder_kind in ('team', 'account')
            and state in ('active', 'revoking', 'suspended')
        """
    )
    holders = db.execute(started, {"ids": list(accounts)}).all()
    found = _behind(db, [kind for kind, _ in holders], [ident for _, ident in holders])
    named: dict[str, list[UUID]] = {"accounts": list(accounts), "people": []}
    into, known, owners = ask(db, [(q, named) for q in (_GIVEN_INDIRECTLY, _READ_ACCOUNTS, _READ_PEOPLE)])
    grants = {grant.id: grant for grant in [*found.grants, *grants_with_terms(db, into)]}
    return core.Register.of(
        people=[*found.people.values(), *map(person_value, owners)],
        teams=found.teams.values(),
        apps=found.apps.values(),
        accounts=[*found.accounts.values(), *map(_account, known)],
        grants=grants.values(),
        memberships=found.memberships,
    )


def with_grants(db: Db, register: core.Register, ids: Sequence[UUID]) -> core.Register:
    """The same register with additional grants, and the people and apps who hold them."""
    (rows,) = ask(db, [(_THESE, {"grants": list(ids)})])
    more = grants_with_terms(db, rows)
    named = {**_named(grant.holder for grant in more), "accounts": []}
    people, apps = ask(db, [(_READ_PEOPLE, named), (_READ_APPS, named)])
    return core.Register.of(
        people=[*register.people.values(), *map(person_value, people)],
        teams=register.teams.values(),
        apps=[*register.apps.values(), *(core.App(*row) for row in apps)],
        accounts=register.accounts.values(),
        grants=[*register.grants, *more],
        memberships=register.memberships,
    )


# What a cut reads, each in one statement that the server keeps planned, sent together. Terms come with their grants.
_READ_GRANTS = f"""
    select {GRANT_WITH_TERM}{{more}}
    from grants g left join terms t on t.grant_id = g.id left join levels l on l.id = t.level_id {{joined}}
    where g.{{column}} = any(%({{of}})s){{also}} and g.state in ('active', 'revoking', 'suspended') order by g.id, t.id
"""  # noqa: S608  constants
_READ_ACCOUNTS = "select id, name, owner_id, time_zone from accounts where id = any(%(accounts)s)"
_READ_PEOPLE = f"""
    select {PERSON} from people p where p.id = any(%(people)s)
    union
    select {PERSON} from accounts a join people p on p.id = a.owner_id where a.id = any(%(accounts)s)
"""  # noqa: S608  constants
_READ_TEAMS = "select id, name, partner from teams where id = any(%(teams)s)"
_READ_APPS = "select id, name from apps where id = any(%(apps)s)"
_HELD = _READ_GRANTS.format(column="holder_id", of="everyone", more="", joined="", also="")
_BELONGS = f"select {MEMBERSHIP} from memberships m where m.member_id = any(%(everyone)s)"  # noqa: S608  constants
# Seen from accounts, the people and apps come with the grants that lead to them.
_GIVEN = _READ_GRANTS.format(
    column="account_id",
    of="accounts",
    more=f", {PERSON}, ap.name",
    joined="left join people p on p.id = g.person_id left join apps ap on ap.id = g.app_id",
    also="",
)
_GIVEN_INDIRECTLY = _READ_GRANTS.format(
    column="account_id", of="accounts", more="", joined="", also=" and g.holder_kind in ('team', 'account')"
)
_THESE = _READ_GRANTS.format(column="id", of="grants", more="", joined="", also="")


def _cut(db: Db, met: Iterable[tuple[HolderKind, UUID]]) -> core.Register:
    """These holders with all their grants and teams."""
    named = _named(met)
    statements = (_HELD, _BELONGS, _READ_ACCOUNTS, _READ_PEOPLE, _READ_TEAMS, _READ_APPS)
    held, belongs, accounts, people, teams, apps = ask(db, [(statement, named) for statement in statements])
    return core.Register.of(
        people=map(person_value, people),
        teams=[core.Team(*row) for row in teams],
        apps=[core.App(*row) for row in apps],
        accounts=map(_account, accounts),
        grants=grants_with_terms(db, held),
        memberships=map(membership_value, belongs),
    )


def _behind(db: Db, kinds: Sequence[str], ids: Sequence[UUID]) -> core.Register:
    """These, and all teams and accounts through which somebody acts as them, with the grants on those accounts, the
    members of those teams, and the people and apps at the ends.
    """
    (rows,) = ask(db, [(_INWARD, {"kinds": list(kinds), "ids": list(ids)})])
    accounts, teams, versions, known, others = [], [], {}, {}, []
    for kind, ident, account, owner, zone, team, partner, version, *person in rows:
        if account is not None:
            accounts.append(core.Account(ident, account, owner, ZoneInfo(zone)))
            if owner is not None:
                known[owner] = person_value(person)
        elif team is not None:
            teams.append(core.Team(ident, team, partner))
            versions[ident] = version
        else:
            others.append((kind_value(kind), ident))
    found = team_members.known(versions)
    unknown = [team for team in versions if team not in found]
    questions: list[Question] = [(_GIVEN, {"accounts": [account.id for account in accounts]})]
    if unknown:
        questions.append((team_members.READ, {"teams": unknown}))
    if others:
        questions += [(statement, _named(others)) for statement in (_READ_PEOPLE, _READ_APPS)]
    given, *more = ask(db, questions)
    if unknown:
        found |= team_members.made(more.pop(0), unknown, versions)
    people, apps = more or ((), ())
    known |= {row[0]: person_value(row) for row in people}
    known |= {row[12]: person_value(row[12:18]) for row in given if row[12] is not None}
    for roster in found.values():
        known |= roster.people
    linked = {row[3]: row[18] for row in given if row[18] is not None}
    return core.Register.of(
        people=known.values(),
        teams=teams,
        apps=[core.App(*row) for row in {**dict(apps), **linked}.items()],
        accounts=accounts,
        grants=grants_with_terms(db, given),
        memberships=chain.from_iterable(roster.members for roster in found.values()),
    )


def _account(row: SqlTuple) -> core.Account:
    ident, name, owner, zone = row
    return core.Account(ident, name, owner, ZoneInfo(zone))


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


def onward(db: Db, holders: Iterable[core.Holder]) -> list[UUID]:
    """Accounts reachable from the given holders, through teams and accounts: what a change to them can touch."""
    wanted = list(holders)
    met = _met(db, _OUTWARD, [h.kind.value for h in wanted], [h.id for h in wanted])
    return sorted({ident for kind, ident in met if kind is HolderKind.ACCOUNT})
