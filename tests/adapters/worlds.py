"""The systems as the conformance tests see them: each with its own client, which is not our adapter."""

from __future__ import annotations

import imaplib
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from importlib.util import module_from_spec, spec_from_file_location
from pathlib import Path
from typing import Any

import httpx
import psycopg
import pymysql
from authlib.integrations.flask_oauth2 import AuthorizationServer
from authlib.oauth2.rfc7009 import RevocationEndpoint
from authlib.oauth2.rfc7662 import IntrospectionEndpoint
from flask import Flask

from openlatch.adapters import ADAPTERS, Maker
from openlatch.adapters.unix_host import package
from openlatch.conformance import World
from openlatch.demo import loader
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.test_systems import calendars, cloud, directory, host, mailboxes, mariadb, ssh_server, telemetry
from openlatch.test_systems.app_server import AppServer
from tests.conftest import ADAPTER_PASSWORD, telemetry_settings
from tests.waiting import until

TODAY = datetime(2026, 3, 2, tzinfo=UTC)


def postgresql(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """A PostgreSQL server, asked by SQL."""
    server = make_telemetry("conformance")
    url = server.url(telemetry.DATABASE)

    def ask(statement: str, *values: str) -> str:
        with psycopg.connect(url) as db:
            row = db.execute(statement, values).fetchone()  # type: ignore[call-overload]
        return str(row[0]) if row and row[0] else ""

    def asked(who: str) -> str:
        return ask(
            "select case when bool_or(admin_option) then 'admits' else 'member' end from pg_auth_members m join "
            "pg_roles r on r.oid = m.roleid join pg_roles u on u.oid = m.member "
            "where r.rolname = 'heating_control' and u.rolname = %s having count(*) > 0",
            who,
        )

    # The server is shared by the tests; what they change is put back.
    with psycopg.connect(url) as db:
        for who in ("c_abernethy", "m_oduya"):
            db.execute(f"grant heating_control to {who} with admin option")  # type: ignore[call-overload]
            db.execute(f"alter role {who} connection limit -1")  # type: ignore[call-overload]
        for role, member, admits in loader.telemetry_plan()["members"]:
            form = "grant {} to {} with admin option" if admits else "grant {} to {}"
            db.execute(psycopg.sql.SQL(form).format(psycopg.sql.Identifier(role), psycopg.sql.Identifier(member)))
    opened = telemetry.OpenSessions("127.0.0.1", server.port)

    def session() -> tuple[str, Callable[[], bool]]:
        opened.open([("s_bakke", "conformance")])
        return "s_bakke", lambda: bool(ask("select 1 from pg_stat_activity where usename = %s", "s_bakke"))

    def locked(who: str) -> bool:
        try:
            psycopg.connect(url, user=who, password=telemetry.LOGIN_PASSWORD).close()
        except psycopg.OperationalError:
            return True
        return False

    settings = telemetry_settings(server)
    return World(
        ADAPTERS["postgresql"],
        settings,
        "heating_control",
        "c_abernethy",
        "m_oduya",
        asked,
        {"port": 1},
        opened.close,
        session=session,
        locked=locked,
        kind="postgresql",
        secret=ADAPTER_PASSWORD,
    )


def ldap(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """An OpenLDAP server, asked by ldapsearch."""
    server = directory.DirectoryServer(folder / "directory")
    server.start()
    people = [("ann", "Ann Lee", "ann@example.org"), ("bob", "Bob Ray", "bob@example.org"), ("cy", "Cy Orr", "")]
    groups = [
        ("callout", "Who is called out", ["ann", "bob"], ["ann"]),
        ("coast", "Coast rescue", ["group:callout", "app:pager"], []),
    ]
    plan = {"people": people, "apps": ["pager"], "groups": groups, "signed_in": ["ann"]}
    server.prepare(plan, ADAPTER_PASSWORD)

    def search(base: str, *attributes: str) -> str:
        command = [
            "ldapsearch",
            "-x",
            "-LLL",
            "-o",
            "ldif-wrap=no",
            "-H",
            f"ldap://127.0.0.1:{server.port}",
            "-D",
            directory.OWNER,
            "-w",
            directory.LOGIN_PASSWORD,
            "-b",
            base,
            "-s",
            "base",
            *attributes,
        ]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout

    def asked(who: str) -> str:
        lines = search(directory.group("callout"), "member", "owner").splitlines()
        return " ".join(line.split(":")[0] for line in lines if line.endswith(f": {who}"))

    def locked(who: str) -> bool:
        word = ["-D", who, "-w", directory.LOGIN_PASSWORD]
        command = ["ldapwhoami", "-x", "-H", f"ldap://127.0.0.1:{server.port}", *word]
        return subprocess.run(command, capture_output=True, check=False).returncode != 0

    return World(
        ADAPTERS["directory"],
        directory.usual(server),
        directory.group("callout"),
        directory.named("ann"),
        directory.named("bob"),
        asked,
        {"port": 1},
        server.stop,
        locked=locked,
        extra={"server": server},
        kind="directory",
        secret=ADAPTER_PASSWORD,
    )


def imap(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """A Dovecot server, asked by imaplib."""
    server = mailboxes.MailboxServer(folder / "mailboxes", secret=ADAPTER_PASSWORD)
    server.start()
    lists = [
        ("Booking desk", "ann", "lrswipkxtea"),
        ("Booking desk", "bob", "lrs"),
        ("Booking desk/Refunds", "bob", "lrs"),
        (r"Booking desk/Zw&APY-lf \"Uhr\" &- mehr", "bob", "lrs"),
        ("Booking desk/Refunds", "ann", "lrswipkxtea"),
        (r"Booking desk/Zw&APY-lf \"Uhr\" &- mehr", "ann", "lrswipkxtea"),
        ("Rescue", "anyone", "lr"),
    ]
    boxes = ["Booking desk", "Booking desk/Refunds", 'Booking desk/Zwölf "Uhr" & mehr', "Rescue"]
    encoded = [box.replace("&", "&-").replace("ö", "&APY-").replace('"', '\\"') for box in boxes]
    plan = {"logins": ["ann", "bob", "cy"], "mailboxes": encoded, "lists": lists}
    server.prepare(plan)

    def session() -> tuple[str, Callable[[], bool]]:
        server.sign_in(["bob"])
        mail = server.signed_in[-1]

        def goes_on() -> bool:
            # A process that was told to end may answer once more.
            try:
                return all(mail.noop()[0] == "OK" and not time.sleep(0.1) for _ in range(5))
            except (imaplib.IMAP4.error, OSError):
                return False

        return "bob", goes_on

    def asked(who: str) -> str:

        with imaplib.IMAP4("127.0.0.1", server.port) as mail:
            mail.login(mailboxes.ADAPTER_LOGIN, ADAPTER_PASSWORD)
            words = []
            for box in ("Booking desk", "Booking desk/Refunds"):
                _, (answer,) = mail.getacl(f'"Shared/{box}"')
                parts = bytes(answer).decode().rsplit('"', 1)[-1].split()
                words += [rights for name, rights in zip(parts[::2], parts[1::2], strict=True) if name == who]
        return " ".join(words)

    return World(
        ADAPTERS["mailboxes"],
        mailboxes.usual(server),
        "Shared/Booking desk",
        "ann",
        "bob",
        asked,
        {"port": 1},
        server.stop,
        session=session,
        kind="mailboxes",
        secret=ADAPTER_PASSWORD,
    )


KEYS = {
    "ann": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8g ann@example.org",
    "bob": 'from="192.0.2.0/24",command="/usr/bin/uptime \\"ssh-rsa AAAA\\"",expiry-time="20261231Z" '
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICEiIyQlJicoKSorLC0uLzAxMjM0NTY3ODk6Ozw9Pj9A bob's key",
}


def unix(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """A folder with a host's files, asked by ssh-keygen, getfacl and by reading them."""
    root = folder / "host"
    plan = {
        "users": {"webcam": "Webcams of all huts", "ann": "Ann Lee", "bob": "Bob Ray"},
        "groups": {"cameras": ["ann", "bob"], "maps": []},
        "keys": {"webcam": ["# who looks after the cameras", KEYS["ann"], "", "not a key at all", KEYS["bob"]]},
        "rules": {"cameras": ["ann ALL=(ALL:ALL) NOPASSWD: ALL", "%cameras ALL=(root) /usr/bin/systemctl restart cam"]},
        "folders": {"/srv/maps": {"ann": "rwx", "bob": "r-x", "%maps": "rwx"}},
    }
    host.prepare(root, plan, TODAY)
    sleeping: list[subprocess.Popen[bytes]] = []

    def asked(who: str) -> str:
        file = root / "home/webcam/.ssh/authorized_keys"
        done = subprocess.run(["ssh-keygen", "-lf", str(file)], capture_output=True, text=True, check=False)
        return " ".join(line for line in done.stdout.splitlines() if who.removeprefix("key:") in line)

    def session() -> tuple[str, Callable[[], bool]]:
        process = subprocess.Popen(["sleep", "600"])
        sleeping.append(process)
        host.sign_in(root, process.pid, "ann", "pts/7", "192.0.2.7", datetime.now(UTC))
        return "user:ann", lambda: process.poll() is None

    def locked(who: str) -> bool:
        lines = (root / "etc/shadow").read_text().splitlines()
        return any(line.startswith(f"{who.removeprefix('user:')}:!") for line in lines)

    def stop() -> None:
        for process in sleeping:
            process.kill()
            process.wait()

    fingers = {name: "key:" + _fingerprint(line) for name, line in KEYS.items()}
    return World(
        ADAPTERS["host"],
        host.usual(root, plan),
        "login:webcam",
        fingers["ann"],
        fingers["bob"],
        asked,
        {"root": str(root / "nowhere")},
        stop,
        session=session,
        locked=locked,
        extra={"root": root},
        kind="host",
        lockable="user:bob",
        reduces=False,
        gives_new=False,
        spoilt=lambda handle, name: {**handle, "fingerprint": name},
    )


def through_ssh(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """The same host through a real sshd, whose only key has our program run there."""
    there = unix(folder, make_telemetry)
    program = folder / "open-latch-host"
    package.write(program)
    server = ssh_server.SshServer(folder / "sshd", root=there.extra["root"], host_program=program)
    server.start()

    def stop() -> None:
        server.stop()
        there.stop()

    told = {name: there.settings[name] for name in ("folders", "time_zone")}
    return replace(
        there,
        make=ADAPTERS["ssh_host"],
        settings={**ssh_server.usual(server), **told},
        unreachable={"port": 1},
        stop=stop,
        secret=server.private("open-latch"),
        kind="ssh_host",
        extra={**there.extra, "server": server},
    )


def _fingerprint(line: str) -> str:
    done = subprocess.run(["ssh-keygen", "-lf", "-"], input=line, capture_output=True, text=True, check=True)
    return next(word for word in done.stdout.split() if word.startswith("SHA256:"))


def simulated(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """The stand-in for a cloud service, asked by HTTP."""
    service = cloud.Cloud(ADAPTER_PASSWORD)
    began = "2026-03-01T08:00:00+00:00"
    service.load(
        {
            "people": {
                "u1": {"name": "Ann Lee", "address": "ann@example.org", "number": "17"},
                "u2": {"name": "Bob Ray", "address": "bob@example.org"},
                **{f"x{n}": {"name": f"Extra {n}", "address": f"x{n}@example.org"} for n in range(230)},
            },
            "spaces": {"news": {"name": "Members' newsletter"}},
            "members": {"news": {"u1": "full", "u2": "editor"}},
            "tokens": {
                "t1": {"app": "Mailer", "scope": "read write", "person": "u1", "space": "news"},
                "t2": {"app": "Mailer", "scope": "read", "person": "u2", "space": "news"},
            },
            "sessions": {},
            "activity": [{"space": "news", "who": "u1", "day": "2026-02-27", "permission": "change"}],
        }
    )
    server = cloud.CloudServer(service, free_port())
    server.start()
    http = httpx.Client(base_url=server.address, headers={"Authorization": f"Bearer {ADAPTER_PASSWORD}"})

    def asked(who: str) -> str:
        rows = http.get("/spaces/news/members").json()["Resources"]
        return next((row["role"] for row in rows if row["id"] == who), "")

    def session() -> tuple[str, Callable[[], bool]]:
        told = {"person": "u1", "device": "Phone", "address": "192.0.2.9", "started_at": began, "last_seen_at": began}
        service.state.sessions["s1"] = told
        return "u1", lambda: any(row["id"] == "s1" for row in http.get("/sessions").json()["Resources"])

    def locked(who: str) -> bool:
        return not http.get(f"/scim/v2/Users/{who}").json()["active"]

    def stop() -> None:
        http.close()
        server.stop()

    return World(
        ADAPTERS["cloud"],
        {"address": server.address},
        "news",
        "u1",
        "u2",
        asked,
        {"address": "http://127.0.0.1:1"},
        stop,
        session=session,
        locked=locked,
        extra={"service": service, "http": http},
        kind="cloud",
        secret=ADAPTER_PASSWORD,
    )


def webdav(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """A Cyrus server with calendars, asked by its owner over HTTP."""
    server = calendars.CalendarServer(folder / "calendars", secret=ADAPTER_PASSWORD)
    server.start()
    server.prepare(
        {
            "logins": ["ann", "bob", "cy"],
            "calendars": [["rota", "Warden rota", ["Duty"]], ["open", "Openings", []]],
            "lists": {
                "rota": [["ann", "read write"], ["authenticated", "read-free-busy"], ["bob", "read"], ["cy", "-read"]],
                "open": [["all", "read"]],
            },
        }
    )

    def asked(who: str) -> str:
        return " ".join(sorted(server.granted("rota", who)))

    return World(
        ADAPTERS["dav"],
        calendars.usual(server),
        "rota",
        calendars.principal("ann"),
        calendars.principal("bob"),
        asked,
        {"address": "http://127.0.0.1:1/"},
        server.stop,
        extra={"server": server},
        kind="dav",
        secret=ADAPTER_PASSWORD,
    )


def scim(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """A SCIM server that others wrote, asked by plain calls."""
    port = free_port()
    command = [sys.executable, "-m", "scim2_server.testserver.cli", "--port", str(port)]
    with (folder / "server.log").open("wb") as log:
        server = subprocess.Popen([*command, "--bearer-token", ADAPTER_PASSWORD], stdout=log, stderr=log)
    address = f"http://127.0.0.1:{port}/v2/"
    http = httpx.Client(base_url=address, headers={"Authorization": f"Bearer {ADAPTER_PASSWORD}"})
    until(lambda: http.get("ServiceProviderConfig").is_success, httpx.TransportError)

    def made(kind: str, **values: object) -> str:
        schema = f"urn:ietf:params:scim:schemas:core:2.0:{kind.removesuffix('s')}"
        return str(http.post(kind, json={"schemas": [schema], **values}).raise_for_status().json()["id"])

    def user(name: str, **values: object) -> str:
        mails = [{"value": f"{name}@example.org", "type": "work"}]
        return made("Users", userName=name, displayName=name.capitalize(), emails=mails, active=True, **values)

    ann, bob = user("ann"), user("bob", entitlements=[{"value": "books.pay", "display": "Paying"}])
    crew = made("Groups", displayName="Crew", members=[{"value": bob, "type": "User"}])
    desk = made(
        "Groups",
        displayName="Desk",
        members=[{"value": ann, "type": "User"}, {"value": bob, "type": "User"}, {"value": crew, "type": "Group"}],
    )

    def asked(who: str) -> str:
        members = http.get(f"Groups/{desk}").raise_for_status().json().get("members", [])
        return " ".join("member" for member in members if member["value"] == who)

    def stop() -> None:
        http.close()
        server.terminate()
        server.wait(10)

    return World(
        ADAPTERS["scim"],
        {"address": address},
        f"group:{desk}",
        ann,
        bob,
        asked,
        {"address": "http://127.0.0.1:1/v2"},
        stop,
        locked=lambda who: http.get(f"Users/{who}").json()["active"] is False,
        reduces=False,
        extra={"http": http, "desk": desk, "crew": crew},
        kind="scim",
        secret=ADAPTER_PASSWORD,
    )


def maria(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """A MariaDB server, asked by its owner's SQL."""
    server = mariadb.MariadbServer(folder / "mariadb")
    server.start()
    logins = ("ann@'%'", "bob@'127.%'", "app_mailer@'127.0.0.1'")
    server.run(
        *(f"create user {one} identified by '{mariadb.LOGIN_PASSWORD}'" for one in logins),
        "create database bookings",
        "create table bookings.stays (id int, guest varchar(40), card varchar(40))",
        "create role desk",
        "create role season",
        "grant select, insert, update on bookings.* to ann@'%' with grant option",
        "grant select on bookings.* to bob@'127.%'",
        "grant select (id, guest), update (guest), insert on bookings.stays to app_mailer@'127.0.0.1'",
        "grant delete on bookings.* to desk",
        "grant desk to season",
        "grant season to ann@'%' with admin option",
        "grant proxy on ann@'%' to bob@'127.%'",
        "grant select on bookings.stays to public",
        "grant all privileges on `bookings\\_%`.* to desk",
        "create function bookings.open_days() returns int return 1",
        "grant execute on function bookings.open_days to bob@'127.%'",
        "create definer = ann@'%' sql security definer view bookings.guests as select guest from bookings.stays",
    )
    server.let_in(ADAPTER_PASSWORD)
    opened: list[object] = []

    def asked(who: str) -> str:
        name, _, host = who.rpartition("@")
        rows = server.run(
            f"select Select_priv, Insert_priv, Update_priv, Grant_priv from mysql.db where User = '{name}' "
            f"and Host = '{host}' and Db = 'bookings'"
        )
        return "".join(rows[0]).replace("N", "-") if rows else ""

    def session() -> tuple[str, Callable[[], bool]]:
        connection = server.signed_in("bob")
        opened.append(connection)

        def goes_on() -> bool:
            try:
                connection.ping(reconnect=False)
            except pymysql.Error:
                return False
            return True

        return "bob@127.%", goes_on

    def locked(who: str) -> bool:
        try:
            server.signed_in(who.rpartition("@")[0]).close()
        except pymysql.OperationalError:
            return True
        return False

    return World(
        ADAPTERS["mariadb"],
        mariadb.usual(server),
        "`bookings`.*",
        "ann@%",
        "bob@127.%",
        asked,
        {"port": 1},
        server.stop,
        session=session,
        locked=locked,
        extra={"server": server},
        kind="mariadb",
        secret=ADAPTER_PASSWORD,
    )


_WORD = "made-up-for-a-client"


class _Token(dict[str, Any]):
    """A token as Authlib's endpoints ask for it."""

    def check_client(self, client: Any) -> bool:
        return True

    def is_expired(self) -> bool:
        return bool(self["exp"] < time.time())

    def is_revoked(self) -> bool:
        return bool(self["revoked"])


class _Client:
    """Open Latch's client there."""

    client_id = "open-latch"

    def check_client_secret(self, word: str) -> bool:
        return word == _WORD

    def check_endpoint_auth_method(self, method: str, endpoint: str) -> bool:
        return method == "client_secret_basic"


def oauth(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """An authorization server by Authlib's endpoints, asked by what it has stored."""
    port = free_port()
    issuer = f"http://127.0.0.1:{port}/tenant"
    issued: dict[str, _Token] = {}

    def issue(name: str, **told: Any) -> str:
        token = f"{name}-{len(issued)}"
        issued[token] = _Token(exp=int(time.time()) + 3600, revoked=False, **told)
        return token

    given = [
        issue("mailer", client_id="mailer", aud="https://news.example.org", scope="read write", sub="ann"),
        issue("mailer", client_id="mailer", aud="https://news.example.org", scope="read pay", sub="bob"),
        issue("planner", client_id="planner", aud="https://news.example.org", scope="read"),
        issue("bare", username="cy"),
        issue("own", username="ann", aud="https://news.example.org", scope="read write"),
        issue("own", username="bob", aud="https://news.example.org", scope="read"),
    ]

    def query(self: object, token: str, hint: str | None) -> _Token | None:
        return issued.get(token)

    class Introspection(IntrospectionEndpoint):
        query_token = query

        def check_permission(self, token: _Token, client: _Client, request: Any) -> bool:
            return client.client_id == "open-latch"

        def introspect_token(self, token: _Token) -> dict[str, Any]:
            return {name: value for name, value in token.items() if name != "revoked"}

    class Revocation(RevocationEndpoint):
        query_token = query

        def revoke_token(self, token: _Token, request: Any) -> None:
            token["revoked"] = True

    app = Flask("authorization")
    server = AuthorizationServer(app, lambda ident: _Client() if ident == "open-latch" else None, lambda *_: None)
    server.register_endpoint(Introspection)
    server.register_endpoint(Revocation)
    base = f"http://127.0.0.1:{port}"
    described = {"issuer": issuer}
    for kind, path in (("introspection", "/introspect"), ("revocation", "/revoke")):
        described[f"{kind}_endpoint"] = f"{base}{path}"
        app.add_url_rule(path, kind, partial(server.create_endpoint_response, kind), methods=["POST"])
    app.add_url_rule("/.well-known/oauth-authorization-server/tenant", "described", lambda: described)
    running = AppServer(app, port)
    running.start()

    def asked(who: str) -> str:
        name = who.removeprefix("user:")
        return ", ".join(one["scope"] for one in issued.values() if one.get("username") == name and not one["revoked"])

    return World(
        ADAPTERS["oauth"],
        {"issuer": issuer},
        "https://news.example.org",
        "user:ann",
        "user:bob",
        asked,
        {"issuer": "http://127.0.0.1:1"},
        running.stop,
        secret=f"open-latch:{_WORD} {' '.join(given)}",
        reduces=False,
        gives_new=False,
        gives_again=False,
        spoilt=lambda handle, name: {**handle, "tokens": [name]},
        extra={"issued": issued, "described": described},
        kind="oauth",
    )


def example(folder: Path, make_telemetry: Callable[[str], Cluster]) -> World:
    """The worked example of the how-to, asked by reading its file."""
    file = folder / "rota.csv"
    file.write_text("account,holder,level,until\nhut,ann@example.org,planner,2026-09-30\nhut,bob,reader,\n")

    def asked(who: str) -> str:
        return " ".join(line for line in file.read_text().splitlines() if f",{who}," in line)

    return World(
        _example(),
        {"file": str(file)},
        "hut",
        "ann@example.org",
        "bob",
        asked,
        {"file": str(folder / "nowhere" / "rota.csv")},
        kind="example",
    )


def _example() -> Maker:
    place = Path(__file__).parents[2] / "docs" / "how-to" / "example_adapter.py"
    specification = spec_from_file_location("example_adapter", place)
    assert specification is not None
    assert specification.loader is not None
    module = module_from_spec(specification)
    specification.loader.exec_module(module)
    maker: Maker = module.RotaAdapter
    return maker


WORLDS = {
    "postgresql": postgresql,
    "directory": ldap,
    "mailboxes": imap,
    "host": unix,
    "cloud": simulated,
    "dav": webdav,
    "scim": scim,
    "mariadb": maria,
    "oauth": oauth,
    "ssh_host": through_ssh,
}
# For the adapter alone, as it is no kind of the service's.
ALL_WORLDS = {**WORLDS, "example": example}
