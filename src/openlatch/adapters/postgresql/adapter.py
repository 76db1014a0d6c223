"""PostgreSQL servers: login roles are people or apps, shared roles are accounts, memberships are grants.

Predefined roles, and logins that others are members of, are accounts too. Rights on objects, and of roles as such, are
in ``postgresql_rights``. The rights that this needs: CREATEROLE (to take memberships away), and membership
in pg_read_all_stats (to see sessions) and pg_signal_backend (to end them). See https://www.postgresql.org/docs/15/
chapters 22 (roles), 28.2 (pg_stat_activity) and 9.27.2 (pg_terminate_backend).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC
from typing import LiteralString

import psycopg
from psycopg import sql
from psycopg.rows import dict_row

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    Holding,
    Login,
    Presence,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.limits import (
    CALL_SECONDS,
    CONNECT_SECONDS,
    READING_SECONDS,
    STATEMENT_SECONDS,
    cut_off_after,
)
from openlatch.adapters.postgresql import rights
from openlatch.adapters.postgresql.exposure import MANNER, doors
from openlatch.adapters.postgresql.wording import MEMBERSHIPS, predefined_level, rights_of
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, JsonView, SqlRow

# A predefined role begins with this; no other role may.
_PREDEFINED = "pg_"
_ROLES: LiteralString = """
    select oid::text as oid, rolname as name, rolcanlogin or rolsuper and rolconnlimit = 0 as can_login,
        rolcanlogin as is_let_in, rolsuper, rolcreaterole, rolcreatedb,
           rolreplication, rolbypassrls, rolconnlimit as connections, rolinherit as inherits,
           to_char(case when isfinite(rolvaliduntil) then rolvaliduntil end at time zone 'utc', 'YYYY-MM-DD HH24:MI')
               as password_until,
           coalesce(shobj_description(oid, 'pg_authid'), '') as comment,
           exists (select from pg_auth_members m where m.roleid = r.oid) as has_members
    from pg_roles r order by rolname
"""
_MEMBERS: LiteralString = """
    select role.rolname as account, member.rolname as holder,
        role.oid::text as role_oid, member.oid::text as member_oid,
        {options}
        bool_or(m.admin_option) as admits
    from pg_auth_members m join pg_roles role on role.oid = m.roleid join pg_roles member on member.oid = m.member
    where member.rolname !~ '^pg_'
    group by 1, 2, 3, 4 order by 1, 2
"""
# From version 16 on, what a member has by being one is said for each membership.
_OPTIONS: LiteralString = "bool_or(m.inherit_option) as inherits, bool_or(m.set_option) as sets,"
_CHANGERS: LiteralString = """
    select distinct grantee.rolname as name
    from pg_class c cross join lateral aclexplode(coalesce(c.relacl, acldefault('r', c.relowner))) acl
    join pg_roles grantee on grantee.oid = acl.grantee
    where acl.privilege_type in ('INSERT', 'UPDATE', 'DELETE', 'TRUNCATE') and c.relkind in ('r', 'v', 'm', 'p', 'f')
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
    where backend_type in ('client backend', 'walsender') and usename is not null and pid <> pg_backend_pid()
    order by pid
"""
# A membership, and whether the member has the role by any way: looked up by the role itself, since one that was dropped
# and made anew is somebody else.
_MEMBERSHIP: LiteralString = """
    select r.oid is not null and u.oid is not null as are_there,
        exists (select from pg_auth_members m where m.roleid = r.oid and m.member = u.oid) as is_member,
        exists (select from pg_auth_members m where m.roleid = r.oid and m.member = u.oid and m.admin_option) as admits,
        u.rolsuper as everything, pg_has_role(u.oid, r.oid, 'member') as has_it,
        exists (select from pg_auth_members m where m.member = u.oid and m.roleid <> r.oid
            and pg_has_role(m.roleid, r.oid, 'member')) as by_another
    from (select) one
    left join pg_roles r on r.oid = %(role)s
    left join pg_roles u on u.oid = %(member)s
"""
_GRANTORS: LiteralString = """
    select g.rolname as name from pg_auth_members m join pg_roles g on g.oid = m.grantor
    where m.roleid = (select oid from pg_roles where rolname = %s)
        and m.member = (select oid from pg_roles where rolname = %s) order by 1
