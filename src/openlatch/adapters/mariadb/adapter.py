"""MariaDB servers: users (a name and a host) are people or apps; roles, databases, tables and routines are accounts.

What somebody has is read from SHOW GRANTS, which is what the server goes by. A user who may sign in as another (PROXY)
holds that user as an account, and what PUBLIC has everybody has. Open Latch's own login needs all privileges with the
grant option, the admin option for the roles that it takes away, and PROXY on ''@'' with the grant option for proxies.
"""

from __future__ import annotations

import re
import ssl
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, timedelta
from ipaddress import ip_address, ip_network
from typing import TypeAlias

import pymysql
from pymysql.constants import ER
from pymysql.cursors import Cursor

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundPart,
    Holding,
    Login,
    Presence,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.limits import CALL_SECONDS, CONNECT_SECONDS, READING_SECONDS, cut_off_after
from openlatch.adapters.mariadb import grants, levels
from openlatch.adapters.mariadb.grants import ALL, EVERYTHING, PUBLIC, Held, Rights, account
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, JsonView, SqlTuple
from openlatch.tls import trusted

# As its types have it, which the class itself does not.
Db: TypeAlias = "pymysql.Connection[Cursor]"
_LETS_IN_NOT = (ER.ACCESS_DENIED_ERROR, ER.DBACCESS_DENIED_ERROR, ER.HOST_NOT_PRIVILEGED, 1698)
_NO_SUCH = (ER.NONEXISTING_GRANT, ER.NONEXISTING_TABLE_GRANT, ER.NONEXISTING_PROC_GRANT)
# The server is full, shuts down, was waited for too long, or has ended this connection.
_LATER = (1040, 1053, 1158, 1159, 1160, 1161, 1203, 1205, 1213, 1226, 1927, 1969)
# The account is locked.
_LOCKED = 4151
# As whom: the server writes the empty name so.
_ANYBODY = "@%"
# Whatever the server is set to: a grant makes no login that is not there, and names are quoted as they are read.
_AS_WE_READ = "set sql_mode = 'NO_AUTO_CREATE_USER', sql_quote_show_create = 1"
_SAYS_NOTHING = "SHOW GRANTS does not tell what it has"
_OWN_DATABASES = frozenset({"mysql", "information_schema", "performance_schema", "sys"})
_USERS = """
    select User, Host, json_value(Priv, '$.is_role') = 1 as is_role,
        coalesce(json_value(Priv, '$.account_locked') in ('1', 'true'), 0) as is_locked
    from mysql.global_priv order by User, Host
"""
_DATABASES = "select schema_name from information_schema.schemata order by 1"
_SESSIONS = """
    select id, user, host, command, time, utc_timestamp() from information_schema.processlist
    where id <> connection_id() and user not in ('system user', 'event_scheduler', 'unauthenticated user') order by id
"""
# What runs with somebody's rights, and fails without them.
_DEFINED = """
    select definer, 'view', concat(table_schema, '.', table_name) from information_schema.views
    where security_type = 'DEFINER'
    union all select definer, lower(routine_type), concat(routine_schema, '.', routine_name)
    from information_schema.routines where security_type = 'DEFINER'
    union all select definer, 'trigger', concat(trigger_schema, '.', trigger_name) from information_schema.triggers
    union all select definer, 'event', concat(event_schema, '.', event_name) from information_schema.events
"""
_OF_LOGINS = {
    StepKind.LOCK: "alter user {} account lock",
    StepKind.UNLOCK: "alter user {} account unlock",
    StepKind.DROP: "drop user {}",
}
_LOOKED_AT = (
    *("users by name and host", "roles in roles", "global privileges", "databases, with patterns", "tables", "columns"),
    *("routines", "proxies", "what PUBLIC has", "definers", "sessions"),
)


