"""A PostgreSQL server with every way of holding something: for each login, object and right the server is asked."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import psycopg
import pytest

from openlatch.adapters import Reading
from openlatch.adapters.contract import Holding
from openlatch.adapters.postgresql.adapter import PostgresqlAdapter
from openlatch.adapters.postgresql.rights import KINDS
from openlatch.adapters.postgresql.wording import rights_of
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.runtime.cluster import Cluster
from openlatch.test_systems import telemetry
from tests.conftest import ADAPTER_PASSWORD, telemetry_settings

WORLD = (Path(__file__).parent / "data" / "postgresql.sql").read_text()
TABLE = ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER")
RIGHTS = {
    "table": TABLE,
    "column": ("SELECT", "INSERT", "UPDATE", "REFERENCES"),
    "sequence": ("USAGE", "SELECT", "UPDATE"),
    "function": ("EXECUTE",),
    "schema": ("CREATE", "USAGE"),
    "database": ("CREATE",),
    "type": ("USAGE",),
    "foreign server": ("USAGE",),
    "foreign data wrapper": ("USAGE",),
    "tablespace": ("CREATE",),
}
# What a superuser has, or a member of a predefined role, without anything being given by name.
READS, WRITES = {"SELECT"}, {"INSERT", "UPDATE", "DELETE"}
# The server's own answer: what a login may do, itself or as any role that it may become.
MAY = """
    select exists (select from pg_roles r where pg_has_role(%s::name, r.oid, 'member')
        and {function}(r.oid, {place}, %s))
"""


@pytest.fixture(scope="module")
def server(make_telemetry: Callable[[str], Cluster]) -> Cluster:
    made = make_telemetry("postgresql-world")
    with psycopg.connect(made.url(telemetry.DATABASE), autocommit=True) as db:
        for statement in WORLD.split(";\n"):
            if statement.strip():
                db.execute(statement.encode())
    return made


@pytest.fixture
def db(server: Cluster) -> Iterator[psycopg.Connection[Any]]:
    """The server as its superuser, who may take what Open Latch's login may not."""
    with psycopg.connect(server.url(telemetry.DATABASE), autocommit=True) as made:
        yield made


@pytest.fixture
def adapter(server: Cluster, db: psycopg.Connection[Any]) -> PostgresqlAdapter:
    """As a superuser: what can be taken away at all, is."""
    db.execute("alter role open_latch superuser")
    return PostgresqlAdapter(telemetry_settings(server), ADAPTER_PASSWORD)


class Shown:
    """What a reading says that a login may do, along every path."""

    def __init__(self, reading: Reading) -> None:
        self.reading = reading
        self.kinds = {account.handle: account.kind for account in reading.accounts}
        self.held: dict[str, dict[str, set[str]]] = {}
        self.of: dict[str, set[str]] = {}

    def look(self, login: str) -> None:
        self.held[login], self.of[login] = {}, set()
        seen: set[tuple[str, bool]] = set()
        waiting = [(login, False)]
        while waiting:
            who = waiting.pop()
            if who in seen:
                continue
            seen.add(who)
            for holding in self.reading.holdings:
                if (holding.holder, holding.holder_is_account) == who:
                    self._add(login, holding)
                    if self.kinds[holding.account] in ("role", "everyone"):
                        waiting.append((holding.account, True))

    def _add(self, login: str, holding: Any) -> None:
        if holding.account == "server":
            self.of[login] |= set(holding.level.removeprefix("is ").split("+"))
        if self.kinds[holding.account] == "predefined role":
            self.of[login].add(holding.account)
        if self.kinds[holding.account] == "database":
            for place, level in (*holding.parts, (holding.account, holding.level)):
                if level and level != "everyone":
                    rights = set(TABLE) | {"USAGE", "CREATE", "EXECUTE"} if level == "owner" else set(rights_of(level))
                    self.held[login].setdefault(place, set()).update(rights)

    def may(self, login: str, kind: str, name: str, right: str, table: str) -> bool:
        of = self.of[login]
        if "superuser" in of or right in self.held[login].get(f"{kind}:{name}", set()):
            return True
        if kind == "column" and right in self.held[login].get(f"table:{table}", set()):
            return True
        reads, writes = "pg_read_all_data" in of, "pg_write_all_data" in of
        if kind in ("table", "column", "sequence"):
            return bool(
                (reads and right == "SELECT") or (writes and right in (WRITES if kind != "sequence" else {"UPDATE"}))
            )
        return kind == "schema" and right == "USAGE" and (reads or writes)


