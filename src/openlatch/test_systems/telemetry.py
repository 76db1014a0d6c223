"""The hut telemetry database: a real PostgreSQL server with roles, memberships and open sessions."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from datetime import datetime, timedelta

import psycopg
from psycopg import sql

from openlatch.json_values import JsonObject, SqlTuple

DATABASE = "telemetry"
ADAPTER_LOGIN = "open_latch"
OWNER = "table_owner"
LOGIN_PASSWORD = "made-up-for-the-demo"  # noqa: S105  every login of a demo server that listens on loopback only

_TABLE = sql.SQL("create table {} (id bigserial primary key, at timestamptz, hut text, value real)")


def is_prepared(url: str) -> bool:
    """Whether its roles exist."""
    with psycopg.connect(url) as db:
        return db.execute("select 1 from pg_roles where rolname = %s", [ADAPTER_LOGIN]).fetchone() is not None


def prepare(url: str, plan: JsonObject, today: datetime, adapter_password: str) -> None:
    """Create tables, shared roles, logins and memberships, and the login of Open Latch with the least rights that it
    needs.

    ``url`` is the address of the database as its superuser; days in ``plan`` count from ``today``.
    """
    with psycopg.connect(url) as db:
        for table in plan["tables"]:
            db.execute(_TABLE.format(sql.Identifier(table)))
        for role in plan["shared"]:
            _make_shared(db, role)
        for login in plan["logins"]:
            until = (today + timedelta(days=login["until"] + 1)).isoformat() if login["until"] else "infinity"
            db.execute(
                sql.SQL("create role {} login password {} valid until {}").format(
                    sql.Identifier(login["name"]), sql.Literal(LOGIN_PASSWORD), sql.Literal(until)
                )
            )
        for role, member, admits in plan["members"]:
            form = "grant {} to {} with admin option" if admits else "grant {} to {}"
            db.execute(sql.SQL(form).format(sql.Identifier(role), sql.Identifier(member)))
        for table, login, right in plan.get("direct", ()):
            names = sql.Identifier(table), sql.Identifier(login)
            db.execute(sql.SQL("grant {} on {} to {}").format(sql.SQL(right), *names))
        make_adapter_login(db, adapter_password)
        _make_owner(db, plan["tables"])


def _make_shared(db: psycopg.Connection[SqlTuple], role: JsonObject) -> None:
    name = sql.Identifier(role["name"])
    db.execute(sql.SQL("create role {} nologin").format(name))
    db.execute(sql.SQL("comment on role {} is {}").format(name, sql.Literal(role["comment"])))
    for table in role["select"]:
        db.execute(sql.SQL("grant select on {} to {}").format(sql.Identifier(table), name))
    for table in role["change"]:
        db.execute(sql.SQL("grant insert, update, delete on {} to {}").format(sql.Identifier(table), name))


def _make_owner(db: psycopg.Connection[SqlTuple], tables: list[str]) -> None:
    """Create the role that owns the tables; as a member of it Open Latch can revoke rights on them."""
    db.execute(f"create role {OWNER} nologin")
    db.execute(f"comment on role {OWNER} is 'Owner of the tables'")
    db.execute(f"grant create on schema public to {OWNER}")
    for table in tables:
        db.execute(sql.SQL("alter table {} owner to {}").format(sql.Identifier(table), sql.Identifier(OWNER)))
    db.execute(sql.SQL("grant {} to {}").format(sql.Identifier(OWNER), sql.Identifier(ADAPTER_LOGIN)))


def make_adapter_login(db: psycopg.Connection[SqlTuple], password: str) -> None:
    """Create the login with which Open Latch reads and changes the server, with the rights that it needs."""
    db.execute(
        sql.SQL("create role {} login createrole password {}").format(
            sql.Identifier(ADAPTER_LOGIN), sql.Literal(password)
        )
    )
    db.execute(sql.SQL("grant pg_read_all_stats, pg_signal_backend to {}").format(sql.Identifier(ADAPTER_LOGIN)))


class OpenSessions:
    """Sessions held open by logins: idle connections, until somebody ends them."""

    def __init__(self, host: str, port: int, database: str = DATABASE) -> None:
        self._where = {"host": host, "port": port, "dbname": database}
        self._open: list[psycopg.Connection[SqlTuple]] = []

    def open(self, sessions: Iterable[tuple[str, str]]) -> None:
        """Open a session for each login and program name."""
        for login, program in sessions:
            connection = psycopg.connect(
                **self._where,  # type: ignore[arg-type]
                user=login,
                password=LOGIN_PASSWORD,
                application_name=program,
                autocommit=True,
            )
            self._open.append(connection)

    def close(self) -> None:
        """Close all of them."""
        for connection in self._open:
            # A session that the server ended can't be closed cleanly.
            with suppress(psycopg.Error):
                connection.close()


def members(url: str) -> set[str]:
    """The logins that still have a membership."""
    with psycopg.connect(url) as db:
        rows = db.execute("select distinct m.rolname from pg_auth_members a join pg_roles m on m.oid = a.member")
        return {name for (name,) in rows}
