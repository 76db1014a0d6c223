"""PostgreSQL servers: login roles are people or apps, shared roles are accounts, memberships are grants.

Rights on databases, schemas and tables, and of roles as such, are in ``postgresql_rights``. The rights that this
needs, and no more: CREATEROLE (to take memberships away), and membership in pg_read_all_stats
(to see sessions) and pg_signal_backend (to end them). See https://www.postgresql.org/docs/15/ chapters 22
(roles), 28.2 (pg_stat_activity) and 9.27.2 (pg_terminate_backend).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any, LiteralString

import psycopg
from psycopg import sql
from psycopg.rows import dict_row

from openlatch.adapters import postgresql_rights as rights
from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Presence,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.core.revocation import Move
from openlatch.core.windows import is_far_away
from openlatch.core.words import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused

CONNECT_SECONDS = 5
STATEMENT_SECONDS = 20

_SEE = ("see", "See the data in its tables", Reach.OBSERVE)
_CHANGE = ("change", "Add, change and delete data in its tables", Reach.OPERATE)
_ADMIT = ("admit", "Let others in and put them out", Reach.STEWARD)
LEVELS = (
    FoundLevel("reader", "Reader", "Can see the data, and change nothing.", (_SEE,)),
    FoundLevel("operator", "Operator", "Can see and change the data.", (_SEE, _CHANGE)),
    FoundLevel("keeper", "Keeper", "Can see and change the data, and let others in.", (_SEE, _CHANGE, _ADMIT)),
)

_ROLES: LiteralString = """
    select rolname as name, rolcanlogin as can_login, rolsuper, rolcreaterole, rolcreatedb, rolreplication,
           rolbypassrls, rolconnlimit as connections,
           case when isfinite(rolvaliduntil) then rolvaliduntil end as valid_until,
           coalesce(shobj_description(oid, 'pg_authid'), '') as comment
    from pg_roles where rolname !~ '^pg_' order by rolname
"""
_MEMBERS: LiteralString = """
    select role.rolname as account, member.rolname as holder, bool_or(m.admin_option) as admits
    from pg_auth_members m join pg_roles role on role.oid = m.roleid join pg_roles member on member.oid = m.member
    where role.rolname !~ '^pg_' and member.rolname !~ '^pg_'
    group by 1, 2 order by 1, 2
"""
_CHANGERS: LiteralString = """
    select distinct grantee.rolname as name
    from pg_class c cross join lateral aclexplode(c.relacl) acl join pg_roles grantee on grantee.oid = acl.grantee
    where acl.privilege_type in ('INSERT', 'UPDATE', 'DELETE', 'TRUNCATE')
"""
_RIGHTS: LiteralString = """
    select rolcreaterole or rolsuper as "CREATEROLE",
        pg_has_role(oid, 'pg_read_all_stats', 'usage') as "membership in pg_read_all_stats",
        pg_has_role(oid, 'pg_signal_backend', 'usage') as "membership in pg_signal_backend"
    from pg_roles where rolname = current_user
"""
_SESSIONS: LiteralString = """
    select pid, usename as login, application_name as program, coalesce(host(client_addr), 'local') as address,
           backend_start as started, coalesce(state_change, backend_start) as seen
    from pg_stat_activity
    where backend_type = 'client backend' and usename is not null and pid <> pg_backend_pid() order by pid