def objects(db: psycopg.Connection[Any]) -> list[tuple[str, str, str, list[Any]]]:
    """Kind, name, what has_…_privilege takes for it, and the table of a column: looked up without our queries."""
    found = []
    for oid, schema, name, kind in db.execute(
        "select c.oid, n.nspname, c.relname, c.relkind from pg_class c join pg_namespace n on n.oid = c.relnamespace "
        "where c.relkind in ('r', 'v', 'm', 'S') and (n.nspname ilike 'w%' or n.nspname = 'public')"
    ).fetchall():
        named = f"{ident(db, schema)}.{ident(db, name)}"
        found.append(("sequence" if kind == "S" else "table", named, named, [oid]))
        for number, column in db.execute(
            "select attnum, attname from pg_attribute where attrelid = %s and attnum > 0 and attacl is not null", [oid]
        ).fetchall():
            found.append(("column", f"{named}.{ident(db, column)}", named, [oid, number]))
    for query, kind in (
        ("select oid, oid::regprocedure::text from pg_proc where proname in ('quiet', 'does', 'as_owner')", "function"),
        ("select oid, oid::regtype::text from pg_type where typname = 'mood'", "type"),
        ("select oid, nspname from pg_namespace where nspname ilike 'w%'", "schema"),
        ("select oid, srvname from pg_foreign_server", "foreign server"),
        ("select oid, fdwname from pg_foreign_data_wrapper", "foreign data wrapper"),
        ("select oid, spcname from pg_tablespace where spcname = 'pg_default'", "tablespace"),
        ("select oid, datname from pg_database where datname = 'telemetry'", "database"),
    ):
        for oid, name in db.execute(query.encode()).fetchall():
            said = {
                "w_schema.quiet(integer,text)": "w_schema.quiet(a integer, b text)",
                "w_schema.does(integer)": "w_schema.does(IN a integer)",
            }.get(name, name)
            found.append((kind, said, said, [oid]))
    return found


def ident(db: psycopg.Connection[Any], name: str) -> str:
    row = db.execute("select quote_ident(%s)", [name]).fetchone()
    assert row
    return str(row[0])


def asked(db: psycopg.Connection[Any], login: str, kind: str, place: list[Any], right: str) -> bool:
    """What the server says."""
    casts = "%s::oid, %s::smallint" if len(place) == 2 else "%s::oid"
    query = MAY.format(function=KINDS[kind][1], place=casts)
    row = db.execute(query.encode(), [login, *place, right]).fetchone()
    assert row
    return bool(row[0])


def facts(db: psycopg.Connection[Any], reading: Reading, logins: list[str]) -> tuple[int, list[str], list[str]]:
    """How many were compared, what is shown and not so, and what is so and not shown."""
    shown = Shown(reading)
    compared, wrong, missing = 0, [], []
    for login in logins:
        shown.look(login)
        for kind, name, table, place in objects(db):
            for right in RIGHTS[kind]:
                says = asked(db, login, kind, place, right)
                tells = shown.may(login, kind, name, right, table)
                compared += 1
                if says != tells and not (says and _is_usual(kind, name, right)):
                    (missing if says else wrong).append(f"{login}: {right} on {kind} {name}")
    return compared, wrong, missing


def _is_usual(kind: str, name: str, right: str) -> bool:
    """What every login has on everything by itself, and is no door: looking names up, as in any server."""
    return (kind, right) == ("schema", "USAGE") and name == "w_schema"


def logins_of(db: psycopg.Connection[Any]) -> list[str]:
    rows = db.execute("select rolname from pg_roles where rolcanlogin and rolname ilike 'w%' order by 1").fetchall()
    return [row[0] for row in rows]


