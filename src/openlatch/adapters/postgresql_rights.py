"""Rights in a PostgreSQL server besides memberships: attributes of roles, and grants on databases, schemas and tables.

What a role may do to everything (superuser, making roles and databases, replication, passing row policies by) are
holdings of an account called the server. Databases are accounts too, with schemas and tables as their parts. See
https://www.postgresql.org/docs/15/ chapters 5.7 (privileges), 5.8 (row security) and 22.2 (role attributes).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, LiteralString

import psycopg
from psycopg import sql

from openlatch.adapters.contract import Found, FoundLevel, FoundPart, Holding, SharedAccount
from openlatch.core.words import Reach, StepKind
from openlatch.errors import SystemRefused

Db = psycopg.Connection[dict[str, Any]]
SERVER = "server"
# By the attribute's column in pg_roles: the word that sets it, the permission, how far it goes.
ATTRIBUTES: dict[str, tuple[LiteralString, str, Reach]] = {
    "rolsuper": ("superuser", "Do everything on the server, whatever else is set", Reach.STEWARD),
    "rolcreaterole": ("createrole", "Make logins and let them in", Reach.STEWARD),
    "rolcreatedb": ("createdb", "Make databases", Reach.OPERATE),
    "rolreplication": ("replication", "Copy the whole server", Reach.OBSERVE),
    "rolbypassrls": ("bypassrls", "See and change all rows, past their policies", Reach.OPERATE),
}
_NAMES = {"superuser": "Superuser", "createrole": "Makes roles", "createdb": "Makes databases",
          "replication": "Copies the server", "bypassrls": "Passes row policies by"}  # fmt: skip
GUEST = FoundLevel(
    "guest", "Guest", "Can connect, and use what is open to everybody.",
    (("connect", "Connect to the database", Reach.OBSERVE),),
)  # fmt: skip
MAKER = FoundLevel(
    "maker", "Maker", "Can make new objects there.", (("make", "Make new objects there", Reach.OPERATE),)
)
_GIVES: dict[tuple[str, str], LiteralString] = {
    ("table", "reader"): "grant select on table {} to {}",
    ("table", "operator"): "grant select, insert, update, delete on table {} to {}",
    ("table", "keeper"): "grant select, insert, update, delete on table {} to {} with grant option",
    ("schema", "maker"): "grant usage, create on schema {} to {}",
    ("database", "maker"): "grant connect, create on database {} to {}",
    ("database", "guest"): "grant connect on database {} to {}",
}
_TAKES: dict[str, LiteralString] = {
    "table": "revoke {}all on table {} from {}",
    "schema": "revoke {}all on schema {} from {}",
    "database": "revoke {}all on database {} from {}",
}
_RIGHTS: LiteralString = """
    with given as (
        select 'table' as kind, format('%%I.%%I', n.nspname, c.relname) as name, a.*, c.relowner as owner,
            c.relrowsecurity as by_policy
        from pg_class c join pg_namespace n on n.oid = c.relnamespace cross join lateral aclexplode(c.relacl) a
        where c.relkind in ('r', 'v', 'm', 'p', 'f') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
        union all
        select 'schema', n.nspname, a.*, n.nspowner, false from pg_namespace n cross join lateral aclexplode(n.nspacl) a
        where n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
        union all
        select 'database', d.datname, a.*, d.datdba, false from pg_database d cross join lateral aclexplode(d.datacl) a
        where d.datallowconn and not d.datistemplate
    )
    select g.kind, g.name, coalesce(r.rolname, '') as holder, g.by_policy, bool_or(g.is_grantable) as admits,
        array_agg(g.privilege_type) as rights
    from given g left join pg_roles r on r.oid = g.grantee
    where g.grantee <> g.owner and (%(holder)s::text is null or r.rolname = %(holder)s)
        and (%(kind)s::text is null or (g.kind = %(kind)s and g.name = %(name)s))
    group by 1, 2, 3, 4 order by 1, 2, 3
"""
_WHICH: LiteralString = """
    select n.nspname as schema, c.relname as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
    where c.oid = to_regclass(%s)
"""
# What hangs on a role, in all databases (pg_shdepend): what it owns, and the policies that name it.
_HANGS: LiteralString = """
    select r.rolname as holder, s.deptype::text as how, coalesce(d.datname, 'the server') as place, count(*) as count
    from pg_shdepend s join pg_roles r on r.oid = s.refobjid left join pg_database d on d.oid = s.dbid
    where s.refclassid = 'pg_authid'::regclass and s.deptype in ('o', 'r') and r.rolname !~ '^pg_'
    group by 1, 2, 3 order by 1, 2, 3
"""
_LATER: LiteralString = """
    select r.rolname as holder, o.rolname as maker, string_agg(distinct lower(a.privilege_type), ', ') as rights
    from pg_default_acl d cross join lateral aclexplode(d.defaclacl) a join pg_roles r on r.oid = a.grantee
    join pg_roles o on o.oid = d.defaclrole where a.grantee <> d.defaclrole group by 1, 2 order by 1, 2
