"""Importing checked records: COPY into a staging table, then set-based SQL.

Every kind has a recipe: how its staged columns resolve to rows by key, which of them must resolve, and the statement
that inserts or updates rows. Rows that are equal already are left alone, so importing a file twice changes nothing.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import LiteralString
from uuid import UUID

import orjson
from sqlalchemy import text
from sqlalchemy.orm import Session as Db

from openlatch.core.files.records import LineError, RecordKind
from openlatch.core.ids import new_id
from openlatch.store.database import driver_of

# What is over once it is told.
_HAPPENED = {"last_used_at", "started_at", "last_seen_at", "ended_at"}
_TIMES = _HAPPENED | {"since", "until", "given_at", "leaves_on", "credential_since"}
_TYPES = {
    "given": "text[]",
    "inside": "boolean",
    "partner": "boolean",
    "sensitivity": "smallint",
    "permissions": "jsonb",
    "public": "boolean",
    "second_factor": "boolean",
    "emergency_hours": "int",
    "network": "cidr",
    "latitude": "float8",
    "longitude": "float8",
}


@dataclass(frozen=True, slots=True)
class Changed:
    """A row that an import inserted or updated."""

    id: UUID
    added: bool
    name: str
    account: UUID | None


def stage(db: Db, kind: RecordKind, rows: Iterable[tuple[int, tuple[object, ...]]]) -> int:
    """Load rows, each with its line number, into a fresh staging table; returns how many.

    Rows of a kind that keeps missing fields end with the names of the fields that the file has.
    """
    given = ("given",) if kind.keeps else ()
    columns = ", ".join(f'"{name}" {_sql_type(name)}' for name in (*kind.names, *given))
    names = ", ".join(f'"{name}"' for name in (*kind.names, *given))
    raw = driver_of(db)
    raw.execute("drop table if exists staged")
    raw.execute(f"create temporary table staged (line int, id uuid, fresh boolean, {columns}) on commit drop")
    jsonb = kind.names.index("permissions") if "permissions" in kind.names else None
    count = 0
    with raw.cursor() as cursor, cursor.copy(f"copy staged (line, id, {names}) from stdin") as copy:
        for line, values in rows:
            if jsonb is not None:
                values = (*values[:jsonb], orjson.dumps(values[jsonb]).decode(), *values[jsonb + 1 :])
            copy.write_row((line, new_id(), *values))
            count += 1
    raw.execute("analyze staged")
    return count


def _sql_type(name: str) -> str:
    return "timestamptz" if name in _TIMES else _TYPES.get(name, "text")


def unresolved(db: Db, kind: RecordKind, now: datetime) -> list[LineError]:
    """What is wrong with the staged rows as a whole: duplicate keys, unknown names, future events."""
    key = ", ".join(kind.key)
    twice = db.execute(
        text(
            f"select line, first from (select line, first_value(line) over (partition by {key} order by line) first "
            "from staged) numbered where line <> first order by line"
        )
    )
    errors = [LineError(line, kind.key[-1], f"is the same record as on line {first}") for line, first in twice]
    for field, condition, reason in _REFERENCES.get(kind.name, ()):
        missing = db.execute(
            text(
                f"select line, {field} from staged s where {field} is not null "
                f"and not exists ({condition}) order by line"
            )
        )
        errors += [LineError(line, field, f"{reason} {value[:60]!r}") for line, value in missing]
    if kind.name == "people":
        errors += _known_addresses(db)
    if kind.name in ("people", "apps"):
        errors += _merged(db, kind.name)
    for field in _HAPPENED & set(kind.names):
        # Whichever day it is already, somewhere.
        ahead = text(f"select line, {field} from staged where {field} > :today order by line")
        rows = db.execute(ahead, {"today": now + timedelta(days=1)})
        errors += [LineError(line, field, f"{at:%Y-%m-%d} lies ahead; say when it was") for line, at in rows]
    return sorted(errors, key=lambda e: e.line)


def _merged(db: Db, kind: str) -> list[LineError]:
    """Lines that would recreate a record that was merged into another."""
    rows = db.execute(
        text("""
        select s.line, m.kept_name from staged s
        join merges m on m.undone_at is null and m.kind = :kind and m.dropped -> :kind -> 0 ->> 'key' = s.key
        """),
        {"kind": kind},
    )
    return [LineError(line, "key", f"is that of a record that was merged into {name}") for line, name in rows]


def _known_addresses(db: Db) -> list[LineError]:
    """Lines that would make a second person with the same address."""
    rows = db.execute(
        text("""
        select s.line, p.name, p.key
        from staged s join people p on lower(p.address) = s.address and p.standing <> 'left'
        where s.standing <> 'left' and p.key is distinct from s.key
            and (p.key is not null or exists (select from people k where k.key = s.key))
    """)
    )
    said = {
        line: f"is the address of {name}{f', whose key is {key}' if key else ', who is known without a key'}"
        for line, name, key in rows
    }
    twice = db.execute(
        text("""
        select line, first from (select line, first_value(line) over (partition by address order by line) as first
            from staged where address is not null and standing <> 'left') numbered where line <> first
    """)
    )
    said |= {line: f"is the address of line {first} as well" for line, first in twice}
    return [LineError(line, "address", reason) for line, reason in said.items()]


@dataclass(frozen=True, slots=True)
class Difference:
    """A value that a file would change in an existing record."""

    line: int
    key: str
    field: str
    was: str
    will: str


def differences(db: Db, kind: RecordKind, most: int) -> list[Difference]:
    """The first values that the staged rows would change, for kinds that keep missing fields."""
    if not kind.keeps:
        return []
    table, of = kind.name, _COLUMNS.get(kind.name, {})
    found = []
    for field in kind.names:
        if field in kind.key or field == "second_factor":
            continue
        was = of.get(field, f"o.{field}")
        rows = db.execute(
            text(f"""
            select s.line, s.key, {was}::text, s.{field}::text from staged s join {table} o on o.key = s.key
            where '{field}' = any(s.given) and {was}::text is distinct from s.{field}::text
            order by s.line limit :most
        """),
            {"most": most},
        )
        found += [Difference(line, key, field, before or "", after or "") for line, key, before, after in rows]
    return sorted(found, key=lambda one: (one.line, one.field))[:most]


# Where the value of a field stands in its table, when it is not a column of that name.
_COLUMNS: dict[str, dict[str, str]] = {
    "people": {"leaves_on": "o.leaves_at", "manager": "(select m.key from people m where m.id = o.manager_id)"},
    "teams": {"speaker": "(select p.key from people p where p.id = o.speaker_id)"},
    "accounts": {
        "system": "(select y.key from systems y where y.id = o.system_id)",
        "owner": "(select p.key from people p where p.id = o.owner_id)",
    },
}


def _kept(field: str, new: str = "", old: str = "") -> str:
    """The new value of a field: from the file, or the present one if the file does not have it."""
    return (
        f"case when o.id is null or '{field}' = any(s.given) then {new or f's.{field}'} else {old or f'o.{field}'} end"
    )


def discard(db: Db, lines: Iterable[int]) -> None:
    """Remove staged rows by their line numbers."""
    db.execute(text("delete from staged where line = any(:lines)"), {"lines": list(lines)})


def apply(db: Db, kind: RecordKind, organisation: UUID, now: datetime) -> list[Changed]:
    """Insert or update rows from the staged ones; returns those that changed."""
    values = {"organisation": organisation, "now": now}
    for statement in _BEFORE.get(kind.name, ()):
        db.execute(text(statement), values)
    rows = db.execute(text(_UPSERTS[kind.name]), values).all()
    for statement in _AFTER.get(kind.name, ()):
        db.execute(text(statement), values)
    return [Changed(*row) for row in rows]


def _known(table: LiteralString, column: LiteralString = "key", field: str = "") -> str:
    return f"select 1 from {table} t where t.{column} = s.{field}"


_PERSON = "there is no person with the key"
_ACCOUNT = ("account", _known("accounts", field="account"), "there is no account with the key")
_SYSTEM = ("system", _known("systems", field="system"), "there is no system with the key")
_HOLDER_CHECK = (
    "holder",
    "select 1 from people t where s.holder_kind = 'person' and t.key = s.holder union all "
    "select 1 from teams t where s.holder_kind = 'team' and t.key = s.holder union all "
    "select 1 from apps t where s.holder_kind = 'app' and t.key = s.holder union all "
    "select 1 from accounts t where s.holder_kind = 'account' and t.key = s.holder",
    "there is no holder of that kind with the key",
)
_REFERENCES: dict[str, tuple[tuple[str, str, str], ...]] = {
    "memberships": (
        ("team", _known("teams", field="team"), "there is no team with the key"),
        (
            "member",
            "select 1 from people t where s.member_kind = 'person' and t.key = s.member union all "
            "select 1 from teams t where s.member_kind = 'team' and t.key = s.member and s.member <> s.team",
            "there is no such member with the key",
        ),
    ),
    "teams": (("speaker", _known("people", field="speaker"), _PERSON),),
    # A manager may come in the same file, further down.
    "people": (
        (
            "manager",
            "select 1 from people t where t.key = s.manager and s.manager <> s.key union all "
            "select 1 from staged t where t.key = s.manager and s.manager <> s.key",
            "there is no other person with the key",
        ),
    ),
    "resources": (_ACCOUNT,),
    "accounts": (("owner", _known("people", field="owner"), _PERSON),),
    "handles": (_SYSTEM, _HOLDER_CHECK),
    "marks": (("person", _known("people", field="person"), _PERSON),),
    "grants": (
        _ACCOUNT,
        _HOLDER_CHECK,
        ("given_by", _known("people", field="given_by"), _PERSON),
        (
            "level",
            "select 1 from levels l join accounts a on a.system_id = l.system_id "
            "where a.key = s.account and l.key = s.level",
            "the account's system has no level with the key",
        ),
    ),
    "sessions": (_ACCOUNT, _HOLDER_CHECK),
    "use": (_ACCOUNT, _HOLDER_CHECK),
}

# Systems that accounts and levels name come into being with them, as ones that are changed by hand.
_NEW_SYSTEMS = """
    insert into systems (id, organisation_id, key, name)
    select distinct on (system) id, :organisation, system, system from staged
    on conflict (organisation_id, key) do nothing