def test_what_a_reading_says_is_what_the_server_says(
    adapter: PostgresqlAdapter, db: psycopg.Connection[Any], record_testsuite_property: Callable[[str, object], None]
) -> None:
    """For each login, object and right: nothing that is not so, and nothing left out."""
    reading = Reading.of(adapter.read())
    compared, wrong, missing = facts(db, reading, logins_of(db))
    record_testsuite_property("facts in PostgreSQL", compared)
    assert (wrong, missing) == ([], [])
    assert compared > 1000
    held = {(h.account, h.holder): h for h in reading.holdings if not h.holder_is_account}
    parts = dict(held["database:telemetry", "w_column"].parts)
    assert parts["large object:424242"] == "select+update"
    assert parts["parameter:log_statement"] == "set"
    assert dict(held["database:telemetry", "w_trigger"].parts)["parameter:work_mem"] == "alter system"
    assert dict(held["database:telemetry", "w_files"].parts)["function:pg_catalog.pg_read_file(text)"] == "execute"
    assert held["pg_read_server_files", "w_files"].level == "pg_read_server_files"
    assert held["w_shared", "w_admin_of"].level == "keeper"
    (definer,) = [part.name for part in reading.parts if "as_owner" in part.handle]
    assert "runs with the rights of its owner" in definer
    assert any("not supported" in gap.words for c in reading.coverage for gap in c.gaps)


def test_what_is_confirmed_gone_is_gone_and_comes_back_as_it_was(
    adapter: PostgresqlAdapter, db: psycopg.Connection[Any]
) -> None:
    """Every holding of every login: taken, asked of the server, given again. What can't be taken is never confirmed."""
    gone, refused = 0, []
    before = Reading.of(adapter.read())
    # Those who gave rights on come before those to whom they gave them.
    for holding in sorted(before.holdings, key=lambda one: one.holder, reverse=True):
        who = holding.holder
        if holding.holder_is_account or not who.lower().startswith("w") or "everyone" in holding.handle:
            continue
        if "given_on" in holding.handle:
            # Others lose theirs with it: the next test's.
            continue
        for move in adapter.plan(StepKind.REMOVE, holding.handle):
            try:
                adapter.apply(move.kind, move.detail)
            except SystemRefused as error:
                refused.append(error.detail)
                assert adapter.confirm(move.kind, move.detail) is not None
                continue
            assert adapter.confirm(move.kind, move.detail) is None
            assert not named(db, who, move.detail)
            back = {**holding.handle, **move.detail}
            if "place" in move.detail:
                back["places"] = [move.detail["place"]]
            adapter.apply(StepKind.GIVE, back)
            assert adapter.confirm(StepKind.GIVE, back) is None
            gone += 1
    assert gone > 30
    assert all("owns the" in said for said in refused), refused
    after = Reading.of(adapter.read())
    # What was given on is given again by the owner: the rights are the same, and no longer hang on whoever gave them.
    assert sorted(map(str, map(alone, after.holdings))) == sorted(map(str, map(alone, before.holdings)))


def alone(holding: Holding) -> Holding:
    """Without what others lose with it."""
    handle = {key: value for key, value in holding.handle.items() if key not in ("given_on", "also_ends")}
    return replace(holding, handle=handle)


def test_what_was_given_on_ends_with_it_when_that_was_said_before(
    adapter: PostgresqlAdapter, db: psycopg.Connection[Any]
) -> None:
    """The whole chain; whoever has the right from somebody else keeps it, and nobody loses more than was said."""
    for statement in (
        "revoke update on w_schema.plain from w_from_other",
        "create role w_last login",
        "create role w_keeps login",
        "grant update on w_schema.plain to w_keeps",
        "set role w_granted_on",
        "grant update on w_schema.plain to w_from_other with grant option",
        "grant update on w_schema.plain to w_keeps",
        "set role w_from_other",
        "grant update on w_schema.plain to w_last",
        "reset role",
    ):
        db.execute(statement.encode())
    there = [h for h in Reading.of(adapter.read()).holdings if h.holder == "w_granted_on" and "given_on" in h.handle]
    (holding,) = there
    assert holding.handle["given_on"] == {"table:w_schema.plain": {"w_from_other": ["update"], "w_last": ["update"]}}
    assert holding.handle["also_ends"][0] == "w_from_other loses update on w_schema.plain, which w_granted_on gave on"
    (move,) = adapter.plan(StepKind.REMOVE, holding.handle)
    db.execute("set role w_granted_on")
    db.execute("grant update on w_schema.plain to w_plain")
    db.execute("reset role")
    with pytest.raises(SystemRefused, match="w_plain would lose"):
        adapter.apply(move.kind, move.detail)
    db.execute("grant update on w_schema.plain to w_plain")
    assert "cascade" in adapter.apply(move.kind, move.detail)
    assert adapter.confirm(move.kind, move.detail) is None
    place = next(place for kind, name, _, place in objects(db) if (kind, name) == ("table", "w_schema.plain"))
    may = {who for who in logins_of(db) if asked(db, who, "table", place, "UPDATE")}
    assert {"w_granted_on", "w_from_other", "w_last"} & may == set()
    assert {"w_keeps", "w_plain"} <= may
    for statement in (
        "grant update on w_schema.plain to w_granted_on with grant option",
        "set role w_granted_on",
        "grant update on w_schema.plain to w_from_other",
        "reset role",
        "revoke update on w_schema.plain from w_plain, w_keeps",
        "drop role w_last, w_keeps",
    ):
        db.execute(statement.encode())