class MariadbAdapter(Adapter):
    """Reads and changes one MariaDB server."""

    settings_taken = (
        Setting("host", "The server's address."),
        Setting("port", "Its port.", 3306),
        Setting("user", "Open Latch's login there."),
        Setting(
            "tls",
            "verify: encrypted, and the server has to prove who it is; encrypt: encrypted only; off: in clear, so that "
            "the password can be read on the way.",
            "verify",
        ),
        Setting("ca", "The file with the certificates that the server's is checked against.", ""),
        Setting("app_prefix", "Users whose names begin with it are apps.", "app_"),
    )
    can = Abilities(
        steps=frozenset(StepKind) - {StepKind.BY_HAND, StepKind.READ_AGAIN, StepKind.CLOSE},
        rights=(
            "ALL PRIVILEGES ON *.* WITH GRANT OPTION, to read and take privileges, and to end sessions",
            "each role WITH ADMIN OPTION, to take memberships away",
            "PROXY ON ''@'' WITH GRANT OPTION, to take proxies away",
        ),
        sessions=True,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._settings = settings
        self._secret = secret

    def check(self) -> None:
        """Sign in, and check that it is a MariaDB server, and that all that is needed is there."""
        with self._connection() as db:
            ((version,),) = _asked(db, "select version()")
            if "mariadb" not in version.lower():
                raise SystemRefused(
                    f"The server is {version}, which is no MariaDB: its roles are other ones.",
                    "Servers of other makers can't be connected as this kind.",
                )
            own = self._own(db)
            held = _held(db, own)
        everywhere = held.places.get(EVERYTHING)
        if everywhere is None or ALL not in everywhere.rights or not everywhere.gives_on:
            raise SystemRefused(
                f"The login {own} lacks ALL PRIVILEGES ON *.* WITH GRANT OPTION.",
                "Give it that, as the MariaDB page of the systems guide says.",
            )

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """All users, roles, what each has, and sessions."""
        with self._connection(READING_SECONDS) as db:
            own = self._own(db)
            rows = _asked(db, _USERS)
            roles = [f"role:{name}" for name, _, is_role, _ in rows if is_role]
            locked = {f"{name}@{host}": bool(is_locked) for name, host, is_role, is_locked in rows if not is_role}
            held = {one: _held(db, one) for one in (*locked, *roles)}
            databases = [str(name) for (name,) in _asked(db, _DATABASES)]
            hangs = _hanging(db)
            sessions = _asked(db, _SESSIONS)
        mine = held.pop(own, Held())
        locked.pop(own, None)
        yield from levels.FIXED
        yield from _accounts(held, databases)
        yield from _columns(held)
        prefix = self._settings.get("app_prefix") or "\0"
        for one, is_locked in locked.items():
            name = one.rpartition("@")[0]
            words = f"anybody without a name, from {one[1:]}" if not name else one
            yield Login(one, words, name.startswith(prefix), {"uid": name}, is_locked, hangs.get(one, ()))
        yield from _levels(held)
        yield from _holdings(held, set(locked))
        yield from _presences(sessions, list(locked), own)
        unable = [
            f"memberships in the role {name}: it is not held with admin option"
            for name in (one.removeprefix("role:") for one in roles)
            if name != PUBLIC and not mine.roles.get(name)
        ]
        if not mine.proxied.get(_ANYBODY):
            unable.append("proxies: PROXY ON ''@'' is not held with grant option")
        unknown = [Gap(line, Why.NOT_UNDERSTOOD, who) for who, each in held.items() for line in each.unknown]
        yield Coverage("", _LOOKED_AT, (*self._gaps(), *unknown), tuple(unable))
        yield Whole()

    def _gaps(self) -> Iterator[Gap]:
        yield Gap("when a session was opened: the server only says since when it does what it does", Why.NOT_SUPPORTED)
        yield Gap("what plugins of the server ask elsewhere (PAM, LDAP)", Why.NOT_SUPPORTED)
        if self._settings.get("tls", "verify") != "verify":
            yield Gap("whether the server is the one that it says it is (tls)", Why.NOT_SUPPORTED)

    def can_reduce(self, level: str, lower: str) -> bool:
        """To fewer rights, or to the same without giving them on; a membership or a proxy to one without its option."""
        if (level, lower) in (("admin", "member"), ("proxy*", "proxy")):
            return True
        fixed = {one.key for one in levels.FIXED}
        if not level or not lower or level in fixed or lower in fixed:
            return False
        (has, gives_on), (left, still) = levels.rights_of(level), levels.rights_of(lower)
        # What all privileges are, depends on the place and the version.
        fewer = left <= has and bool(left) and (ALL not in has or left == has)
        return fewer and (still <= gives_on) and (left, still) != (has, gives_on)

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """A membership, a proxy, or rights on a place."""
        if account.startswith("role:"):
            admits = {"admits": "yes"} if level == "admin" else {}
            return {"role": account.removeprefix("role:"), "member": login, **admits}
        if account.startswith("login:"):
            admits = {"admits": "yes"} if level.endswith("*") else {}
            return {"proxied": account.removeprefix("login:"), "member": login, **admits}
        rights, gives_on = levels.rights_of(level)
        given: JsonObject = {right: [] for right in sorted(rights)}
        return {"place": account, "member": login, "given": given, "gives_on": gives_on}

    def again(self, handle: JsonObject) -> JsonObject | None:
        """Exactly what was there, with its columns and options."""
        return handle

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One move does it."""
        if detail.get("everybody"):
            raise SystemRefused("Everybody has what PUBLIC has.", "Take it from PUBLIC, or drop the login.")
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """Grant or revoke what differs; end a session; lock, unlock or drop a login."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with self._connection() as db:
            if kind is StepKind.END_SESSIONS:
                return _carry_out(db, [f"kill connection {int(detail['id'])}"])
            if kind in _OF_LOGINS:
                return _carry_out(db, [_OF_LOGINS[kind].format(account(detail["login"]))])
            return _carry_out(db, list(_statements(kind, detail, _held(db, detail["member"]))))

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """By what SHOW GRANTS says of the login, by the list of users, or by the list of connections."""
        with self._connection() as db:
            if kind is StepKind.END_SESSIONS:
                return _session_wrong(db, detail)
            if kind in _OF_LOGINS:
                return _login_wrong(db, kind, detail["login"])
            return _wrong(kind, detail, _held(db, detail["member"]))

    def _own(self, db: Db) -> str:
        ((own,),) = _asked(db, "select current_user()")
        return str(own)

    @contextmanager
    def _connection(self, seconds: float = CALL_SECONDS) -> Iterator[Db]:
        try:
            db = self._connect(seconds)
            try:
                with cut_off_after(db._sock.fileno, seconds):  # type: ignore[attr-defined]
                    yield db
            finally:
                # At once: there is nothing to say good-bye for, and the connection may be cut off.
                db._force_close()  # type: ignore[attr-defined]
        except (pymysql.OperationalError, pymysql.InterfaceError, OSError, ssl.SSLError) as error:
            if error.args and error.args[0] in (*_LETS_IN_NOT, _LOCKED):
                raise SystemRefused(
                    f"The MariaDB server does not let {self._settings['user']} do that: {_said(error)}",
                    "Look at the name, the host, the password, and the privileges that the systems guide lists.",
                ) from error
            if _is_answer(error):
                raise self._refused(error) from error
            raise SystemDown(
                f"The MariaDB server did not answer: {_said(error)}",
                "It will be tried again; look whether the server runs and can be reached.",
            ) from error
        except pymysql.Error as error:
            raise self._refused(error) from error

    def _refused(self, error: Exception) -> SystemRefused:
        return SystemRefused(
            f"The MariaDB server refused: {_said(error)}",
            f"Look whether {self._settings['user']} has the privileges that the systems guide lists.",
        )

    def _connect(self, seconds: float) -> Db:
        return pymysql.connect(
            host=self._settings["host"],
            port=int(self._settings["port"]),
            user=self._settings["user"],
            password=self._secret,
            ssl=self._encryption(),
            charset="utf8mb4",
            connect_timeout=CONNECT_SECONDS,
            read_timeout=int(seconds),
            write_timeout=int(seconds),
            autocommit=True,
            init_command=_AS_WE_READ,
        )

    def _encryption(self) -> ssl.SSLContext | None:
        how = self._settings.get("tls") or "verify"
        if how == "off":
            return None
        if how == "encrypt":
            found = ssl.create_default_context()
            found.check_hostname, found.verify_mode = False, ssl.CERT_NONE
            return found
        return ssl.create_default_context(cafile=self._settings["ca"]) if self._settings.get("ca") else trusted()


def _accounts(held: Mapping[str, Held], databases: Sequence[str]) -> Iterator[SharedAccount]:
    places = {place for each in held.values() for place in each.places}
    places |= {f"{grants.quoted(name)}.*" for name in databases if name not in _OWN_DATABASES}
    for place in sorted(places):
        kind, database, what = grants.place_of(place)
        yield SharedAccount(place, _called(kind, database, what), kind)
    for one in held:
        if one.startswith("role:"):
            name = one.removeprefix("role:")
            yield SharedAccount(one, "everybody who signs in (PUBLIC)" if name == PUBLIC else name, "role")
    for one in sorted({other for each in held.values() for other in each.proxied}):
        yield SharedAccount(_as_account(one), f"signing in as {'anybody' if one == _ANYBODY else one}", "login")


def _columns(held: Mapping[str, Held]) -> Iterator[FoundPart]:
    """The columns that somebody has rights on by themselves."""
    named: set[tuple[str, str]] = set()
    for each in held.values():
        for place, rights in each.places.items():
            named.update((place, name) for of in rights.rights.values() for name in of)
    for place, name in sorted(named):
        yield FoundPart(place, name, name, "column")


def _is_answer(error: Exception) -> bool:
    """Whether the server has answered, and not only for now; errors from 2000 on are of the connection."""
    code = error.args[0] if error.args else None
    return isinstance(code, int) and not 2000 <= code < 3000 and code not in _LATER


def _said(error: Exception) -> str:
    return str(error.args[-1] if error.args else error).splitlines()[0][:300]


def _asked(db: Db, statement: str, values: Sequence[object] = ()) -> list[SqlTuple]:
    with db.cursor() as cursor:
        cursor.execute(statement, tuple(values) or None)
        return list(cursor.fetchall())


def _carry_out(db: Db, statements: Sequence[str]) -> str:
    with db.cursor() as cursor:
        for statement in statements:
            try:
                cursor.execute(statement)
            except pymysql.Error as error:
                # Another took it away in between; what is there is asked for by confirming.
                if error.args[0] not in _NO_SUCH:
                    raise
    return f"Carried out: {'; '.join(statements)}"


def _held(db: Db, whom: str) -> Held:
    """What the server says that somebody has: nothing where there is no such user or role, unknown where it says
    nothing of one that there is.
    """
    try:
        lines = [str(row[0]) for row in _asked(db, f"show grants for {account(whom)}")]
    except pymysql.Error as error:
        if error.args[0] not in _NO_SUCH:
            raise
        name, _, host = ("", "", "") if whom.startswith("role:") else whom.rpartition("@")
        name = whom.removeprefix("role:") if whom.startswith("role:") else name
        listed = _asked(db, "select 1 from mysql.global_priv where User = %s and Host = %s", [name, host])
        return Held(unknown=(_SAYS_NOTHING,)) if listed else Held()
    return grants.read(lines, whom)


def _hanging(db: Db) -> dict[str, tuple[tuple[str, str], ...]]:
    found: dict[str, list[tuple[str, str]]] = {}
    for definer, kind, name in _asked(db, _DEFINED):
        found.setdefault(str(definer), []).append(("object", f"the {kind} {name} runs with its rights"))
    return {who: tuple(sorted(all_of)) for who, all_of in found.items()}


def _called(kind: str, database: str, what: str) -> str:
    if kind == "server":
        return "the whole server"
    if kind == "database":
        plain = re.sub(r"\\([%_])|([%_])", lambda sign: sign[1] or ("*" if sign[2] == "%" else "?"), database)
        is_pattern = re.search(r"(?<!\\)[%_]", database) is not None
        return f"databases like {plain}" if is_pattern else plain
    return f"{database}.{what}"


def _as_account(login: str) -> str:
    return f"login:{login}"


def _levels(held: Mapping[str, Held]) -> Iterator[Found]:
    keys = set()
    for each in held.values():
        for rights in each.places.values():
            whole, columns = levels.all_rights(rights.rights)
            if whole or rights.gives_on:
                keys.add(levels.key_of(whole, rights.gives_on))
            keys |= {levels.key_of(one, False) for one in columns.values()}
    yield from map(levels.level, sorted(keys))


def _holdings(held: Mapping[str, Held], logins: set[str]) -> Iterator[Holding]:
    for who, each in held.items():
        is_role = who not in logins
        for place, rights in sorted(each.places.items()):
            yield _of_place(who, is_role, place, rights)
        for role, admits in sorted(each.roles.items()):
            handle = {"role": role, "member": who, **({"admits": "yes"} if admits else {})}
            yield Holding(f"role:{role}", who, is_role, "admin" if admits else "member", None, handle)
        for other, admits in sorted(each.proxied.items()):
            handle = {"proxied": other, "member": who, **({"admits": "yes"} if admits else {})}
            yield Holding(_as_account(other), who, is_role, "proxy*" if admits else "proxy", None, handle)
    everybody = f"role:{PUBLIC}"
    if held.get(everybody, Held()) != Held():
        for who in sorted(logins):
            handle = {"role": PUBLIC, "member": who, "everybody": "yes"}
            yield Holding(everybody, who, False, levels.EVERYBODY.key, None, handle)


def _of_place(who: str, is_role: bool, place: str, rights: Rights) -> Holding:
    whole, columns = levels.all_rights(rights.rights)
    level = levels.key_of(whole, rights.gives_on) if whole or rights.gives_on else ""
    parts = tuple((name, levels.key_of(of, False)) for name, of in sorted(columns.items()))
    given = {name: list(of) for name, of in sorted(rights.rights.items())}
    handle = {"place": place, "member": who, "given": given, "gives_on": rights.gives_on}
    return Holding(place, who, is_role, level, None, handle, parts)


def _presences(sessions: Sequence[SqlTuple], logins: Sequence[str], own: str) -> Iterator[Presence]:
    for ident, user, host, command, seconds, now in sessions:
        address = str(host).rpartition(":")[0] or str(host)
        login = _signed_in_as(str(user), address, [*logins, own])
        if login is None or login == own:
            continue
        at = now.replace(tzinfo=UTC) - timedelta(seconds=int(seconds))
        handle = {"id": int(ident), "user": str(user), "host": str(host)}
        yield Presence(f"{ident}@{host}", login, str(command), address, at, at, handle)


def _signed_in_as(user: str, address: str, logins: Sequence[str]) -> str | None:
    """Which login a connection is by: of those with its name and a host that fits, the one with the narrowest host."""
    fits = [one for one in logins if one.rpartition("@")[0] == user and _fits(one.rpartition("@")[2], address)]
    return min(fits, key=_width, default=None)


def _width(login: str) -> tuple[int, int]:
    host = login.rpartition("@")[2]
    if "/" in host:
        return 1, -(ip_network(host, strict=False).prefixlen // 8)
    fixed = re.split("[%_]", host, maxsplit=1)[0]
    return (0, 0) if fixed == host else (1, -fixed.count("."))


def _fits(pattern: str, address: str) -> bool:
    if "/" in pattern:
        try:
            return ip_address(address) in ip_network(pattern, strict=False)
        except ValueError:
            return False
    if pattern == address or pattern == "%":
        return True
    parts = pattern.split("%")
    if len(parts) == 1:
        return False
    rest = address
    for number, part in enumerate(parts):
        at = rest.find(part)
        if at < 0 or (number == 0 and at > 0):
            return False
        rest = rest[at + len(part) :]
    return not parts[-1] or address.endswith(parts[-1])


def _statements(kind: StepKind, detail: JsonView, held: Held) -> Iterator[str]:
    """What makes somebody have what the step wants, from what they have."""
    whom = account(detail["member"])
    if "role" in detail:
        role = grants.quoted(detail["role"])
        if kind is StepKind.GIVE:
            yield f"grant {role} to {whom}{' with admin option' if detail.get('admits') else ''}"
        else:
            yield f"revoke {'admin option for ' if kind is StepKind.REDUCE else ''}{role} from {whom}"
        return
    if "proxied" in detail:
        other = account(detail["proxied"])
        if kind is not StepKind.GIVE:
            yield f"revoke proxy on {other} from {whom}"
        if kind is not StepKind.REMOVE:
            admits = kind is StepKind.GIVE and detail.get("admits")
            yield f"grant proxy on {other} to {whom}{' with grant option' if admits else ''}"
        return
    place = detail["place"]
    grants.place_of(place)
    if kind is StepKind.GIVE:
        given = {name: tuple(of) for name, of in detail["given"].items()}
        option = " with grant option" if detail.get("gives_on") else ""
        yield f"grant {grants.written(given) or 'usage'} on {place} to {whom}{option}"
        return
    has = held.places.get(place, Rights(place, {}, False))
    left, still = (frozenset[str](), False) if kind is StepKind.REMOVE else levels.rights_of(detail["to"])
    if has.gives_on and not still:
        yield f"revoke grant option on {place} from {whom}"
    over = {name: of for name, of in has.rights.items() if name not in left}
    if over:
        yield f"revoke {grants.written(over)} on {place} from {whom}"


def _wrong(kind: StepKind, detail: JsonView, held: Held) -> str | None:
    """What somebody has otherwise than the step wants, in words; None when it is so. SystemRefused when it can't be
    told.
    """
    who = detail["member"]
    if held.unknown:
        raise SystemRefused(f"What {who} has is not understood: {held.unknown[0]}", "Look at SHOW GRANTS there.")
    if "role" in detail or "proxied" in detail:
        of, name = (held.roles, detail["role"]) if "role" in detail else (held.proxied, detail["proxied"])
        there = of.get(name)
        if kind is StepKind.GIVE:
            fine = there is not None and (there or not detail.get("admits"))
            return None if fine else f"{who} does not have {name} yet"
        if kind is StepKind.REDUCE:
            return f"{who} may still give {name} on" if there else None
        return f"{who} still has {name}" if there is not None else None
    place = detail["place"]
    has = held.places.get(place, Rights(place, {}, False))
    if kind is StepKind.GIVE:
        wanted = {name: tuple(sorted(of)) for name, of in detail["given"].items()}
        lacking = [name for name, of in wanted.items() if not _covers(has.rights.get(name), of)]
        if lacking or (detail.get("gives_on") and not has.gives_on):
            return f"{who} does not have {', '.join(lacking) or 'the grant option'} on {place} yet"
        return None
    left, still = (frozenset[str](), False) if kind is StepKind.REMOVE else levels.rights_of(detail["to"])
    over = sorted(set(has.rights) - left)
    if over or (has.gives_on and not still):
        return f"{who} still has {', '.join(over) or 'the grant option'} on {place}"
    return None


def _covers(has: Sequence[str] | None, wanted: Sequence[str]) -> bool:
    """Whether a right that somebody has, on some columns or on all (none named), is the wanted one."""
    return has is not None and (not has or (bool(wanted) and set(wanted) <= set(has)))


def _session_wrong(db: Db, detail: JsonView) -> str | None:
    row = _asked(
        db,
        "select 1 from information_schema.processlist where id = %s and user = %s and host = %s",
        [int(detail["id"]), detail["user"], detail["host"]],
    )
    return f"connection {detail['id']} is still there" if row else None


def _login_wrong(db: Db, kind: StepKind, login: str) -> str | None:
    """What is wrong with a login after a step. SystemRefused if a login to be locked does not exist."""
    known = {f"{name}@{host}": bool(locked) for name, host, is_role, locked in _asked(db, _USERS) if not is_role}
    if kind is StepKind.DROP:
        return f"the login {login} is still there" if login in known else None
    if login not in known:
        if kind is StepKind.UNLOCK:
            return f"there is no login {login}"
        raise SystemRefused(f"There is no login {login}; it may have been renamed.", "Have the server read again.")
    if kind is StepKind.LOCK:
        return None if known[login] else f"{login} may still sign in"
    return f"{login} may not sign in" if known[login] else None