"""
# A login is locked by its connection limit: it stays a login, and what it holds stays in sight. A superuser is let in
# whatever the limit is; it loses LOGIN, too, and is told from roles without one by its limit.
_LOCK_SUPERUSER: LiteralString = "alter role {} nologin connection limit 0"
_UNLOCK_SUPERUSER: LiteralString = "alter role {} login connection limit -1"
_OF_LOGINS: dict[StepKind, LiteralString] = {
    StepKind.LOCK: "alter role {} connection limit 0",
    StepKind.UNLOCK: "alter role {} connection limit -1",
    StepKind.DROP: "drop role {}",
}
_REFUSED = re.compile(
    r"authentication failed|no pg_hba\.conf entry|no password supplied|(role|database|user) .* does not exist|"
    r"not permitted to log in|certificate|SSL|too many connections for role",
    re.IGNORECASE,
)
_LOOKED_AT = (
    "memberships, with those in predefined roles and in logins",
    "attributes of roles",
    "owners",
    "databases",
    "schemas",
    "tables and views",
    "columns",
    "sequences",
    "functions",
    "types",
    "languages",
    "large objects",
    "foreign servers",
    "tablespaces",
    "parameters",
    "rights of PUBLIC",
    "sessions",
)


_MEMBERSHIP_KEYS = frozenset(level.key for level in MEMBERSHIPS)
_OTHERS: LiteralString = """
    select datname from pg_database where datallowconn and not datistemplate and datname <> current_database()