def named(db: psycopg.Connection[Any], who: str, detail: dict[str, Any]) -> bool:
    """Whether the server still has what a step took: by its access lists as text, and its memberships."""
    if "role" in detail:
        row = db.execute(
            "select 1 from pg_auth_members where roleid = %s::regrole and member = %s::regrole",
            [ident(db, detail["role"]), ident(db, who)],
        ).fetchone()
        return row is not None
    if "attributes" in detail:
        row = db.execute("select rolsuper or rolbypassrls from pg_roles where rolname = %s", [who]).fetchone()
        return bool(row and row[0])
    kind, _, name = detail["place"].partition(":")
    for found, called, _, place in objects(db):
        if (found, called) == (kind, name) and found == "table":
            row = db.execute("select coalesce(relacl::text, '') from pg_class where oid = %s", place).fetchone()
            assert row
            return f"{ident(db, who)}=" in row[0].replace('\\"', '"')
    return False


def test_truncate_alone_comes_back_as_truncate_alone(adapter: PostgresqlAdapter, db: psycopg.Connection[Any]) -> None:
    """And not as every way of changing the table."""
    holding = next(h for h in Reading.of(adapter.read()).holdings if h.holder == "w_only_truncate" and h.parts)
    (move,) = adapter.plan(StepKind.REMOVE, holding.handle)
    adapter.apply(move.kind, move.detail)
    back = adapter.again(holding.handle)
    assert back is not None
    adapter.apply(StepKind.GIVE, back)
    place = next(place for kind, name, _, place in objects(db) if (kind, name) == ("table", "w_schema.plain"))
    may = {right for right in TABLE if asked(db, "w_only_truncate", "table", place, right)}
    assert may == {"TRUNCATE"}


def test_a_role_that_was_dropped_and_made_anew_is_somebody_else(
    adapter: PostgresqlAdapter, db: psycopg.Connection[Any]
) -> None:
    """What is taken from the old one is not taken from the new one."""
    db.execute("create role w_again login")
    db.execute("grant w_shared to w_again")
    old = next(h for h in Reading.of(adapter.read()).holdings if (h.account, h.holder) == ("w_shared", "w_again"))
    first = next(x for x in Reading.of(adapter.read()).logins if x.handle == "w_again")
    db.execute("drop role w_again")
    db.execute("create role w_again login")
    db.execute("grant w_shared to w_again")
    (move,) = adapter.plan(StepKind.REMOVE, old.handle)
    assert "already" in adapter.apply(move.kind, move.detail)
    row = db.execute("select pg_has_role('w_again', 'w_shared', 'member')").fetchone()
    assert row == (True,)
    then = next(x for x in Reading.of(adapter.read()).logins if x.handle == "w_again")
    assert first.marks["identity"] != then.marks["identity"]
    db.execute("drop role w_again")


def test_what_has_another_name_by_now_is_not_gone(adapter: PostgresqlAdapter, db: psycopg.Connection[Any]) -> None:
    """Roles and tables keep their rights when they are renamed; what was dropped has none."""
    db.execute("create role w_old login createdb")
    db.execute("create table w_moves (id int)")
    db.execute("grant select on w_moves to w_old")
    db.execute("grant w_shared to w_old")
    held = [h for h in Reading.of(adapter.read()).holdings if h.holder == "w_old" and "everyone" not in h.handle]
    moves = [move for holding in held for move in adapter.plan(StepKind.REMOVE, holding.handle)]
    assert len(moves) == 3
    (of_table,) = [move for move in moves if "place" in move.detail]
    for change, back in (
        ("alter role w_old rename to w_new", "alter role w_new rename to w_old"),
        ("alter table w_moves rename to w_moved", "alter table w_moved rename to w_moves"),
    ):
        db.execute(change.encode())
        for move in moves if "role" in change else [of_table]:
            with pytest.raises(SystemRefused, match="by now"):
                adapter.confirm(move.kind, move.detail)
        db.execute(back.encode())
    for nobody in ("w_new", "w_never"):
        with pytest.raises(SystemRefused, match="renamed"):
            adapter.confirm(StepKind.LOCK, {"login": nobody})
        with pytest.raises(SystemRefused, match="renamed"):
            adapter.confirm(StepKind.REMOVE, {"role": "w_shared", "member": nobody})
    db.execute("drop table w_moves")
    assert adapter.confirm(of_table.kind, of_table.detail) is None
    db.execute("drop role w_old")
    assert [adapter.confirm(move.kind, move.detail) for move in moves] == [None] * 3


