"""What real servers leave open: each exposure is tried by somebody outside, who finds it open, and nothing else."""

from __future__ import annotations

import imaplib
import os
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import count
from pathlib import Path
from typing import Any

import httpx
import ldap3
import psycopg
import pytest

from openlatch.runtime.cluster import Cluster
from openlatch.service import connections
from openlatch.service.lists import register
from openlatch.service.revocations import close_exposures
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.lists.engine import ListQuery
from openlatch.test_systems import calendars, directory, host, mailboxes, telemetry
from tests.conftest import ADAPTER_PASSWORD, Clock, telemetry_settings
from tests.service.ending import carry_on


@dataclass
class Open:
    """A system with things that are open, or seem to be. ``tried`` asks as somebody outside for a thing and a right.

    ``forgotten`` is what is closed; there is none where closing takes the server's own settings.
    """

    kind: str
    settings: dict[str, Any]
    things: tuple[str, ...]
    tried: Callable[[str, str], bool]
    forgotten: str
    stop: Callable[[], None] = lambda: None
    secret: str = ADAPTER_PASSWORD
    unclear: tuple[str, ...] = ()


ENTRY = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Tried//Tried//EN
BEGIN:VEVENT
UID:tried
DTSTAMP:20260101T000000Z
DTSTART:20260601T080000Z
DTEND:20260601T090000Z
SUMMARY:Tried
END:VEVENT
END:VCALENDAR
""".replace("\n", "\r\n")
TIMES = """<C:free-busy-query xmlns:C="urn:ietf:params:xml:ns:caldav">
<C:time-range start="20260601T000000Z" end="20260602T000000Z"/></C:free-busy-query>"""
NUMBERS = count(1)
XML = {"Content-Type": "text/xml", "Depth": "1"}


def dav(folder: Path, make_telemetry: Callable[[str], Cluster]) -> Open:
    """Calendars, tried without signing in and by a login that stands in no list."""
    server = calendars.CalendarServer(folder / "calendars", secret=ADAPTER_PASSWORD)
    server.start()
    lists: dict[str, list[list[str]]] = {
        "to-all": [["all", "read"]],
        "to-signed-in": [["authenticated", "read"]],
        "to-write": [["all", "all"]],
        "without-sign-in": [["unauthenticated", "read"]],
        "named": [["ann", "read write"]],
        "nobody": [],
        "times": [["all", "read-free-busy"]],
        "denied-first": [["bob", "-read"], ["authenticated", "read"]],
    }
    names = [[name, name, ["Kept"]] for name in lists]
    server.prepare(
        {
            "logins": ["ann", "bob", "visitor"],
            "calendars": [*names, ["empty", "empty", []]],
            "lists": {**lists, "empty": [["all", "read"]]},
        }
    )

    def tried(thing: str, right: str) -> bool:
        at = f"{server.address}{thing}/"
        for auth in (None, ("visitor", calendars.LOGIN_PASSWORD)):
            with httpx.Client(auth=auth, follow_redirects=True) as http:
                if right == "change":
                    head = {"Content-Type": "text/calendar"}
                    answers = [http.put(f"{at}tried.ics", content=ENTRY, headers=head)]
                else:
                    times = http.request("REPORT", at, content=TIMES, headers=XML)
                    answers = [http.get(f"{at}{thing}-0.ics"), http.get(at), times]
            if any(answer.is_success for answer in answers):
                return True
        return False

    return Open("dav", calendars.usual(server), (*lists, "empty"), tried, "to-all", server.stop)


def mail(folder: Path, make_telemetry: Callable[[str], Cluster]) -> Open:
    """Shared mailboxes, tried by a login that stands in no list."""
    server = mailboxes.MailboxServer(folder / "mailboxes", secret=ADAPTER_PASSWORD)
    server.start()
    boxes = ["Board", "Notices", "Drop", "Rescue", "Closed"]
    lists = [
        ("Board", "ann", "lrs"),
        ("Notices", "anyone", "lr"),
        ("Drop", "authenticated", "lrwi"),
        ("Rescue", "anyone", "lr"),
        ("Rescue", "ann", "l"),
        ("Closed", "ann", "lrswi"),
    ]
    server.prepare({"logins": ["ann", "visitor"], "mailboxes": boxes, "lists": lists})

    def tried(thing: str, right: str) -> bool:
        with imaplib.IMAP4("127.0.0.1", server.port) as own:
            own.login("visitor", mailboxes.LOGIN_PASSWORD)
            if right == "change":
                return own.append(f'"Shared/{thing}"', None, None, b"Subject: tried\r\n\r\n")[0] == "OK"  # type: ignore[arg-type]
            return own.select(f'"Shared/{thing}"', readonly=True)[0] == "OK"

    return Open("mailboxes", mailboxes.usual(server), tuple(boxes), tried, "Notices", server.stop)


def postgresql(folder: Path, make_telemetry: Callable[[str], Cluster]) -> Open:
    """Tables of a schema that everybody may use, tried by a login with no rights of its own."""
    server = make_telemetry("open")
    url = server.url(telemetry.DATABASE)
    with psycopg.connect(url, autocommit=True) as db:
        db.execute("create schema open_to_all; grant usage on schema open_to_all to public")
        db.execute("create schema shut; create table shut.away (x int); grant select on shut.away to public")
        for name in ("seen", "filled", "kept", "by_row", "by_row_for_some"):
            db.execute(f"create table open_to_all.{name} (x int)")  # type: ignore[call-overload]
            db.execute(f"insert into open_to_all.{name} values (1)")  # type: ignore[call-overload]
        db.execute("grant select on open_to_all.seen, open_to_all.by_row, open_to_all.by_row_for_some to public")
        db.execute("grant select, insert on open_to_all.filled to public")
        db.execute("alter table open_to_all.by_row enable row level security")
        db.execute("alter table open_to_all.by_row_for_some enable row level security")
        db.execute("create policy everybody on open_to_all.by_row using (true)")
        db.execute("create role visitor login password 'visitor'; create role keeper")
        db.execute("alter table open_to_all.seen owner to keeper")
        db.execute(f"grant keeper to {telemetry.ADAPTER_LOGIN}")  # type: ignore[call-overload]

    def tried(thing: str, right: str) -> bool:
        statement = f"select * from {thing}" if right == "see" else f"insert into {thing} values (2)"
        try:
            with psycopg.connect(server.url(telemetry.DATABASE, "visitor", "visitor")) as own:
                rows = own.execute(statement)  # type: ignore[call-overload]
                return right != "see" or bool(rows.fetchall())
        except psycopg.errors.InsufficientPrivilege:
            return False

    things = tuple(f"open_to_all.{name}" for name in ("seen", "filled", "kept", "by_row", "by_row_for_some"))
    return Open(
        "postgresql",
        telemetry_settings(server),
        (*things, "shut.away"),
        tried,
        "open_to_all.seen",
        unclear=("open_to_all.by_row", "open_to_all.by_row_for_some"),
    )


def anonymous(folder: Path, make_telemetry: Callable[[str], Cluster]) -> Open:
    """Groups of a directory that shows one of them, and lets another be changed, without signing in."""
    server = directory.DirectoryServer(folder / "directory")
    server.start()
    groups = [(name, name, ["ann"], []) for name in ("shown", "changed", "kept")]
    people = [("ann", "Ann Lee", "ann@example.org")]
    server.prepare({"people": people, "apps": [], "groups": groups, "signed_in": []}, ADAPTER_PASSWORD)
    server.stop()
    writing = f'by dn.exact="{directory.ADAPTER_LOGIN}" write'
    opened = "".join(
        f'access to dn.base="{directory.group(name)}" {writing} by * {right}\n'
        for name, right in (("shown", "read"), ("changed", "write"))
    )
    file = server.folder / "slapd.conf"
    kept = file.read_text().replace("database mdb", "allow update_anon\ndatabase mdb", 1)
    kept = kept.replace("access to", f"{opened}access to", 1)
    server.write = lambda: file.write_text(kept)  # type: ignore[assignment, method-assign]
    server.start()

    def tried(thing: str, right: str) -> bool:
        at = ldap3.Server("127.0.0.1", server.port, get_info=ldap3.NONE)
        with ldap3.Connection(at, check_names=False) as nobody:
            if right == "change":
                return bool(nobody.modify(directory.group(thing), {"member": [(ldap3.MODIFY_ADD, ["cn=anyone"])]}))
            return bool(nobody.search(directory.group(thing), "(objectClass=*)", ldap3.BASE, attributes=["member"]))

    return Open("directory", directory.usual(server), ("shown", "changed", "kept"), tried, "", server.stop)


def unix(folder: Path, make_telemetry: Callable[[str], Cluster]) -> Open:
    """Folders of a host with modes, tried by a user who has no rights on them."""
    if os.getuid() != 0:
        pytest.skip("only root can try what another user may")
    root = folder / "host"
    modes = {
        "/srv/wide": 0o757,
        "/srv/shown": 0o755,
        "/srv/kept": 0o750,
        "/srv/inner/deep": 0o757,
        "/srv/listed": 0o754,
        "/srv/through": 0o751,
    }
    inside = {
        "shown/inner": 0o757,
        "shown/inner/deep": 0o757,
        "shown/shut": 0o750,
        "shown/shut/wide": 0o757,
        "through/given": 0o755,
        "through/kept": 0o750,
    }
    plan = {
        "users": {"ann": "Ann Lee", "visitor": "A visitor"},
        "groups": {},
        "keys": {},
        "rules": {},
        "folders": {name: {} for name in modes},
    }
    host.prepare(root, plan, datetime(2026, 3, 2, tzinfo=UTC))
    for path in (root, *root.rglob("*")):
        path.chmod(0o755)
    (root / "srv/inner").chmod(0o750)
    for name, mode in modes.items():
        (root / name.lstrip("/")).chmod(mode)
    for name, mode in inside.items():
        (root / "srv" / name).mkdir()
        (root / "srv" / name).chmod(mode)
    (root / "srv/through/note.txt").write_text("")
    (root / "srv/through/note.txt").chmod(0o646)
    for folder in ("shown", "kept", "through"):
        subprocess.run(["setfacl", "-d", "-m", "o::rw-", str(root / "srv" / folder)], check=True)

    nobody = {"user": 65534, "group": 65534, "extra_groups": []}

    def tried(thing: str, right: str) -> bool:
        new = thing.startswith("What is made new in ")
        place = root / thing.removeprefix("Folder ").removeprefix("What is made new in ").lstrip("/")
        if not place.exists():
            place = next(
                root / "srv" / top / thing for top in ("shown", "through") if (root / "srv" / top / thing).exists()
            )
        if new:
            place = place / "made"
            place.touch()
        if place.is_file():
            way = "-r" if right == "see" else "-w"
            return subprocess.run(["test", way, str(place)], check=False, **nobody).returncode == 0  # type: ignore[call-overload, no-any-return]
        command = ["ls", str(place)] if right == "see" else ["touch", str(place / "tried")]
        entered = subprocess.run(["ls", f"{place}/."], capture_output=True, check=False, **nobody)  # type: ignore[call-overload]
        done = subprocess.run(command, capture_output=True, check=False, **nobody)  # type: ignore[call-overload]
        return bool(done.returncode == 0 and entered.returncode == 0)

    new = [f"What is made new in /srv/{name}" for name in ("shown", "kept", "through")]
    things = (*(f"Folder {name}" for name in modes), "inner", "shut/wide", "given", "kept", "note.txt", *new)
    return Open("host", host.usual(root, plan), things, tried, "Folder /srv/shown", secret="")


@pytest.fixture(params=[postgresql, mail, dav, anonymous, unix], ids=lambda make: make.__name__)
def system(request: pytest.FixtureRequest, folder: Path, make_telemetry: Callable[[str], Cluster]) -> Iterator[Open]:
    place = folder / f"{request.param.__name__}-{next(NUMBERS)}"
    place.mkdir()
    place.chmod(0o755)
    made = request.param(place, make_telemetry)
    yield made
    made.stop()


def exposures(service: Service, viewer: Viewer, understood: bool = True) -> set[tuple[str, str]]:
    """What is open, by the beginning of its name; a table's says after it what is odd about it."""
    with service.unit(viewer) as unit:
        query = ListQuery(limit=200, filter=f"understood eq {str(understood).lower()}")
        page = register.page(unit, "exposures", query)
        return {(_named(row), row["right"]) for row in page.rows}