"""


class PostgresqlAdapter(Adapter):
    """Reads and changes one PostgreSQL server.

    ``settings``: ``host``, ``port``, ``database``, ``user``, and ``app_prefix``: login roles whose names begin
    with it are apps. ``secret`` is the password.
    """

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._settings = settings
        self._secret = secret
        self._is_together = False
        self._kept: psycopg.Connection[SqlRow] | None = None

    settings_taken = (
        Setting("host", "The server's address."),
        Setting("port", "Its port.", 5432),
        Setting("database", "A database on it."),
        Setting("user", "Open Latch's login there."),
        Setting(
            "sslmode",
            "How the connection is encrypted, and whether the server has to prove who it is: verify-full, verify-ca, "
            "require or disable. Only verify-full keeps the password from whoever stands in between.",
            "verify-full",
        ),
        Setting("sslrootcert", "The file with the certificates that the server's is checked against.", ""),
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
        rules=MANNER,
    )

    def check(self) -> None:
        """Sign in, and check that the login has the rights that it needs."""
        with self._connection() as db:
            row = db.execute(_RIGHTS).fetchone()
        lacking = [name for name, has in (row or {}).items() if not has]
        if lacking:
            raise SystemRefused(
                f"The login {self._settings['user']} lacks {', '.join(lacking)}.",
                "Give it that, as the PostgreSQL page of the systems guide says.",
            )

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One statement does it, or one for each place."""
        places = detail.get("places")
        if not places:
            return (Move(kind, detail),)
        rest = {key: value for key, value in detail.items() if key != "places"}
        moves = [Move(kind, {**rest, "place": place}, f"on {place.partition(':')[2]}") for place in places]
        return (*moves[:-1], Move(kind, moves[-1].detail))

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """All roles, memberships, rights and sessions, in one snapshot."""
        with self._connection(READING_SECONDS) as db:
            options = _OPTIONS if db.info.server_version >= 160000 else ""
            with cut_off_after(db.fileno, CALL_SECONDS):
                roles = db.execute(_ROLES).fetchall()
                members = db.execute(_MEMBERS.replace("{options}", options)).fetchall()
                changers = {row["name"] for row in db.execute(_CHANGERS)}
                sessions = db.execute(_SESSIONS).fetchall()
            own = self._settings["user"]
            logins = {r["name"]: r for r in roles if r["can_login"] and r["name"] != own}
            shared = {r["name"]: r for r in roles if not r["can_login"] and not r["name"].startswith(_PREDEFINED)}
            besides = self._settings.get("rights", "all") == "all"
            found = list(rights.holdings(db, {**logins, **shared}, set(logins))) if besides else []
            hangs = rights.hanging(db)
            unable = tuple(rights.unable(db)) if besides else ()
            others = [r["datname"] for r in db.execute(_OTHERS)] if besides else []
            reads_lines = doors(db, db.info.dbname).is_known
        members = [m for m in members if m["holder"] in logins or m["holder"] in shared]
        prefix = self._settings.get("app_prefix") or "\0"
        yield from MEMBERSHIPS
        named = {r["name"]: r for r in roles}
        joined = {m["account"] for m in members}
        for name in [*shared, *(name for name in named if name in joined and name != own and name not in shared)]:
            predefined = name.startswith(_PREDEFINED)
            yield SharedAccount(name, named[name]["comment"] or name, "predefined role" if predefined else "role")
        for name, role in logins.items():
            hanging = (*hangs.get(name, ()), *_password(role))
            marks = {"uid": name, "identity": role["oid"]}
            yield Login(name, role["comment"], name.startswith(prefix), marks, _is_locked(role), hanging)
        yield from found
        for name, admits in sorted({(m["account"], m["admits"]) for m in members if _is_predefined(m)}):
            yield predefined_level(name, admits)
        for member in members:
            if member["account"] == own:
                continue
            is_login = member["holder"] in logins
            holding = _holding(member, is_login, named[member["account"]], changers)
            yield from rights.also_as_account(named[member["holder"]], holding) if is_login else (holding,)
        for session in sessions:
            if session["login"] in logins:
                yield _presence(session)
        yield from self._coverage(others, besides, unable, reads_lines)
        yield Whole()

    def _coverage(
        self, others: list[str], besides: bool, unable: tuple[str, ...], reads_lines: bool
    ) -> Iterator[Coverage]:
        gaps = [Gap("what is in it: schemas, tables and the rest", Why.NOT_SUPPORTED, f"database {o}") for o in others]
        if not reads_lines:
            gaps.append(Gap("who is let in from where (pg_hba.conf): only a superuser may read it", Why.NOT_SUPPORTED))
        gaps.append(Gap("rights by row policies, one by one", Why.NOT_SUPPORTED))
        if not besides:
            gaps.append(Gap("rights besides memberships, as set", Why.NOT_SUPPORTED))
        if self._settings.get("sslmode", "verify-full") != "verify-full":
            gaps.append(Gap("whether the server is the one that it says it is (sslmode)", Why.NOT_SUPPORTED))
        yield Coverage("", _LOOKED_AT if besides else ("memberships", "sessions"), tuple(gaps), unable)

    def can_reduce(self, level: str, lower: str) -> bool:
        """Rights on an object can be reduced to fewer; a membership only by its admin option, since the rest is the
        role's.
        """
        if level in _MEMBERSHIP_KEYS or lower in _MEMBERSHIP_KEYS:
            return level == "keeper" and lower in ("operator", "reader")
        if level.endswith("*") and level.startswith(_PREDEFINED):
            return lower == level.rstrip("*")
        if not level or not lower or "owner" in (level, lower) or level.startswith("is ") or lower.startswith("is "):
            return False
        held, left = rights_of(level), rights_of(lower)
        return level != lower and all(one in held and (held[one] or not admits) for one, admits in left.items())

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """A membership, with the admin option for a keeper; or rights on one place, or of a role as such.

        What the rest of a membership may do is the shared role's.
        """
        if account == rights.SERVER:
            return {"holder": login, "attributes": level.removeprefix("is ").split("+")}
        if account.partition(":")[0] in rights.KINDS:
            return {"holder": login, "place": account, "level_key": level}
        admits = level == "keeper" or level.endswith("*")
        return {"role": account, "member": login, **({"admits": "yes"} if admits else {})}

    def again(self, handle: JsonObject) -> JsonObject | None:
        """Exactly what was there: privilege by privilege, with grant options; a membership with its options."""
        return handle if "given" in handle or "attributes" in handle or "member_oid" in handle else None

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """GIVE, REMOVE and REDUCE act on a membership, END_SESSIONS on one server process, CLOSE on what PUBLIC has."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        kind = StepKind.REMOVE if kind is StepKind.CLOSE else kind
        with self._connection() as db:
            if kind is StepKind.END_SESSIONS:
                db.execute(
                    "select pg_terminate_backend(pid, 5000) from pg_stat_activity "
                    "where pid = %s and backend_start = %s",
                    [detail["pid"], detail["started"]],
                )
                return f"Ended server process {detail['pid']}."
            if kind in _OF_LOGINS:
                statement = sql.SQL(_of_login(db, kind, detail["login"])).format(sql.Identifier(detail["login"]))
                db.execute(statement)
                return f"Carried out: {statement.as_string(db)}"
            if "holder" in detail:
                return rights.apply(db, kind, detail)
            return rights.carry_out(db, list(_membership_statements(db, kind, detail)))

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None when the membership is there (GIVE), or is gone, or its admin option or the session is."""
        kind = StepKind.REMOVE if kind is StepKind.CLOSE else kind
        with self._connection() as db:
            if kind is StepKind.END_SESSIONS:
                return _session_wrong(db, detail)
            if kind in _OF_LOGINS:
                role = db.execute(
                    "select rolsuper, rolcanlogin and (rolconnlimit <> 0 or rolsuper) as let_in from pg_roles "
                    "where rolname = %s",
                    [detail["login"]],
                ).fetchone()
                return _login_wrong(kind, detail["login"], role)
            if "holder" in detail:
                return rights.confirm(db, kind, detail)
            numbers = {
                one: rights.number_of(db, detail[one], detail.get(f"{one}_oid", "")) for one in ("role", "member")
            }
            row = db.execute(_MEMBERSHIP, numbers).fetchone()
        return _membership_wrong(kind, detail, row or {})

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
    def _connection(self, seconds: float = CALL_SECONDS) -> Iterator[psycopg.Connection[SqlRow]]:
        try:
            if not self._is_together:
                with self._connect(autocommit=False) as db, cut_off_after(db.fileno, seconds):
                    yield db
                return
            if self._kept is None or self._kept.closed:
                self._kept = self._connect(autocommit=True)
            with cut_off_after(self._kept.fileno, seconds):
                yield self._kept
        except psycopg.OperationalError as error:
            self._let_go()
            if _REFUSED.search(str(error)):
                raise SystemRefused(
                    f"The PostgreSQL server did not let {self._settings['user']} in: {_first_line(error)}",
                    "Look at the name, the password, sslmode and the server's pg_hba.conf.",
                ) from error
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

    def _connect(self, autocommit: bool) -> psycopg.Connection[SqlRow]:
        return psycopg.connect(
            host=self._settings["host"],
            port=self._settings["port"],
            dbname=self._settings["database"],
            user=self._settings["user"],
            password=self._secret,
            sslmode=self._settings.get("sslmode") or "verify-full",
            sslrootcert=self._settings.get("sslrootcert") or None,
            connect_timeout=CONNECT_SECONDS,
            keepalives_idle=CONNECT_SECONDS,
            keepalives_interval=CONNECT_SECONDS,
            keepalives_count=3,
            tcp_user_timeout=STATEMENT_SECONDS * 1000,
            application_name="open latch",
            options=f"-c statement_timeout={STATEMENT_SECONDS * 1000} -c timezone=UTC "
            "-c default_transaction_isolation=repeatable\\ read",
            row_factory=dict_row,
            autocommit=autocommit,
        )


