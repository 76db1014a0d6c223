"""Access rules of PostgreSQL: what PUBLIC has, under which row policies, and who may connect from where (pg_hba.conf).

PUBLIC is every login; a trust line of pg_hba.conf lets anybody be any of them, without a password.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import ip_network
from typing import LiteralString

import psycopg
from psycopg.rows import dict_row

from openlatch.adapters.contract import FoundRule, RuleManner
from openlatch.core.exposure.paths import key_of, path_of
from openlatch.core.exposure.rules import Combining, Right
from openlatch.json_values import JsonList, JsonObject, JsonView, SqlRow

Db = psycopg.Connection[SqlRow]
Condition = JsonObject

_SEE = ("connect", "execute", "select", "usage")
_CHANGE = ("create", "delete", "insert", "maintain", "references", "set", "temporary", "trigger", "truncate", "update")
_BY_ROW = frozenset({"select", "insert", "update", "delete"})
# A grant option is the right to decide who else has a right.
ADMITS = "give on"
MANNER = RuleManner(
    Combining.REFUSE_WINS,
    {
        **dict.fromkeys(_SEE, Right.SEE),
        **dict.fromkeys(_CHANGE, Right.CHANGE),
        "alter system": Right.ADMINISTER,
        ADMITS: Right.ADMINISTER,
    },
)
# Only shown to roles that may read all settings and the server's files.
_LINES: LiteralString = "select * from pg_hba_file_rules order by line_number"
# Policies that show rows, on tables with row-level security.
_UNDERSTOOD = ("local", "host", "hostssl", "hostnossl")
_POLICIES: LiteralString = """
    select format('%I.%I', n.nspname, c.relname) as name,
        coalesce(string_agg(p.polname || coalesce(' using (' || pg_get_expr(p.polqual, c.oid) || ')', ''), '; '
            order by p.polname) filter (where p.polpermissive), '') as says
    from pg_class c join pg_namespace n on n.oid = c.relnamespace left join pg_policy p on p.polrelid = c.oid
    where c.relrowsecurity group by n.nspname, c.relname
"""


# Who may connect, and use the schema that something is in: without that its own rights open nothing. A superuser may
# whatever PUBLIC has.
_CONNECT: LiteralString = """
    select has_database_privilege('public', d.oid, 'connect') as everyone, array(
        select r.rolname from pg_roles r
        where r.rolcanlogin and not r.rolsuper and has_database_privilege(r.oid, d.oid, 'connect')
    ) as logins
    from pg_database d where d.datname = %(database)s
"""
_SCHEMAS: LiteralString = """
    select n.oid, has_schema_privilege('public', n.oid, 'usage') as everyone, array(
        select r.rolname from pg_roles r
        where r.rolcanlogin and not r.rolsuper and has_schema_privilege(r.oid, n.oid, 'usage')
    ) as logins
    from pg_namespace n where n.oid = any(%(schemas)s)
"""
_IN_SCHEMA: LiteralString = """
    select 'class' as family, oid, relnamespace as schema from pg_class where oid = any(%(numbers)s)
    union all select 'function', oid, pronamespace from pg_proc where oid = any(%(numbers)s)
    union all select 'type', oid, typnamespace from pg_type where oid = any(%(numbers)s)
"""
_FAMILIES = {
    "table": "class",
    "view": "class",
    "sequence": "class",
    "column": "class",
    "function": "function",
    "type": "type",
}
# The logins that can reach an object, by name; None for every login.
Reached = frozenset[str] | None


@dataclass(slots=True)
class Doors:
    """From where a database can be reached: by a login with authentication, and by anyone as any login.

    Without readable lines ``is_known`` is false, and any login may connect from anywhere.
    """

    is_known: bool = False
    with_proof: list[Condition] = field(default_factory=list)
    trusted: list[Condition] = field(default_factory=list)


def doors(db: Db, database: str) -> Doors:
    """What pg_hba.conf says for a database, as far as it is readable. The first matching line decides."""
    try:
        with db.transaction(), db.cursor(row_factory=dict_row) as cursor:
            rows = cursor.execute(_LINES).fetchall()
    except psycopg.errors.InsufficientPrivilege:
        return Doors()
    if any(row["error"] for row in rows):
        # The server keeps using what it loaded before, which can't be read.
        return Doors()
    found, before = Doors(is_known=True), list[Condition]()
    for row in rows:
        if not _is_for(row["database"], database):
            continue
        whence = _whence(row)
        fits = {"all": [*whence, *([{"none": list(before)}] if before else [])]}
        if row["auth_method"] == "trust":
            found.trusted.append(fits)
        elif row["auth_method"] != "reject":
            found.with_proof.append(fits)
        # Only a line that certainly applies to everybody, and is understood, hides later ones.
        is_for_all = row["user_name"] == ["all"] and not {"all", database}.isdisjoint(row["database"])
        if is_for_all and row["type"] in _UNDERSTOOD:
            before.append({"all": whence})
    return found


def _is_for(databases: Sequence[str], database: str) -> bool:
    """Whether a line applies to a database. One with unknown words may."""
    return any(
        word in ("all", database) or word.startswith(("/", "@", "+")) or word in ("sameuser", "samerole", "samegroup")
        for word in databases
    )


def _whence(row: JsonView) -> list[Condition]:
    """From where a line lets clients in, and over which kinds of connections."""
    found: list[Condition] = []
    if row["type"] == "local":
        return [{"from_network": ["127.0.0.0/8", "::1/128"]}]
    if row["type"] == "hostssl":
        found.append({"secure": True})
    elif row["type"] == "hostnossl":
        found.append({"secure": False})
    address, mask = str(row["address"] or "all"), row["netmask"]
    if address == "all":
        return found
    try:
        found.append({"from_network": [str(ip_network(f"{address}/{_prefix(str(mask))}" if mask else address))]})
    except ValueError:
        found.append({"not_understood": f"pg_hba.conf: from {address}"})
    return found


def _prefix(mask: str) -> int:
    """The length of a netmask's prefix, IPv4 or IPv6."""
    bits = int(ip_network(f"{mask}/{128 if ':' in mask else 32}").network_address)
    return bits.bit_count()