def _named(row: dict[str, Any]) -> str:
    name = str((row["resource"] or {}).get("name") or "")
    name = name if name.startswith("What is made new") else name.partition(" ")[0]
    return str(row["account"]["name"]) if name in ("", "Inbox") else name


def test_each_exposure_opens_from_outside_and_what_opens_is_one(
    service: Service, organisation: Viewer, clock: Clock, system: Open
) -> None:
    """None is missed, and none is told that does not open; closed, it opens no more, and comes back as open again."""
    ident = connections.connect(service, organisation, "s", "S", system.kind, system.settings, system.secret)
    readings.read(service, organisation.organisation, ident)
    told = exposures(service, organisation)
    opened = {(thing, right) for thing in system.things for right in ("see", "change") if system.tried(thing, right)}
    unclear = exposures(service, organisation, understood=False)
    assert {
        (name, right) for name, right in told if name in system.things and right != "administer"
    } == opened - unclear
    assert {name for name, _ in unclear} == set(system.unclear)
    if not system.forgotten:
        return
    assert (system.forgotten, "see") in opened
    with service.unit(organisation) as unit:
        rows = register.page(unit, "exposures", ListQuery(limit=200, filter='right eq "see"')).rows
        (exposure,) = [row["id"] for row in rows if _named(row) == system.forgotten]
        revocation = close_exposures.close(unit, [exposure], "Nobody needs it any more.")
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert not system.tried(system.forgotten, "see")
    assert (system.forgotten, "see") not in exposures(service, organisation)