def _of_login(db: psycopg.Connection[SqlRow], kind: StepKind, login: str) -> LiteralString:
    """The statement of a step on a login; locking a superuser takes more."""
    row = db.execute("select rolsuper from pg_roles where rolname = %s", [login]).fetchone()
    if row and row["rolsuper"] and kind is not StepKind.DROP:
        return _LOCK_SUPERUSER if kind is StepKind.LOCK else _UNLOCK_SUPERUSER
    return _OF_LOGINS[kind]


def _session_wrong(db: psycopg.Connection[SqlRow], detail: JsonView) -> str | None:
    """Whether a server process still exists; its pid alone may be reused."""
    row = db.execute(
        "select backend_start is null as is_hidden, backend_start = %s as is_it from pg_stat_activity where pid = %s",
        [detail["started"], detail["pid"]],
    ).fetchone()
    if row is not None and row["is_hidden"]:
        raise SystemRefused(
            "The server does not show since when its processes run.",
            "Make Open Latch's login a member of pg_read_all_stats again.",
        )
    return f"server process {detail['pid']} is still there" if row is not None and row["is_it"] else None


def _membership_statements(
    db: psycopg.Connection[SqlRow], kind: StepKind, detail: JsonObject
) -> Iterator[sql.Composed]:
    """Grant, revoke or reduce a membership. From version 16 on there is one for each grantor."""
    role, member = sql.Identifier(detail["role"]), sql.Identifier(detail["member"])
    if kind is StepKind.GIVE:
        options = [name for name in ("admin", "inherit", "set") if name in detail.get("options", {})]
        form: LiteralString = "grant {} to {} with admin option" if detail.get("admits") else "grant {} to {}"
        if options:
            given = sql.SQL(", ").join(
                sql.SQL("{} {}").format(sql.SQL(name), sql.SQL("true" if detail["options"][name] else "false"))
                for name in ("admin", "inherit", "set")
                if name in detail["options"]
            )
            yield sql.SQL("grant {} to {} with {}").format(role, member, given)
            return
        yield sql.SQL(form).format(role, member)
        return
    form = "revoke admin option for {} from {}" if kind is StepKind.REDUCE else "revoke {} from {}"
    if db.info.server_version < 160000:
        yield sql.SQL(form).format(role, member)
        return
    for row in db.execute(_GRANTORS, [detail["role"], detail["member"]]).fetchall():
        yield sql.SQL(form + " granted by {}").format(role, member, sql.Identifier(row["name"]))