"""
_BEFORE = {
    # Somebody who is known by their address alone is who the file says: they get its key.
    "people": (
        """
        update people p set key = s.key from staged s
        where p.key is null and lower(p.address) = s.address and p.standing <> 'left'
            and not exists (select from people k where k.key = s.key)
        """,
    ),
    "accounts": (_NEW_SYSTEMS,),
    "levels": (_NEW_SYSTEMS,),
    # The rows that a grants file is about, resolved once.
    "grants": (
        """
        create temporary table resolved on commit drop as
        select s.*, a.id as account_id, p.id as person_id, t.id as team_id, ap.id as app_id, h.id as holder_account_id,
               l.id as level_id, g.id as given_by_id,
               s.account || '|' || s.holder_kind || '|' || s.holder || '|' || s.level as key
        from staged s
        join accounts a on a.key = s.account
        join levels l on l.key = s.level and l.system_id = a.system_id
        left join people p on s.holder_kind = 'person' and p.key = s.holder
        left join teams t on s.holder_kind = 'team' and t.key = s.holder
        left join apps ap on s.holder_kind = 'app' and ap.key = s.holder
        left join accounts h on s.holder_kind = 'account' and h.key = s.holder
        left join people g on g.key = s.given_by
        """,
        "analyze resolved",
        # A grant whose window changes counts as changed, though the window is its term's.
        """
        create temporary table rewindowed on commit drop as
        select t.id, g.id as grant_id, r.since, r.until
        from resolved r join grants g on g.key = r.key and g.state <> 'ended' join terms t on t.grant_id = g.id
        where (t.since, t.until) is distinct from (r.since, r.until)
        """,
        # Asked for each grant that there is already: a list of many would be gone through each time.
        "create index on rewindowed (grant_id)",
        "analyze rewindowed",
        "update terms t set since = r.since, until = r.until from rewindowed r where t.id = r.id",
    ),
    "use": (
        # There are many days of use for each holder of an account, so these are resolved once each.
        """
        create temporary table using_holders on commit drop as
        select s.account, s.holder_kind, s.holder, a.id as account_id, coalesce(p.id, tm.id, ap.id, h.id) as holder_id
        from (select distinct account, holder_kind, holder from staged) s
        join accounts a on a.key = s.account
        left join people p on s.holder_kind = 'person' and p.key = s.holder
        left join teams tm on s.holder_kind = 'team' and tm.key = s.holder
        left join apps ap on s.holder_kind = 'app' and ap.key = s.holder
        left join accounts h on s.holder_kind = 'account' and h.key = s.holder
        """,
        "analyze using_holders",
        """
        create temporary table used on commit drop as
        select g.id as grant_id, s.permission, s.last_used_at, s.account || '|' || s.holder as name
        from using_holders u
        join grants g on g.account_id = u.account_id and g.holder_id = u.holder_id and g.state <> 'ended'
        join staged s on s.account = u.account and s.holder_kind = u.holder_kind and s.holder = u.holder
        """,
        "analyze used",
        # Days of use are a set: the same file twice adds nothing. A permission counts for the grants that give it, and
        # whatever was used counts under no permission too.
        "create temporary table newly_used (grant_id uuid) on commit drop",
        """
        with days as (
            select grant_id, '' as permission, last_used_at::date as day from used
            union
            select n.grant_id, n.permission, n.last_used_at::date from used n
            where n.permission <> '' and exists (
                select 1 from terms t join levels l on l.id = t.level_id where t.grant_id = n.grant_id
                    and l.permissions @> jsonb_build_array(jsonb_build_object('key', n.permission)))
        ), kept as (
            insert into uses as u (id, organisation_id, grant_id, permission, days)
            select gen_random_uuid(), :organisation, grant_id, permission, range_agg(daterange(day, day + 1))
            from days group by grant_id, permission
            on conflict (grant_id, permission) do update set days = u.days + excluded.days
                where not u.days @> excluded.days
            returning grant_id
        )
        insert into newly_used select distinct grant_id from kept
        """,
        "analyze newly_used",
    ),
}
_AFTER = {
    # Left out, a manager stays as they are.
    "people": (
        """
        update people p set manager_id = m.id from staged s join people m on m.key = s.manager
        where p.key = s.key and p.manager_id is distinct from m.id
        """,
    ),
    # Where sessions that go on are is found anew.
    "places": ("update sessions set address = address where ended_at is null and address <> ''",),
    # Groups come into being with the resources that name them. A file adds to groups; it takes nothing out.
    "resources": (
        """
        insert into resource_groups (id, organisation_id, account_id, key, name)
        select gen_random_uuid(), :organisation, a.id, s."group", s."group"
        from (select distinct account, "group" from staged where "group" <> '') s join accounts a on a.key = s.account
        on conflict (organisation_id, account_id, key) do nothing
        """,
        """
        insert into resources_in_groups (id, organisation_id, group_id, resource_id)
        select gen_random_uuid(), :organisation, g.id, r.id
        from staged s join accounts a on a.key = s.account
        join resources r on r.account_id = a.id and r.key = s.key
        join resource_groups g on g.account_id = a.id and g.key = s."group"
        on conflict (group_id, resource_id) do nothing
        """,
    ),
    "grants": (
        """
        insert into terms (id, organisation_id, grant_id, level_id, since, until)
        select gen_random_uuid(), :organisation, r.id, r.level_id, r.since, r.until
        from resolved r join grants g on g.id = r.id
        """,
        "drop table resolved, rewindowed",
    ),
}
_UPSERTS = {
    "people": f"""
        insert into people as t (id, organisation_id, key, name, address, inside, standing, leaves_at, job,
            second_factor)
        select s.id, :organisation, s.key, s.name, {_kept("address")}, {_kept("inside")}, {_kept("standing")},
            {_kept("leaves_on", old="o.leaves_at")}, {_kept("job")}, s.second_factor
        from staged s left join people o on o.key = s.key
        on conflict (organisation_id, key) do update set name = excluded.name, address = excluded.address,
            inside = excluded.inside, standing = excluded.standing, leaves_at = excluded.leaves_at,
            job = excluded.job, second_factor = t.second_factor or excluded.second_factor
        where (t.name, t.address, t.inside, t.standing, t.leaves_at, t.job) is distinct from
            (excluded.name, excluded.address, excluded.inside, excluded.standing, excluded.leaves_at, excluded.job)
            or (excluded.second_factor and not t.second_factor)
        returning id, xmax = 0, name, null::uuid
    """,
    "teams": f"""
        insert into teams as t (id, organisation_id, key, name, partner, purpose, speaker_id)
        select s.id, :organisation, s.key, s.name, {_kept("partner")}, {_kept("purpose")},
            {_kept("speaker", "p.id", "o.speaker_id")}
        from staged s left join people p on p.key = s.speaker left join teams o on o.key = s.key
        on conflict (organisation_id, key) do update set name = excluded.name, partner = excluded.partner,
            purpose = excluded.purpose, speaker_id = excluded.speaker_id
        where (t.name, t.partner, t.purpose, t.speaker_id) is distinct from
            (excluded.name, excluded.partner, excluded.purpose, excluded.speaker_id)
        returning id, xmax = 0, name, null::uuid
    """,
    "memberships": """
        insert into memberships as m (id, organisation_id, team_id, person_id, member_team_id, since, until)
        select s.id, :organisation, t.id, p.id, mt.id, s.since, s.until
        from staged s
        join teams t on t.key = s.team
        left join people p on s.member_kind = 'person' and p.key = s.member
        left join teams mt on s.member_kind = 'team' and mt.key = s.member
        on conflict (organisation_id, team_id, member_id) do update set since = excluded.since, until = excluded.until
        where (m.since, m.until) is distinct from (excluded.since, excluded.until)
        returning id, xmax = 0, (select name from teams where id = m.team_id), null::uuid
    """,
    "accounts": f"""
        insert into accounts as t (id, organisation_id, key, name, system_id, kind, sensitivity, owner_id, time_zone,
            purpose, emergency_hours)
        select s.id, :organisation, s.key, s.name, y.id, {_kept("kind")}, s.sensitivity,
            {_kept("owner", "p.id", "o.owner_id")},
            coalesce({_kept("time_zone")}, (select time_zone from organisations where id = :organisation)),
            {_kept("purpose")}, {_kept("emergency_hours")}
        from staged s join systems y on y.key = s.system left join people p on p.key = s.owner
        left join accounts o on o.key = s.key
        on conflict (organisation_id, key) do update set name = excluded.name, system_id = excluded.system_id,
            kind = excluded.kind, sensitivity = excluded.sensitivity, owner_id = excluded.owner_id,
            time_zone = excluded.time_zone, purpose = excluded.purpose, emergency_hours = excluded.emergency_hours,
            version = t.version + 1
        where (t.name, t.system_id, t.kind, t.sensitivity, t.owner_id, t.time_zone, t.purpose, t.emergency_hours)
            is distinct from
            (excluded.name, excluded.system_id, excluded.kind, excluded.sensitivity, excluded.owner_id,
             excluded.time_zone, excluded.purpose, excluded.emergency_hours)
        returning id, xmax = 0, name, id
    """,
    "resources": """
        with loaded as (
            insert into resources as t (id, organisation_id, key, account_id, name, kind, public)
            select s.id, :organisation, s.key, a.id, s.name, s.kind, s.public
            from staged s join accounts a on a.key = s.account
            on conflict (organisation_id, account_id, key) do update set name = excluded.name, kind = excluded.kind,
                public = excluded.public
            where (t.name, t.kind, t.public) is distinct from (excluded.name, excluded.kind, excluded.public)
            returning id, xmax = 0 as made, name, account_id, path, public,
                'recorded-public-' || right(id::text, 8) as rule
        ), opened as (
            insert into access_rules (id, organisation_id, account_id, key, by_hand, plain)
            select gen_random_uuid(), :organisation, l.account_id, l.rule, true, jsonb_build_object(
                'rule', l.rule, 'because', 'It was recorded as public.', 'admit', jsonb_build_array('anyone'),
                'to', jsonb_build_array('see'), 'on', jsonb_build_array('/**'),
                'set_on', jsonb_build_object('resource', l.path))
            from loaded l where l.public on conflict do nothing
        ), closed as (
            delete from access_rules r using loaded l
            where not l.public and r.account_id = l.account_id and r.by_hand and r.key = l.rule
        )
        select id, made, name, account_id from loaded
    """,
    "levels": """
        insert into levels as t (id, organisation_id, key, system_id, name, sentence, permissions, reach)
        select s.id, :organisation, s.key, y.id, s.name, s.sentence, s.permissions,
            (select max(array_position(array['observe', 'operate', 'spend', 'steward'], p->>'reach'))
             from jsonb_array_elements(s.permissions) p)
        from staged s join systems y on y.key = s.system
        on conflict (organisation_id, system_id, key) do update set name = excluded.name, sentence = excluded.sentence,
            permissions = excluded.permissions, reach = excluded.reach
        where (t.name, t.sentence, t.permissions) is distinct from
            (excluded.name, excluded.sentence, excluded.permissions)
        returning id, xmax = 0, name, null::uuid
    """,
    "places": """
        insert into places as t (id, organisation_id, network, place, country, latitude, longitude)
        select id, :organisation, network, place, country, latitude, longitude from staged
        on conflict (organisation_id, network) do update set place = excluded.place, country = excluded.country,
            latitude = excluded.latitude, longitude = excluded.longitude
        where (t.place, t.country, t.latitude, t.longitude) is distinct from
            (excluded.place, excluded.country, excluded.latitude, excluded.longitude)
        returning id, xmax = 0, network::text, null::uuid
    """,
    "apps": f"""
        insert into apps as t (id, organisation_id, key, name, publisher, home_page, purpose)
        select s.id, :organisation, s.key, s.name, {_kept("publisher")}, {_kept("home_page")}, {_kept("purpose")}
        from staged s left join apps o on o.key = s.key
        on conflict (organisation_id, key) do update set name = excluded.name, publisher = excluded.publisher,
            home_page = excluded.home_page, purpose = excluded.purpose
        where (t.name, t.publisher, t.home_page, t.purpose) is distinct from
            (excluded.name, excluded.publisher, excluded.home_page, excluded.purpose)
        returning id, xmax = 0, name, null::uuid
    """,
    "marks": """
        insert into marks as t (id, organisation_id, person_id, kind, value)
        select s.id, :organisation, p.id, s.kind, s.value from staged s join people p on p.key = s.person
        on conflict (organisation_id, kind, value, person_id) do nothing
        returning id, true, kind || ' ' || value, null::uuid
    """,
    "handles": """
        insert into handles as t (id, organisation_id, system_id, name, person_id, app_id)
        select s.id, :organisation, y.id, s.name, p.id, a.id
        from staged s join systems y on y.key = s.system
        left join people p on s.holder_kind = 'person' and p.key = s.holder
        left join apps a on s.holder_kind = 'app' and a.key = s.holder
        on conflict (organisation_id, system_id, name) do update set person_id = excluded.person_id,
            app_id = excluded.app_id
        where (t.person_id, t.app_id) is distinct from (excluded.person_id, excluded.app_id)
        returning id, xmax = 0, name, null::uuid
    """,
    # A grant that ended here stays ended: a file can't bring back what was revoked. Nor is what a file says to have
    # been revoked: no system was asked.
    "grants": """
        insert into grants as t (id, organisation_id, key, account_id, person_id, team_id, app_id, holder_account_id,
            state, ended_as, ended_at, given_by_id, given_at, reason, last_used_at, credential_since, proof, proved_at,
            proof_words)
        select id, :organisation, key, account_id, person_id, team_id, app_id, holder_account_id, state,
            case when state = 'ended' then coalesce(nullif(ended_as, 'revoked'), 'unproved') end,
            case when state = 'ended' then coalesce(until, :now) end,
            given_by_id, coalesce(given_at, since, :now), reason, last_used_at, credential_since,
            case when was_given then 'unproved' end, case when was_given then :now end,
            case when was_given then 'Brought in a file; nobody looked in the system.' else '' end
        from resolved cross join lateral (
            select state = 'ended' and coalesce(ended_as, '') not in ('declined', 'withdrawn') as was_given
        ) known
        on conflict (organisation_id, key) do update set given_by_id = excluded.given_by_id,
            reason = excluded.reason, last_used_at = greatest(t.last_used_at, excluded.last_used_at),
            credential_since = coalesce(excluded.credential_since, t.credential_since), version = t.version + 1
        where t.state <> 'ended' and (
            (t.given_by_id, t.reason) is distinct from (excluded.given_by_id, excluded.reason)
            or excluded.credential_since <> coalesce(t.credential_since, '-infinity')
            or excluded.last_used_at > coalesce(t.last_used_at, '-infinity')
            or exists (select from rewindowed w where w.grant_id = t.id))
        returning id, xmax = 0, key, account_id
    """,
    "sessions": """
        insert into sessions as t (id, organisation_id, key, account_id, person_id, app_id, device, address, place,
            started_at, last_seen_at, ended_at, ended_as, proof, proved_at, proof_words)
        select s.id, :organisation, s.key, a.id, p.id, ap.id, s.device, s.address, s.place, s.started_at,
            coalesce(s.last_seen_at, s.started_at), s.ended_at,
            case when s.ended_at is not null then 'signed_out' end,
            case when s.ended_at is not null then 'unproved' end, case when s.ended_at is not null then :now end,
            case when s.ended_at is not null then 'Brought in a file; nobody looked in the system.' else '' end
        from staged s join accounts a on a.key = s.account
        left join people p on s.holder_kind = 'person' and p.key = s.holder
        left join apps ap on s.holder_kind = 'app' and ap.key = s.holder
        on conflict (organisation_id, key) do update set last_seen_at = excluded.last_seen_at,
            device = excluded.device, address = excluded.address, place = excluded.place,
            ended_at = coalesce(t.ended_at, excluded.ended_at), ended_as = coalesce(t.ended_as, excluded.ended_as),
            proof = coalesce(t.proof, excluded.proof), proved_at = coalesce(t.proved_at, excluded.proved_at),
            proof_words = case when t.proof is null then excluded.proof_words else t.proof_words end
        where (t.last_seen_at, t.device, t.address, t.place) is distinct from
            (excluded.last_seen_at, excluded.device, excluded.address, excluded.place)
            or (t.ended_at is null and excluded.ended_at is not null)
        returning id, xmax = 0, key, account_id
    """,
    # What was used last never goes backwards; days that were not known yet are a change, too.
    "use": """
        update grants t set last_used_at = greatest(t.last_used_at, u.last_used_at), version = t.version + 1
        from (select grant_id, max(last_used_at) as last_used_at, max(name) as name from used group by 1) u
        left join newly_used n on n.grant_id = u.grant_id
        where t.id = u.grant_id and (u.last_used_at > coalesce(t.last_used_at, '-infinity') or n.grant_id is not null)
        returning t.id, false, u.name, t.account_id
    """,
}