"""


# A login is locked by its connection limit: it stays a login, and what it holds stays in sight.
_OF_LOGINS: dict[StepKind, LiteralString] = {
    StepKind.LOCK: "alter role {} connection limit 0",
    StepKind.UNLOCK: "alter role {} connection limit -1",
    StepKind.DROP: "drop role {}",
}


class PostgresqlAdapter(Adapter):
    """Reads and changes one PostgreSQL server.

    ``settings``: ``host``, ``port``, ``database``, ``user``, and ``app_prefix``: login roles whose names begin
    with it are apps. ``secret`` is the password.
    """

    def __init__(self, settings: dict[str, Any], secret: str) -> None:
        self._settings = settings
        self._secret = secret
        self._is_together = False
        self._kept: psycopg.Connection[dict[str, Any]] | None = None

    settings_taken = (
        Setting("host", "The server's address."),
        Setting("port", "Its port.", 5432),
        Setting("database", "A database on it."),
        Setting("user", "Open Latch's login there."),
        Setting("app_prefix", "Logins whose names begin with it are apps.", "app_"),
        Setting(
            "rights", "What is read besides memberships: all (databases, schemas, tables, attributes) or none.", "all"
        ),
    )
    can = Abilities(
        steps=frozenset(StepKind) - {StepKind.BY_HAND, StepKind.READ_AGAIN},
        rights=(
            "CREATEROLE, to take memberships away and to lock logins",
            "membership in pg_read_all_stats, to see sessions",
            "membership in pg_signal_backend, to end sessions",
            "membership in the owners of tables, schemas and databases, to take rights on them away; superuser for the "
            "attributes superuser, replication and bypassrls",
        ),
        sessions=True,
    )

    def check(self) -> None:
        """Sign in, and look whether the login has the rights that it needs."""
        with self._connection() as db:
            row = db.execute(_RIGHTS).fetchone()
        lacking = [name for name, has in (row or {}).items() if not has]
        if lacking:
            raise SystemRefused(
                f"The login {self._settings['user']} lacks {', '.join(lacking)}.",
                "Give it that, as the PostgreSQL page of the systems guide says.",
            )

    def plan(self, kind: StepKind, detail: dict[str, Any]) -> tuple[Move, ...]:
        """One statement does it, or one for each place."""
        places = detail.get("places")
        if not places:
            return (Move(kind, detail),)
        rest = {key: value for key, value in detail.items() if key != "places"}
        moves = [Move(kind, {**rest, "place": place}, f"on {place.partition(':')[2]}") for place in places]
        return (*moves[:-1], Move(kind, moves[-1].detail))

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """All roles, memberships and sessions, in one snapshot."""
        with self._connection() as db:
            roles = db.execute(_ROLES).fetchall()
            members = db.execute(_MEMBERS).fetchall()
            changers = {row["name"] for row in db.execute(_CHANGERS)}
            sessions = db.execute(_SESSIONS).fetchall()
            own = self._settings["user"]
            logins = {r["name"]: r for r in roles if r["can_login"] and r["name"] != own}
            shared = {r["name"]: r for r in roles if not r["can_login"]}
            besides = self._settings.get("rights", "all") == "all"
            found = list(rights.holdings(db, {**logins, **shared}, set(logins))) if besides else []
            hangs = rights.hanging(db)
        prefix = self._settings.get("app_prefix") or "\0"
        yield from LEVELS
        for name, role in shared.items():
            yield SharedAccount(name, role["comment"])
        for name, role in logins.items():
            locked, hanging = role["connections"] == 0, hangs.get(name, ())
            yield Login(name, role["comment"], name.startswith(prefix), {"uid": name}, locked, hanging)
        yield from found
        for member in members:
            if member["account"] in shared and (member["holder"] in logins or member["holder"] in shared):
                yield _holding(member, logins.get(member["holder"]), shared[member["account"]], changers)
        for session in sessions:
            if session["login"] in logins:
                yield _presence(session)
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Only the right to let others in can be taken from a membership; the rest is the shared role's."""
        return level == "keeper" and lower in ("operator", "reader")

    def holding(self, account: str, login: str, level: str) -> dict[str, Any]:
        """A membership, with the admin option for a keeper; or rights on one place, or of a role as such.

        What the rest of a membership may do is the shared role's.
        """
        if account == rights.SERVER:
            return {"holder": login, "attributes": level.removeprefix("is ").split("+")}
        if account.partition(":")[0] in ("table", "schema", "database"):
            return {"holder": login, "place": account, "level_key": level}
        return {"role": account, "member": login, **({"admits": "yes"} if level == "keeper" else {})}

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """GIVE, REMOVE and REDUCE act on a membership, END_SESSIONS on one server process."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with self._connection() as db:
            if kind is StepKind.END_SESSIONS:
                db.execute(
                    "select pg_terminate_backend(pid, 5000) from pg_stat_activity "
                    "where pid = %s and backend_start = %s",
                    [detail["pid"], detail["started"]],
                )
                return f"Ended server process {detail['pid']}."
            if kind in _OF_LOGINS:
                statement = sql.SQL(_OF_LOGINS[kind]).format(sql.Identifier(detail["login"]))
                db.execute(statement)
                return f"Carried out: {statement.as_string(db)}"
            if "holder" in detail:
                return rights.apply(db, kind, detail)
            role, member = sql.Identifier(detail["role"]), sql.Identifier(detail["member"])
            forms: dict[StepKind, LiteralString] = {
                StepKind.GIVE: "grant {} to {} with admin option" if detail.get("admits") else "grant {} to {}",
                StepKind.REDUCE: "revoke admin option for {} from {}",
            }
            form = forms.get(kind, "revoke {} from {}")
            statement = sql.SQL(form).format(role, member)
            db.execute(statement)
            return f"Carried out: {statement.as_string(db)}"

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """None when the membership is there (GIVE), or is gone, or its admin option or the session is."""
        with self._connection() as db:
            if kind is StepKind.END_SESSIONS:
                alive = db.execute(
                    "select 1 from pg_stat_activity where pid = %s and backend_start = %s",
                    [detail["pid"], detail["started"]],
                ).fetchone()
                return f"server process {detail['pid']} is still there" if alive else None
            if kind in _OF_LOGINS:
                role = db.execute(
                    "select rolcanlogin and rolconnlimit <> 0 as open from pg_roles where rolname = %s",
                    [detail["login"]],
                ).fetchone()
                return _login_wrong(kind, detail["login"], role["open"] if role else None)
            if "holder" in detail:
                return rights.confirm(db, kind, detail)
            row = db.execute(
                # Both looked up first, so that a server of many roles is not searched for each membership.
                "select bool_or(admin_option) as admits from pg_auth_members "
                "where roleid = (select oid from pg_roles where rolname = %s) "
                "and member = (select oid from pg_roles where rolname = %s) having count(*) > 0",
                [detail["role"], detail["member"]],
            ).fetchone()
        if kind is StepKind.GIVE:
            there = row is not None and (row["admits"] or not detail.get("admits"))
            return None if there else f"{detail['member']} is not yet a member of {detail['role']} as it should be"
        if row is None or (kind is StepKind.REDUCE and not row["admits"]):
            return None
        what = "may still let others into" if kind is StepKind.REDUCE else "is still a member of"
        return f"{detail['member']} {what} {detail['role']}"

    @contextmanager
    def together(self) -> Iterator[None]:
        """One connection for all calls, as long as it lasts; each statement is a transaction of its own."""
        self._is_together = True
        try:
            yield
        finally:
            self._is_together = False
            self._let_go()

    def _let_go(self) -> None:
        kept, self._kept = self._kept, None
        if kept is not None:
            kept.close()

    @contextmanager
    def _connection(self) -> Iterator[psycopg.Connection[dict[str, Any]]]:
        try:
            if not self._is_together:
                with self._connect(autocommit=False) as db:
                    yield db
                return
            if self._kept is None or self._kept.closed:
                self._kept = self._connect(autocommit=True)
            yield self._kept
        except psycopg.OperationalError as error:
            self._let_go()
            raise SystemDown(
                f"The PostgreSQL server did not answer: {_first_line(error)}",
                "It will be tried again; look whether the server runs and can be reached.",
            ) from error
        except psycopg.Error as error:
            raise SystemRefused(
                f"The PostgreSQL server refused: {_first_line(error)}",
                f"Look whether the login {self._settings['user']} has CREATEROLE, pg_read_all_stats and "
                "pg_signal_backend.",
            ) from error

    def _connect(self, autocommit: bool) -> psycopg.Connection[dict[str, Any]]:
        return psycopg.connect(
            host=self._settings["host"],
            port=self._settings["port"],
            dbname=self._settings["database"],
            user=self._settings["user"],
            password=self._secret,
            connect_timeout=CONNECT_SECONDS,
            application_name="open latch",
            options=f"-c statement_timeout={STATEMENT_SECONDS * 1000} -c timezone=UTC "
            "-c default_transaction_isolation=repeatable\\ read",
            row_factory=dict_row,
            autocommit=autocommit,
        )


def _login_wrong(kind: StepKind, name: str, is_open: bool | None) -> str | None:
    """What is wrong with a login after a step. One that is not there (None) is as good as locked."""
    if kind is StepKind.DROP:
        return None if is_open is None else f"the login {name} is still there"
    if kind is StepKind.UNLOCK:
        return None if is_open else f"{name} may not sign in"
    return f"{name} may still sign in" if is_open else None


def _first_line(error: Exception) -> str:
    return next(iter(str(error).splitlines()), type(error).__name__)


def _holding(
    member: dict[str, Any], login: dict[str, Any] | None, account: dict[str, Any], changers: set[str]
) -> Holding:
    level = "reader"
    if account["name"] in changers:
        level = "operator"
    if member["admits"] or account["rolcreaterole"] or account["rolsuper"]:
        level = "keeper"
    until: datetime | None = login["valid_until"].astimezone(UTC) if login and login["valid_until"] else None
    return Holding(
        account=member["account"],
        holder=member["holder"],
        holder_is_account=login is None,
        level=level,
        until=None if until and is_far_away(until) else until,
        handle={"role": member["account"], "member": member["holder"]},
    )


def _presence(row: dict[str, Any]) -> Presence:
    started = row["started"].astimezone(UTC)
    return Presence(
        key=f"{row['pid']}@{started.isoformat()}",
        login=row["login"],
        device=row["program"] or "unnamed program",
        address=row["address"],
        started_at=started,
        last_seen_at=row["seen"].astimezone(UTC),
        handle={"pid": row["pid"], "started": started.isoformat()},
    )