"""


def hanging(db: Db) -> dict[str, tuple[tuple[str, str], ...]]:
    """By role: what it owns, the policies that name it, and the rights that new objects will give it."""
    found: dict[str, list[tuple[str, str]]] = {}
    for row in db.execute(_HANGS):
        objects = f"{row['count']} object{'s' * (row['count'] != 1)}"
        policies = f"{row['count']} row polic{'ies' if row['count'] != 1 else 'y'}"
        words = (
            f"owns {objects} in {row['place']}" if row["how"] == "o" else f"is named in {policies} in {row['place']}"
        )
        found.setdefault(row["holder"], []).append(("object", words))
    for row in db.execute(_LATER):
        words = f"gets {row['rights']} on whatever {row['maker']} makes, by default"
        found.setdefault(row["holder"], []).append(("object", words))
    return {holder: tuple(words) for holder, words in found.items()}


def attribute_level(names: list[str]) -> FoundLevel:
    """The level of a role with these attributes."""
    of = {word: (word, sentence, reach) for word, sentence, reach in ATTRIBUTES.values()}
    said = ", ".join(of[name][1][0].lower() + of[name][1][1:] for name in names)
    return FoundLevel(f"is {'+'.join(names)}", ", ".join(_NAMES[n] for n in names), f"Can {said}.",
                      tuple(of[name] for name in names))  # fmt: skip


def holdings(db: Db, roles: dict[str, dict[str, Any]], logins: set[str]) -> Iterator[Found]:
    """The server and the databases, and who holds what in them. ``roles`` are logins and shared roles by name."""
    given: dict[tuple[str, str], dict[str, str]] = {}
    places: dict[str, FoundPart] = {}
    yield from (GUEST, MAKER)
    yield SharedAccount(SERVER, "The database server", "server")
    for name, role in roles.items():
        held = [word for column, (word, _, _) in ATTRIBUTES.items() if role[column]]
        if held:
            yield attribute_level(held)
            handle = {"holder": name, "attributes": held}
            yield Holding(SERVER, name, name not in logins, attribute_level(held).key, None, handle)
    current = db.info.dbname
    for row in db.execute(_RIGHTS, {"holder": None, "kind": None, "name": None}).fetchall():
        level, account = _level(row), f"database:{row['name'] if row['kind'] == 'database' else current}"
        place = f"{row['kind']}:{row['name']}"
        if not level or (row["holder"] and row["holder"] not in roles):
            continue
        if row["kind"] != "database":
            seen = places.get(place)
            rows = " (only the rows that its policies show)" if row["by_policy"] else ""
            public = not row["holder"] or (seen is not None and seen.public)
            places[place] = FoundPart(account, place, f"{row['name']}{rows}", row["kind"], public)
        if row["holder"]:
            given.setdefault((account, row["holder"]), {})[place] = level
    for account in dict.fromkeys([f"database:{current}", *(account for account, _ in given)]):
        yield SharedAccount(account, f"Database {account.partition(':')[2]}", "database")
    yield from places.values()
    for (account, holder), held_there in given.items():
        parts = tuple((place, level) for place, level in held_there.items() if place != account)
        handle = {"holder": holder, "places": sorted(held_there)}
        yield Holding(account, holder, holder not in logins, held_there.get(account, ""), None, handle, parts)


def _level(row: dict[str, Any]) -> str:
    """The level that rights on a place come to; empty when they give nothing by themselves."""
    rights = set(row["rights"])
    if row["kind"] == "table":
        changes = rights & {"INSERT", "UPDATE", "DELETE", "TRUNCATE", "TRIGGER", "REFERENCES"}
        return "keeper" if row["admits"] else "operator" if changes else "reader"
    if "CREATE" in rights:
        return "maker"
    # Everybody may connect and look up names, unless that was taken away: only what was given by name is somebody's.
    return "guest" if row["kind"] == "database" and "CONNECT" in rights and row["holder"] else ""


def apply(db: Db, kind: StepKind, detail: dict[str, Any]) -> str:
    """Change the attributes of a role, or its rights on one place."""
    holder = sql.Identifier(detail["holder"])
    if "attributes" in detail:
        known = {word for word, _, _ in ATTRIBUTES.values()}
        no = "" if kind is StepKind.GIVE else "no"
        words = [sql.SQL(f"{no}{word}") for word in detail["attributes"] if word in known]
        statement = sql.SQL("alter role {} {}").format(holder, sql.SQL(" ").join(words))
    else:
        what, _, _ = detail["place"].partition(":")
        place = _named(db, detail["place"])
        if kind is StepKind.GIVE:
            statement = sql.SQL(_GIVES[what, detail["level_key"]]).format(place, holder)
        else:
            only = sql.SQL("grant option for " if kind is StepKind.REDUCE else "")
            statement = sql.SQL(_TAKES[what]).format(only, place, holder)
    db.execute(statement)
    return f"Carried out: {statement.as_string(db)}"


def _named(db: Db, place: str) -> sql.Composable:
    kind, _, name = place.partition(":")
    if kind != "table":
        return sql.Identifier(name)
    row = db.execute(_WHICH, [name]).fetchone()
    if row is None:
        raise SystemRefused(f"There is no table {name}.", "Have the server read again.")
    return sql.Identifier(row["schema"], row["name"])


def confirm(db: Db, kind: StepKind, detail: dict[str, Any]) -> str | None:
    """None when attributes or rights are as a step wants them."""
    who = detail["holder"]
    if "attributes" in detail:
        role = db.execute("select * from pg_roles where rolname = %s", [who]).fetchone() or {}
        held = {word for column, (word, _, _) in ATTRIBUTES.items() if role.get(column)}
        if kind is StepKind.GIVE:
            lacking = set(detail["attributes"]) - held
            return f"{who} has not yet {', '.join(sorted(lacking))}" if lacking else None
        still = held & set(detail["attributes"])
        return f"{who} still has {', '.join(sorted(still))}" if still else None
    what, _, name = detail["place"].partition(":")
    row = db.execute(_RIGHTS, {"holder": who, "kind": what, "name": name}).fetchone()
    level = _level(row) if row else ""
    if kind is StepKind.GIVE:
        order = ("", "guest", "reader", "maker", "operator", "keeper")
        there = order.index(level) >= order.index(detail["level_key"])
        return None if there else f"{who} can't yet use {name} as it should be"
    if not level or (kind is StepKind.REDUCE and level != "keeper"):
        return None
    return f"{who} is still {level} of {name}"
