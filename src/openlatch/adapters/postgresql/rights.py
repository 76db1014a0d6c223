"""Rights in a PostgreSQL server besides memberships: attributes of roles, owners, and grants on objects by name.

What a role may do to everything is a holding of an account called the server. Databases are accounts too, with what is
in them as their parts; what every login has (PUBLIC) is an account that all logins are in. The server's own functions
say what a role may do: see https://www.postgresql.org/docs/15/functions-info.html, table 9.66.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import nullcontext
from typing import LiteralString

import psycopg
from psycopg import sql

from openlatch.adapters.contract import Found, FoundPart, Holding, SharedAccount
from openlatch.adapters.postgresql.exposure import doors, policies, reached, rules
from openlatch.adapters.postgresql.grantors import Item, is_known, lost, sentences
from openlatch.adapters.postgresql.wording import (
    ATTRIBUTES,
    EVERYONE,
    OWNER,
    attribute_level,
    key_of,
    rights_level,
    rights_of,
)
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.json_values import JsonObject, JsonView, SqlRow

Db = psycopg.Connection[SqlRow]
SERVER = "server"
PUBLIC = "everyone:"
# By kind: what GRANT calls it, and the function that tells what a role may do with it, by oid.
KINDS: dict[str, tuple[LiteralString, LiteralString]] = {
    "table": ("table", "has_table_privilege"),
    "column": ("table", "has_column_privilege"),
    "sequence": ("sequence", "has_sequence_privilege"),
    "function": ("routine", "has_function_privilege"),
    "schema": ("schema", "has_schema_privilege"),
    "database": ("database", "has_database_privilege"),
    "type": ("type", "has_type_privilege"),
    "language": ("language", "has_language_privilege"),
    "foreign server": ("foreign server", "has_server_privilege"),
    "foreign data wrapper": ("foreign data wrapper", "has_foreign_data_wrapper_privilege"),
    "tablespace": ("tablespace", "has_tablespace_privilege"),
    "parameter": ("parameter", "has_parameter_privilege"),
    "large object": ("large object", ""),
}
# Every object that rights can be given on, or that has an owner. ``ours`` marks what does not belong to the server
# itself.
_OBJECTS: LiteralString = """
    select case c.relkind when 'S' then 'sequence' else 'table' end as kind, c.oid, 0 as part,
        format('%%I.%%I', n.nspname, c.relname) as name, format('%%I.%%I', n.nspname, c.relname) as quoted,
        ''::text as col, c.relowner as owner, c.relacl as acl, n.nspname !~ '^pg_|^information_schema$' as ours,
        c.relrowsecurity as warned
    from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'v', 'm', 'p', 'f', 'S')
    union all
    select 'column', c.oid, a.attnum, format('%%I.%%I.%%I', n.nspname, c.relname, a.attname),
        format('%%I.%%I', n.nspname, c.relname), format('(%%I)', a.attname), c.relowner, a.attacl,
        n.nspname !~ '^pg_|^information_schema$', c.relrowsecurity
    from pg_attribute a join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace
    where {columns} and not a.attisdropped and a.attnum > 0
    union all
    select 'function', p.oid, 0, named, named, '', p.proowner, coalesce(p.proacl, acldefault('f', p.proowner)),
        n.nspname !~ '^pg_|^information_schema$', p.prosecdef
    from pg_proc p join pg_namespace n on n.oid = p.pronamespace cross join lateral
        format('%%I.%%I(%%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid)) named
    where p.proacl is not null or n.nspname !~ '^pg_|^information_schema$'
    union all
    select 'type', t.oid, 0, format('%%I.%%I', n.nspname, t.typname), format('%%I.%%I', n.nspname, t.typname), '',
        t.typowner, t.typacl, n.nspname !~ '^pg_|^information_schema$', false
    from pg_type t join pg_namespace n on n.oid = t.typnamespace
    where t.typelem = 0
        and (t.typrelid = 0 or exists (select from pg_class c where c.oid = t.typrelid and c.relkind = 'c'))
    union all
    select 'schema', n.oid, 0, n.nspname, quote_ident(n.nspname), '', n.nspowner, n.nspacl,
        n.nspname !~ '^pg_|^information_schema$', false from pg_namespace n
    union all
    select 'database', d.oid, 0, d.datname, quote_ident(d.datname), '', d.datdba, d.datacl,
        d.datallowconn and not d.datistemplate, false from pg_database d
    union all
    select 'language', l.oid, 0, l.lanname, quote_ident(l.lanname), '', l.lanowner, l.lanacl, true, false
    from pg_language l
    union all
    select 'foreign server', s.oid, 0, s.srvname, quote_ident(s.srvname), '', s.srvowner, s.srvacl, true, false
    from pg_foreign_server s
    union all
    select 'foreign data wrapper', w.oid, 0, w.fdwname, quote_ident(w.fdwname), '', w.fdwowner, w.fdwacl, true, false
    from pg_foreign_data_wrapper w
    union all
    select 'tablespace', s.oid, 0, s.spcname, quote_ident(s.spcname), '', s.spcowner, s.spcacl,
        s.spcname !~ '^pg_', false from pg_tablespace s
    union all
    select 'large object', o.oid, 0, o.oid::text, o.oid::text, '', o.lomowner, o.lomacl, true, false
    from pg_largeobject_metadata o
"""
_PARAMETERS: LiteralString = """
    union all
    select 'parameter', coalesce(p.oid, 0), 0, coalesce(p.parname, s.name), quote_ident(coalesce(p.parname, s.name)),
        '', 10::oid, p.paracl, true, false
    from pg_parameter_acl p full join pg_settings s on lower(s.name) = p.parname
"""
# What is given by name, and what is owned; the first superuser's ownership is not reported.
_GIVEN: LiteralString = """
    select o.kind, o.name, o.oid, a.grantee as who, coalesce(r.rolname, '') as holder, o.warned, o.ours,
        lower(a.privilege_type) as privilege, a.is_grantable as admits, pg_get_userbyid(a.grantor) as grantor,
        pg_get_userbyid(o.owner) as owned_by
    from objects o cross join lateral aclexplode(o.acl) a left join pg_roles r on r.oid = a.grantee
    where a.grantee <> o.owner
    union all
    select o.kind, o.name, o.oid, o.owner, r.rolname, o.warned, o.ours, 'owner', false, '', r.rolname
    from objects o join pg_roles r on r.oid = o.owner where o.owner <> 10 and o.ours and o.kind <> 'column'
    order by 1, 2, 5
"""
_ONE: LiteralString = """
    select o.*, (select rolname from pg_roles where oid = o.owner) as owned_by from objects o
    where o.kind = %(kind)s and o.name = %(name)s
"""
_BY_NUMBER: LiteralString = """
    select o.name from objects o where o.kind = %(kind)s and o.oid = %(oid)s
"""
_BY_NAME: LiteralString = """
    select a.privilege_type as privilege, bool_or(a.is_grantable) as admits,
        array_agg(distinct g.rolname order by g.rolname) as grantors
    from objects o cross join lateral aclexplode(o.acl) a left join pg_roles g on g.oid = a.grantor
    where o.kind = %(kind)s and o.name = %(name)s and a.grantee = %(who)s and a.grantee <> o.owner group by 1
"""
# The access list of one object, which shows who else loses a right with its grantor.
_ITEMS: LiteralString = """
    select lower(a.privilege_type) as privilege, coalesce(r.rolname, '') as grantee,
        pg_get_userbyid(a.grantor) as grantor, a.is_grantable as admits
    from objects o cross join lateral aclexplode(o.acl) a left join pg_roles r on r.oid = a.grantee
    where o.kind = %(kind)s and o.name = %(name)s and a.grantee <> o.owner
"""
# Why a role may still do what was revoked: by another way, which is a path of its own.
_DOORS: LiteralString = """
    select exists (
        select from pg_roles r where r.oid = %(who)s and (r.rolsuper
            or pg_has_role(r.oid, (select owner from objects where kind = %(kind)s and name = %(name)s), 'usage')
            or pg_has_role(r.oid, 'pg_read_all_data', 'usage') or pg_has_role(r.oid, 'pg_write_all_data', 'usage'))
    ) or exists (
        select from objects o cross join lateral aclexplode(o.acl) a
        where ((o.kind = %(kind)s and o.name = %(name)s) or (o.kind = 'table' and o.oid = %(oid)s
                and %(kind)s = 'column'))
            and a.privilege_type = %(privilege)s and a.grantee <> %(who)s
            and (a.grantee = 0 or pg_has_role(%(who)s::oid, a.grantee, 'usage'))
    ) or exists (
        select from objects o cross join lateral aclexplode(o.acl) a
        where o.kind = 'table' and o.oid = %(oid)s and %(kind)s = 'column'
            and a.privilege_type = %(privilege)s and a.grantee = %(who)s
    ) as found
"""
# Rights granted on objects of a role that we are no member of: only its owner can revoke them.
_NOT_OURS: LiteralString = """
    select case r.rolname when 'pg_database_owner' then pg_get_userbyid(d.datdba) else r.rolname end as owner,
        count(distinct (o.kind, o.name)) as count
    from pg_database d cross join objects o cross join lateral aclexplode(o.acl) a join pg_roles r on r.oid = o.owner
    where d.datname = current_database() and a.grantee <> o.owner and a.grantee <> 0 and o.ours
        and not pg_has_role(current_user, o.owner, 'usage')
        and a.grantee in (select oid from pg_roles g where g.rolname !~ '^pg_' and g.rolname <> current_user)
    group by 1 order by 1
"""
_ATTRIBUTED: LiteralString = """
    select string_agg(rolname, ', ' order by rolname) as names from pg_roles
    where (rolsuper or rolreplication or rolbypassrls) and rolname !~ '^pg_' and oid <> 10
        and not (select rolsuper from pg_roles where rolname = current_user)
"""
# What depends on a role, in all databases (pg_shdepend): what it owns, and the policies that name it.
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
    """By role: what it owns, the policies that name it, and its default privileges on new objects."""
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


def unable(db: Db) -> Iterator[str]:
    """What our login could not revoke, and what it would need."""
    for row in db.execute(_with_objects(db, _NOT_OURS), {}):
        objects = f"{row['count']} object{'s' * (row['count'] != 1)}"
        yield f"rights on {objects} of {row['owner']}: make Open Latch's login a member of {row['owner']}"
    attributed = db.execute(_ATTRIBUTED).fetchone()
    if attributed and attributed["names"]:
        yield f"superuser, replication and bypassrls of {attributed['names']}: only a superuser can"


def holdings(db: Db, roles: Mapping[str, JsonView], logins: set[str]) -> Iterator[Found]:
    """The server and the databases, who holds what in them, and what every login has.

    ``roles`` are logins and shared roles by name; a login with members counts as an account, too.
    """
    yield from _attributes(roles, logins)
    current = db.info.dbname
    given: dict[tuple[str, str], dict[str, list[tuple[str, bool]]]] = {}
    parts: dict[str, FoundPart] = {}
    numbers: dict[str, int] = {}
    items: dict[str, list[Item]] = {}
    owners: dict[str, str] = {}
    for row in db.execute(_with_objects(db, _GIVEN), {}).fetchall():
        public = row["who"] == 0
        place = f"{row['kind']}:{row['name']}"
        if row["privilege"] != OWNER.key:
            items.setdefault(place, []).append(Item(row["privilege"], row["holder"], row["grantor"], row["admits"]))
            owners[place] = row["owned_by"]
        if (public and not _is_open(row)) or (not public and row["holder"] not in roles):
            continue
        account = f"database:{row['name'] if row['kind'] == 'database' else current}"
        if row["kind"] != "parameter":
            # These are identified by name, which can't change.
            numbers[place] = row["oid"]
        if row["kind"] != "database":
            parts[place] = FoundPart(account, place, f"{row['name']}{_warning(row)}", row["kind"])
        rights = given.setdefault((account, row["holder"]), {}).setdefault(place, [])
        rights.append((row["privilege"], row["admits"]))
    under = policies(db)
    for account in dict.fromkeys([f"database:{current}", *(account for account, _ in given)]):
        yield SharedAccount(account, f"Database {account.partition(':')[2]}", "database")
    yield from parts.values()
    keys = {who: {place: _key(rights) for place, rights in held.items()} for who, held in given.items()}
    yield from (rights_level(key) for key in sorted({key for held in keys.values() for key in held.values()}))
    for (account, holder), places in keys.items():
        given_on = _given_on(holder, places, items, owners)
        given_there: JsonObject = {
            "holder": holder,
            "places": sorted(places),
            "given": dict(sorted(places.items())),
            "in": current,
            "oids": {place: numbers[place] for place in sorted(places) if place in numbers},
            **({"holder_oid": roles[holder]["oid"]} if holder else {}),
            **({"given_on": given_on, "also_ends": sentences(given_on, holder)} if given_on else {}),
        }
        there = tuple((place, level) for place, level in places.items() if place != account)
        if holder:
            is_account = holder not in logins
            one = Holding(account, holder, is_account, places.get(account, ""), None, given_there, there)
            yield from also_as_account(roles[holder], one)
            continue
        door = f"{PUBLIC}{account}"
        yield EVERYONE
        yield SharedAccount(door, f"Every login that may connect to {account.partition(':')[2]}", "everyone")
        yield Holding(account, door, True, places.get(account, ""), None, given_there, there)
        entries = doors(db, account.partition(":")[2])
        who = reached(db, account.partition(":")[2], places, numbers)
        yield from rules(account, current, given[account, ""], numbers, entries, under, who)
        for login in sorted(logins):
            yield Holding(door, login, False, EVERYONE.key, None, {"holder": login, "everyone": account})


def _given_on(
    holder: str, places: Mapping[str, str], items: Mapping[str, list[Item]], owners: Mapping[str, str]
) -> dict[str, dict[str, list[str]]]:
    """By object: what others lose when all rights of a role on it are revoked."""
    found = {}
    for place in sorted(places):
        there = items.get(place, ())
        if holder and any(item.grantor == holder for item in there):
            others = lost(there, owners[place], holder, {item.privilege for item in there if item.grantee == holder})
            found.update({place: others} if others else {})
    return found


def _attributes(roles: Mapping[str, JsonView], logins: set[str]) -> Iterator[Found]:
    """The server as an account, and what roles may do there whatever else is set."""
    yield SharedAccount(SERVER, "The database server", "server")
    for name, role in roles.items():
        held = [word for column, (word, _, _) in ATTRIBUTES.items() if role[column]]
        if held:
            yield attribute_level(held)
            handle = {"holder": name, "holder_oid": role["oid"], "attributes": held}
            yield from also_as_account(
                role, Holding(SERVER, name, name not in logins, attribute_level(held).key, None, handle)
            )


def also_as_account(role: JsonView, holding: Holding) -> Iterator[Holding]:
    """What a login holds, and the same as an account for its members."""
    yield holding
    if role["can_login"] and role["has_members"]:
        yield Holding(holding.account, holding.holder, True, holding.level, None, holding.handle, holding.parts)


def _is_open(row: JsonView) -> bool:
    """Whether a right of PUBLIC is reported: the server's own defaults are not."""
    if not row["ours"]:
        return False
    if row["kind"] == "function":
        return bool(row["warned"])
    return row["privilege"] not in ("connect", "temporary", "usage") or row["kind"] in ("foreign server", "sequence")


def _warning(row: JsonView) -> str:
    if not row["warned"]:
        return ""
    if row["kind"] == "function":
        return " (runs with the rights of its owner)"
    return " (only the rows that its policies show)"


def _key(rights: list[tuple[str, bool]]) -> str:
    return OWNER.key if (OWNER.key, False) in rights else key_of(rights)


def _with_objects(db: Db, query: LiteralString) -> LiteralString:
    parameters = _PARAMETERS if db.info.server_version >= 150000 else ""
    # Columns that have rights of their own are few; one named by a step may have none any more.
    columns = "true" if "%(kind)s" in query else "a.attacl is not null"
    return "with objects as (" + _OBJECTS.replace("{columns}", columns) + parameters + ") " + query


def apply(db: Db, kind: StepKind, detail: JsonObject) -> str:
    """Change the attributes of a role, or its rights on places: all in one transaction, or nothing."""
    if "everyone" in detail:
        raise SystemRefused(
            f"{detail['holder']} has this as every login has; it can't be taken from one alone.",
            "Take the rights of PUBLIC away.",
        )
    if "attributes" in detail:
        known = {word for word, _, _ in ATTRIBUTES.values()}
        no = "" if kind is StepKind.GIVE else "no"
        words = [sql.SQL(f"{no}{word}") for word in detail["attributes"] if word in known]
        holder = sql.Identifier(detail["holder"])
        return carry_out(db, [sql.SQL("alter role {} {}").format(holder, sql.SQL(" ").join(words))])
    statements = [one for place in _places(detail) for one in _statements(db, kind, detail, place)]
    return carry_out(db, statements)


def carry_out(db: Db, statements: list[sql.Composed]) -> str:
    """Carry statements out in one transaction, and say which."""
    # One by itself is its own transaction, where each is.
    with db.transaction() if len(statements) > 1 or not db.autocommit else nullcontext():
        for statement in statements:
            db.execute(statement)
    return "Carried out: " + "; ".join(statement.as_string(db) for statement in statements)


def _places(detail: JsonView) -> list[str]:
    return list(detail["places"]) if "places" in detail else [detail["place"]]


def _statements(db: Db, kind: StepKind, detail: JsonView, place: str) -> Iterator[sql.Composed]:
    """The statements that bring rights on one place to what a step wants, privilege by privilege."""
    what, _, name = place.partition(":")
    row = db.execute(_with_objects(db, _ONE), {"kind": what, "name": name}).fetchone()
    if row is None:
        raise SystemRefused(f"There is no {what} {name}.", "Have the server read again.")
    who = number_of(db, detail["holder"], detail.get("holder_oid", ""))
    holder = sql.Identifier(detail["holder"]) if detail["holder"] else sql.SQL("public")
    target = sql.SQL(f"on {KINDS[what][0]} {row['quoted']}")
    column = sql.SQL(row["col"])
    wanted = rights_of(_level(detail, place)) if kind is not StepKind.REMOVE else {}
    if OWNER.key.upper() in wanted or (kind is not StepKind.GIVE and row["owner"] == who):
        raise SystemRefused(
            f"{detail['holder']} owns the {what} {name}; rights of an owner can't be taken away.",
            f"Give it another owner: alter {KINDS[what][0]} {row['quoted']} owner to …; then have the server read.",
        )
    if kind is StepKind.GIVE:
        for right, admits in wanted.items():
            form = "grant {}{} {} to {} with grant option" if admits else "grant {}{} {} to {}"
            yield sql.SQL(form).format(_word(right), column, target, holder)
        return
    held = {
        r["privilege"]: r for r in db.execute(_with_objects(db, _BY_NAME), {"kind": what, "name": name, "who": who})
    }
    cascade = sql.SQL(" cascade" if _loses(db, kind, detail, place, held, wanted) else "")
    for right, there in held.items():
        if right in wanted and (wanted[right] or not there["admits"]):
            continue
        form = "revoke grant option for {}{} {} from {}{}" if right in wanted else "revoke {}{} {} from {}{}"
        # A right can only be revoked as its grantor; if that is not the owner, we act as them.
        for grantor in there["grantors"]:
            statement = sql.SQL(form).format(_word(right), column, target, holder, cascade)
            if grantor == row["owned_by"] or grantor is None:
                yield statement
            else:
                yield sql.SQL("set local role {}").format(sql.Identifier(grantor))
                yield statement
                yield sql.SQL("set local role none").format()


def _loses(
    db: Db,
    kind: StepKind,
    detail: JsonView,
    place: str,
    held: Mapping[str, JsonView],
    wanted: Mapping[str, bool],
) -> bool:
    """Whether others lose rights with it, as the preview said. SystemRefused unless it named all of them."""
    what, _, name = place.partition(":")
    there = [Item(**row) for row in db.execute(_with_objects(db, _ITEMS), {"kind": what, "name": name})]
    taken = {right.lower() for right, one in held.items() if one["admits"] and not wanted.get(right)}
    owner = db.execute(_with_objects(db, _ONE), {"kind": what, "name": name}).fetchone()
    others = lost(there, owner["owned_by"] if owner else "", detail["holder"], taken)
    if not others:
        return False
    known = detail.get("given_on", {}).get(place, {})
    if kind is StepKind.REMOVE and is_known(others, known):
        return True
    raise SystemRefused(
        f"{', '.join(name or 'every login' for name in others)} would lose their rights on {name} with it: "
        "they were given on.",
        "Give them those rights by the owner first, or take theirs away first; or have the server read again, and "
        "look at what ends with it.",
    )


def _level(detail: JsonView, place: str) -> str:
    given = detail.get("given", {})
    return str(given.get(place) or detail.get("to") or detail["level_key"])


def _word(right: str) -> sql.SQL:
    """A privilege as SQL writes it; only the server's own words get this far."""
    if not right.replace(" ", "").isalpha():
        raise SystemRefused(f"{right} is no privilege.", "Have the server read again.")
    return sql.SQL(right)


def number_of(db: Db, role: str, known: str = "") -> int:
    """A role's number: 0 for PUBLIC, -1 when the role of a ``known`` number no longer exists.

    SystemRefused if that role has another name by now, or if there is no role of this name and no number to identify it
    by: a renamed role still has all its rights.
    """
    if not role:
        return 0
    by_number: LiteralString = "select oid, rolname from pg_roles where oid = cast(%s as oid)"
    by_name: LiteralString = "select oid, rolname from pg_roles where rolname = %s"
    row = db.execute(by_number if known else by_name, [known or role]).fetchone()
    if row is not None and row["rolname"] == role:
        return int(row["oid"])
    if row is None and known:
        return -1
    said = f"is called {row['rolname']} by now" if row else "is not there, and may have been renamed"
    raise SystemRefused(f"The role {role} {said}.", "Have the server read again.")


def _refuse_moved(db: Db, detail: JsonView, place: str) -> None:
    """SystemRefused if an object is not found by its name but may exist all the same."""
    what, _, name = place.partition(":")
    within, number = detail.get("in"), detail.get("oids", {}).get(place)
    if what != "database" and within and within != db.info.dbname:
        raise SystemRefused(
            f"{name} is in the database {within}, and {db.info.dbname} is asked.", "Connect it with that."
        )
    row = db.execute(_with_objects(db, _BY_NUMBER), {"kind": what, "oid": number}).fetchone() if number else None
    if row is not None:
        raise SystemRefused(f"The {what} {name} is called {row['name']} by now.", "Have the server read again.")
    if number is None:
        raise SystemRefused(f"There is no {what} {name}; it may have been renamed.", "Have the server read again.")


def confirm(db: Db, kind: StepKind, detail: JsonObject) -> str | None:
    """None when attributes or rights are as a step wants them, by what is given and by what the server says."""
    who = detail["holder"]
    if "everyone" in detail:
        return f"{who} has what every login has in {detail['everyone'].partition(':')[2]}"
    if "attributes" in detail:
        number = number_of(db, who, detail.get("holder_oid", ""))
        role = db.execute("select * from pg_roles where oid = %s", [number]).fetchone() or {}
        held = {word for column, (word, _, _) in ATTRIBUTES.items() if role.get(column)}
        if kind is StepKind.GIVE:
            lacking = set(detail["attributes"]) - held
            return f"{who} has not yet {', '.join(sorted(lacking))}" if lacking else None
        still = held & set(detail["attributes"])
        return f"{who} still has {', '.join(sorted(still))}" if still else None
    return next((wrong for place in _places(detail) if (wrong := _wrong(db, kind, detail, place))), None)


def _wrong(db: Db, kind: StepKind, detail: JsonView, place: str) -> str | None:
    """What is wrong with the rights of a role on one place."""
    what, _, name = place.partition(":")
    oid, who = number_of(db, detail["holder"], detail.get("holder_oid", "")), detail["holder"] or "every login"
    values = {"kind": what, "name": name, "who": oid}
    row = db.execute(_with_objects(db, _ONE), values).fetchone()
    held = {r["privilege"]: r["admits"] for r in db.execute(_with_objects(db, _BY_NAME), values)}
    if kind is StepKind.GIVE:
        wanted = rights_of(_level(detail, place))
        if "OWNER" in wanted:
            return None if row and row["owner"] == oid else f"{who} does not own {name}"
        lacking = [right for right, admits in wanted.items() if right not in held or (admits and not held[right])]
        return f"{who} has not yet {', '.join(lacking).lower()} on {name}" if lacking else None
    if oid == -1:
        return None
    if row is None:
        _refuse_moved(db, detail, place)
        return None
    if row["owner"] == oid:
        return f"{who} owns {name}"
    wanted = rights_of(_level(detail, place)) if kind is StepKind.REDUCE else {}
    left = [right for right, admits in held.items() if right not in wanted or (admits and not wanted[right])]
    if left:
        return f"{who} still has {', '.join(sorted(left)).lower()} on {name}"
    taken = set(rights_of(detail.get("given", {}).get(place) or "")) - set(wanted) - {""}
    return _asked(db, values, row, who, taken) if oid else _open_to_all(db, values, row)


def _open_to_all(db: Db, values: JsonObject, row: JsonView) -> str | None:
    """What the server itself says that a login without any rights of its own may do."""
    function = KINDS[row["kind"]][1]
    if function != "has_table_privilege":
        return None
    for right in ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE"):
        asked = db.execute(f"select {function}('public', %s::oid, %s) as may", [row["oid"], right]).fetchone()
        if asked is None or asked["may"]:
            return f"the server still says that every login may {right.lower()} on {values['name']}"
    return None


def _asked(db: Db, values: JsonObject, row: JsonView, who: str, taken: set[str]) -> str | None:
    """What the server itself says that a role may do, if no other way explains it."""
    function = KINDS[row["kind"]][1]
    if not function:
        return None
    named = row["name"] if row["kind"] == "parameter" else row["oid"]
    for right in sorted(taken - {"OWNER"}):
        place = (
            "%s::oid, %s::smallint" if row["kind"] == "column" else "%s" if row["kind"] == "parameter" else "%s::oid"
        )
        given = [values["who"], named, *([row["part"]] if row["kind"] == "column" else []), right]
        asked = db.execute(f"select {function}(%s::oid, {place}, %s) as may", given).fetchone()
        if asked is None or not asked["may"]:
            continue
        doors = db.execute(_with_objects(db, _DOORS), {**values, "oid": row["oid"], "privilege": right}).fetchone()
        if doors is None or not doors["found"]:
            return f"the server still says that {who} may {right.lower()} on {row['name']}"
    return None