def policies(db: Db) -> dict[str, str]:
    """The policies on each table with row-level security that let rows be seen; empty where none shows any row."""
    return {row["name"]: row["says"] for row in db.execute(_POLICIES)}


def reached(db: Db, database: str, places: Iterable[str], numbers: Mapping[str, int]) -> dict[str, Reached]:
    """Which logins can reach each object at all: they may connect, and use its schema."""
    row = db.execute(_CONNECT, {"database": database}).fetchone()
    to_all = None if row is None or row["everyone"] else frozenset(row["logins"])
    found: dict[str, Reached] = dict.fromkeys(places, to_all)
    asked = {place: numbers[place] for place in found if place.partition(":")[0] in _FAMILIES and place in numbers}
    within = {
        (row["family"], row["oid"]): row["schema"] for row in db.execute(_IN_SCHEMA, {"numbers": list(asked.values())})
    }
    usable: dict[int, Reached] = {
        row["oid"]: None if row["everyone"] else frozenset(row["logins"])
        for row in db.execute(_SCHEMAS, {"schemas": list(within.values())})
    }
    for place, number in asked.items():
        who = usable.get(within.get((_FAMILIES[place.partition(":")[0]], number), 0))
        if who is not None:
            found[place] = who if to_all is None else who & to_all
    return found


def rules(
    account: str,
    current: str,
    places: Mapping[str, Sequence[tuple[str, bool]]],
    numbers: Mapping[str, int],
    at: Doors,
    under: Mapping[str, str],
    who: Mapping[str, Reached],
) -> Iterator[FoundRule]:
    """The rules of a database: one for each place on which PUBLIC has rights, and one guard for pg_hba.conf.

    ``places`` are the rights of PUBLIC by place, ``numbers`` the object identifiers, ``under`` row policies by table,
    ``who`` the logins that can reach them.
    """
    for place, rights in sorted(places.items()):
        name = place.partition(":")[2]
        to = sorted({right for right, _ in rights} | ({ADMITS} if any(admits for _, admits in rights) else set()))
        # Row policies restrict reading and writing rows, not the other rights on a table.
        table = name if name in under else name.rpartition(".")[0]
        is_by_row = table in under and set(to) <= _BY_ROW
        conditions = [{"not_understood": f"row policies: {under[table] or 'none'}"[:300]}] if is_by_row else []
        handle = {
            "holder": "",
            "places": [place],
            "in": current,
            "oids": {place: numbers[place]} if place in numbers else {},
        }
        # Rights on the database itself are about the whole account.
        on = {"set_on": "account", "on": ["/"]} if place == account else {"set_on": {"resource": path_of(place)}}
        by_name = who.get(place)
        admitted: JsonList = ["signed in"] if by_name is None else [{"holder": name} for name in sorted(by_name)]
        rule = {"rule": f"public.{key_of(place)}", "admit": admitted, "to": to, **on}
        if admitted:
            yield FoundRule(account, {**rule, **_while(conditions)}, handle)
        if at.trusted:
            trusted = {**rule, "rule": f"trusted.{key_of(place)}", "admit": ["anyone"]}
            yield FoundRule(account, {**trusted, **_while([*conditions, {"any": at.trusted}])}, handle)
    if at.is_known:
        let_in = [*at.with_proof, *at.trusted]
        guard = {"guard": "pg_hba.conf", "refuse": ["anyone"], "to": ["see", "change", "administer"]}
        yield FoundRule(account, {**guard, **_while([{"none": let_in}] if let_in else [])}, is_guard=True)


def _while(conditions: Iterable[Condition]) -> JsonObject:
    found = list(conditions)
    return {"while": found} if found else {}