def _membership_wrong(kind: StepKind, detail: JsonView, row: JsonView) -> str | None:
    """What is wrong with a membership, by the catalog and by the server's own functions."""
    who, role = detail["member"], detail["role"]
    if kind is StepKind.GIVE:
        there = row.get("is_member") and (row["admits"] or not detail.get("admits"))
        return None if there else f"{who} is not yet a member of {role} as it should be"
    if not row.get("are_there"):
        return None
    if kind is StepKind.REDUCE:
        return f"{who} may still let others into {role}" if row["admits"] else None
    if row["is_member"]:
        return f"{who} is still a member of {role}"
    if row["has_it"] and not row["everything"] and not row["by_another"]:
        return f"the server still says that {who} has {role}"
    return None


def _is_locked(role: JsonView) -> bool:
    """Whether a login is locked; a connection limit does not stop a superuser."""
    return bool(role["connections"] == 0 and not (role["rolsuper"] and role["is_let_in"]))


def _password(role: JsonView) -> tuple[tuple[str, str], ...]:
    """When a login's password expires, which ends none of its rights."""
    until = role["password_until"]
    return (("password", f"its password is no longer taken from {until} UTC on"),) if until else ()


def _is_predefined(member: JsonView) -> bool:
    return str(member["account"]).startswith(_PREDEFINED)


def _login_wrong(kind: StepKind, name: str, role: JsonView | None) -> str | None:
    """What is wrong with a login after a step. SystemRefused if a login to be locked does not exist."""
    if kind is StepKind.DROP:
        return None if role is None else f"the login {name} is still there"
    if kind is StepKind.UNLOCK:
        return None if role and role["let_in"] else f"{name} may not sign in"
    if role is None:
        raise SystemRefused(f"There is no login {name}; it may have been renamed.", "Have the server read again.")
    if role["let_in"] and role["rolsuper"]:
        return f"{name} is a superuser, which a connection limit does not keep out"
    return f"{name} may still sign in" if role["let_in"] else None


def _first_line(error: Exception) -> str:
    return next(iter(str(error).splitlines()), type(error).__name__)


def _holding(member: JsonView, is_login: bool, account: JsonView, changers: set[str]) -> Holding:
    name = member["account"]
    if _is_predefined(member):
        level = predefined_level(name, member["admits"]).key
    elif member["admits"] or account["rolcreaterole"] or account["rolsuper"]:
        level = "keeper"
    else:
        level = "operator" if name in changers else "reader"
    handle = {
        "role": name,
        "member": member["holder"],
        "role_oid": member["role_oid"],
        "member_oid": member["member_oid"],
        **({"admits": "yes"} if member["admits"] else {}),
    }
    if "sets" in member:
        handle["options"] = {"admin": member["admits"], "inherit": member["inherits"], "set": member["sets"]}
    return Holding(name, member["holder"], not is_login, level, None, handle)


def _presence(row: JsonObject) -> Presence:
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