def test_a_session_that_is_hidden_from_us_is_not_gone(
    server: Cluster, adapter: PostgresqlAdapter, db: psycopg.Connection[Any]
) -> None:
    """Without the right to see it the server shows that there is a process, and not since when."""
    opened = telemetry.OpenSessions("127.0.0.1", server.port)
    opened.open([("s_bakke", "psql")])
    (presence,) = [p for p in Reading.of(adapter.read()).presences if p.login == "s_bakke"]
    db.execute("alter role open_latch nosuperuser")
    db.execute("revoke pg_read_all_stats from open_latch")
    with pytest.raises(SystemRefused, match="does not show"):
        adapter.confirm(StepKind.END_SESSIONS, presence.handle)
    db.execute("grant pg_read_all_stats to open_latch")
    assert "still there" in str(adapter.confirm(StepKind.END_SESSIONS, presence.handle))
    opened.close()


def test_a_superuser_is_not_locked_by_a_limit(
    server: Cluster, adapter: PostgresqlAdapter, db: psycopg.Connection[Any]
) -> None:
    """The server lets them in all the same: the lock takes more, and stays in sight as that of a login."""

    def login() -> Any:
        return next(x for x in Reading.of(adapter.read()).logins if x.handle == "w_super")

    db.execute("alter role w_super connection limit 0")
    db.execute("alter role w_super password 'over and over'")
    url = server.url(telemetry.DATABASE)
    assert "superuser" in str(adapter.confirm(StepKind.LOCK, {"login": "w_super"}))
    assert not login().locked
    psycopg.connect(url, user="w_super", password="over and over").close()
    adapter.apply(StepKind.LOCK, {"login": "w_super"})
    assert adapter.confirm(StepKind.LOCK, {"login": "w_super"}) is None
    assert login().locked
    with pytest.raises(psycopg.OperationalError, match="not permitted to log in"):
        psycopg.connect(url, user="w_super", password="over and over")
    adapter.apply(StepKind.UNLOCK, {"login": "w_super"})
    assert adapter.confirm(StepKind.UNLOCK, {"login": "w_super"}) is None
    psycopg.connect(url, user="w_super", password="over and over").close()
    assert not login().locked


def test_what_can_not_be_taken_is_said_before_it_has_to_be(
    server: Cluster, adapter: PostgresqlAdapter, db: psycopg.Connection[Any]
) -> None:
    """With what is needed for it; a superuser can take everything."""
    able = Reading.of(adapter.read()).coverage
    assert [one for told in able for one in told.unable] == []
    db.execute("alter role open_latch nosuperuser")
    told = [one for told in Reading.of(adapter.read()).coverage for one in told.unable]
    (owners,) = [one for one in told if one.startswith("rights on")]
    assert owners.endswith("of telemetry_owner: make Open Latch's login a member of telemetry_owner")
    assert any("w_bypass, w_super: only a superuser can" in one for one in told)


def test_what_every_login_has_is_a_door_that_is_named(adapter: PostgresqlAdapter) -> None:
    """Also for one who holds nothing by name; and it can't be taken from them alone."""
    reading = Reading.of(adapter.read())
    (door,) = [h for h in reading.holdings if h.holder == "everyone:database:telemetry"]
    assert dict(door.parts)["table:w_schema.open_to_all"] == "select"
    (of,) = [h for h in reading.holdings if h.holder == "w_nothing"]
    assert of.account == "everyone:database:telemetry"
    (move,) = adapter.plan(StepKind.REMOVE, of.handle)
    assert "every login has" in str(adapter.confirm(move.kind, move.detail))
    with pytest.raises(SystemRefused, match="can't be taken from one alone"):
        adapter.apply(move.kind, move.detail)
