"""From an empty database to the first review closed with evidence: by the console alone, and by the command line alone.
The service runs as it does for a small organisation: out of one folder.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from playwright.sync_api import Page, expect, sync_playwright

from openlatch import schemas
from openlatch.client import CallFailed, Client
from openlatch.core.reviews import evidence_bundle
from openlatch.errors import BadInput
from openlatch.processes import CantStart, free_port
from openlatch.runtime import own_server
from openlatch.runtime.cluster import Cluster
from openlatch.runtime.own_server import DATABASE, Keys, OwnServer, rotate
from tests.browser import launch
from tests.cli.program import Program
from tests.waiting import until

pytestmark = pytest.mark.xdist_group("demo")
PASSWORD = "quiet lanterns over moss"


@pytest.fixture(scope="module")
def prepared(folder: Path) -> Path:
    """A folder as the first start makes it: keys, a database with its tables."""
    made = OwnServer(folder / "own-prepared", f"127.0.0.1:{free_port()}", "", 0)
    made.prepare()
    made.cluster.stop()
    return made.folder


@pytest.fixture
def server(folder: Path, prepared: Path, request: pytest.FixtureRequest) -> Iterator[OwnServer]:
    """An empty service, running out of a folder of its own."""
    place = folder / f"own-{request.node.name[:30]}"
    subprocess.run(["cp", "-a", prepared, place], check=True)
    made = OwnServer(place, f"127.0.0.1:{free_port()}", "", 0)
    try:
        made.start()
        yield made
    finally:
        made.stop()


def code_of(server: OwnServer) -> str:
    return server.code().rpartition(" ")[2]


def pick(page: Page, label: str, name: str) -> None:
    box = page.get_by_role("combobox", name=re.compile(f"^{label}"))
    box.fill(name)
    page.get_by_role("option", name=name).first.click()


def test_the_first_hour_by_the_console_alone(server: OwnServer) -> None:
    """Set up, a system by hand, an account, a person, access that is there, a review, its evidence."""
    with sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_context(base_url=server.public_address, viewport={"width": 1280, "height": 800}).new_page()
        page.set_default_timeout(60_000)
        try:
            _set_up(page, code_of(server))
            _fill_register(page)
            _review(page)
        finally:
            browser.close()


def _set_up(page: Page, code: str) -> None:
    page.goto("/")
    page.get_by_label("The code that the start printed").fill("not-the-code")
    page.get_by_label("Organisation").fill("Larch Path Club")
    page.get_by_label("Time zone").fill("Europe/Nowhere")
    page.get_by_label("Your name").fill("Ada Larch")
    page.get_by_label("Your e-mail address").fill("ada@larch.example.org")
    page.get_by_label("A password").fill(PASSWORD)
    page.get_by_role("button", name="Set it up").click()
    expect(page.get_by_role("alert")).to_contain_text("That is not the code")
    page.get_by_label("The code that the start printed").fill(code)
    page.get_by_role("button", name="Set it up").click()
    expect(page.get_by_role("alert")).to_contain_text("There is no time zone")
    page.get_by_label("Time zone").fill("Europe/London")
    page.get_by_role("button", name="Set it up").click()
    expect(page.get_by_role("heading", name="What do you share?")).to_be_visible()


def _fill_register(page: Page) -> None:
    dialog = page.get_by_role("dialog")
    page.get_by_role("button", name="Connect or name a system").click()
    dialog.get_by_role("textbox", name="Name").fill("Shared sheets")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_have_count(0)
    page.get_by_role("button", name="Add a person").click()
    dialog.get_by_label("Name (needed)").fill("Bo Fern")
    dialog.get_by_label("E-mail address").fill("bo@larch.example.org")
    dialog.get_by_role("button", name="Add the person").click()
    expect(dialog).to_have_count(0)
    page.get_by_role("button", name="Add an account").click()
    dialog.get_by_label("Name (needed)").fill("Walks plan")
    pick(page, "System", "Shared sheets")
    pick(page, "Owner", "Ada Larch")
    dialog.get_by_label("Sensitivity").select_option("high")
    dialog.get_by_role("button", name="Add the account").click()
    expect(page.get_by_role("heading", name="Walks plan")).to_be_visible()
    page.get_by_role("button", name="Record existing access").click()
    pick(page, "Who", "Bo Fern")
    pick(page, "Level", "Edit")
    dialog.get_by_label("How you know").fill("Seen in the sheet's list.")
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog.get_by_text("1 new, 0 recorded already.")).to_be_visible()
    dialog.get_by_role("button", name="Record 1").click()
    expect(dialog).to_have_count(0)
    expect(page.get_by_text("Recorded by Ada Larch; who gave it is not known").first).to_be_visible()


def _review(page: Page) -> None:
    page.goto("/rounds")
    page.get_by_role("button", name="Open a round now").or_(
        page.get_by_role("button", name="Open a round")
    ).first.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name", exact=False).first.fill("The first look")
    # Without who is in Open Latch itself: whether that was read by now is a matter of seconds.
    scope = dialog.get_by_label("Which of them").first
    scope.fill('account.name ne "Open Latch"')
    scope.press("Tab")
    expect(dialog.get_by_text("As things are, it would hold")).to_contain_text("1 grant")
    dialog.get_by_role("button", name="Open the round").click()
    current = page.locator("[data-test^=item-][aria-current=true]")
    expect(current).to_be_visible()
    current.focus()
    page.keyboard.press("k")
    why = page.get_by_label("Why it is needed")
    closing = page.get_by_role("button", name="Close the round")
    expect(page.get_by_text("0 of 1 item left for you").or_(why).first).to_be_visible()
    if why.is_visible():
        why.fill("Bo keeps the plan.")
        page.keyboard.press("Enter")
    expect(page.get_by_text("0 of 1 item left for you")).to_be_visible()
    closing.click()
    dialog.get_by_role("button", name=re.compile("^Close (the round|with)")).click()
    evidence = page.get_by_role("link", name="Download the evidence")
    expect(evidence).to_be_visible(timeout=60_000)
    with page.expect_download() as taken:
        evidence.click()
    found = evidence_bundle.verify(Path(taken.value.path()).read_bytes())
    assert (found.faults, found.items) == ((), 1)


@pytest.fixture
def program() -> Iterator[Program]:
    """The command line, imported once."""
    started = Program(os.environ)
    yield started
    started.stop()


def test_the_first_hour_by_the_command_line_alone(server: OwnServer, program: Program, tmp_path: Path) -> None:
    """And the folder after it: a backup that was tried, put back; nothing of it readable by others."""
    environment = {**os.environ, "XDG_CONFIG_HOME": str(tmp_path), "COLUMNS": "100", "NO_COLOR": "1"}

    def openlatch(*words: str) -> str:
        done = program.call(words, "", environment)
        assert done.returncode == 0, f"{words}: {done.stdout}{done.stderr}"
        return done.stdout

    openlatch(
        "set-up",
        "--url",
        server.public_address,
        "--code",
        code_of(server),
        "--organisation",
        "Larch Path Club",
        "--time-zone",
        "Europe/London",
        "--name",
        "Ada Larch",
        "--address",
        "ada@larch.example.org",
        "--password",
        PASSWORD,
    )
    openlatch("system", "add", "Shared sheets")
    openlatch("person", "add", "Bo Fern", "--address", "bo@larch.example.org")
    openlatch("account", "add", "Walks plan", "--system", "Shared sheets", "--owner", "Ada Larch", "--sensitivity", "3")
    openlatch("grant", "record", "Walks plan", "Bo Fern", "Edit", "--evidence", "Seen in the list.", "--yes")
    about = 'account.name eq "Walks plan"'
    opened = json.loads(openlatch("round", "open", "The first look", "--scope", about, "--output", "json"))
    ident = opened["id"]
    openlatch("round", "decide", ident, "1", "keep", "--yes", "--reason", "Bo keeps the plan.")
    openlatch("round", "close", ident, "--yes")
    taken = tmp_path / "evidence.zip"
    # A worker ends the round, a moment after it was closed.
    until(lambda: program.call(("evidence", "take", ident, "--to", str(taken)), "", environment).returncode == 0)
    assert evidence_bundle.verify(taken.read_bytes()).items == 1
    _folder_is_sound(server)


def _folder_is_sound(server: OwnServer) -> None:
    backup = server.back_up(datetime.now(UTC))
    for path in (server.folder / "keys.json", backup, server.folder / "logs" / "serve.log"):
        assert path.stat().st_mode & 0o077 == 0, path
    for name in ("systems_key", "evidence_key"):
        assert getattr(Keys.of(server.folder), name).encode() not in backup.read_bytes()
    with psycopg.connect(server.cluster.url(DATABASE)) as db:
        db.execute("update people set name = 'Somebody Else'")
    with pytest.raises(CantStart, match="runs in this folder"):
        own_server.restore(server.folder, backup)
    server.stop()
    own_server.restore(server.folder, backup)
    server.start()
    with Client(server.public_address) as client:
        token = client.make_token("ada@larch.example.org", PASSWORD).token
    with Client(server.public_address, token) as client:
        assert {row.name for row in client.list("people").rows} == {"Ada Larch", "Bo Fern"}
        assert client.verify_journal().sound


def test_a_day_and_a_large_log_are_looked_after(server: OwnServer, monkeypatch: pytest.MonkeyPatch) -> None:
    """A backup a day and no more, of which the oldest go; a log is put aside and goes on."""
    now = datetime.now(UTC)
    server.look_after(now)
    server.look_after(now + timedelta(hours=23))
    assert len(server.backups()) == 1
    monkeypatch.setattr(own_server, "BACKUPS_KEPT", 2)
    for days in (2, 4):
        server.back_up(now + timedelta(days=days))
    assert [b.name[10:20] for b in server.backups()] == [f"{now + timedelta(days=d):%Y-%m-%d}" for d in (2, 4)]
    log = server.folder / "logs" / "worker.log"
    monkeypatch.setattr(own_server, "LARGEST_LOG", 10)
    log.write_text("line\n" * 100)
    rotate(log)
    assert log.stat().st_size == 0
    assert log.with_suffix(".log.1").read_text() == "line\n" * 100


@pytest.fixture
def elsewhere(folder: Path) -> Iterator[Cluster]:
    """A database server of one's own: what moves there sets the passwords of its roles."""
    made = Cluster(folder / "elsewhere")
    made.start()
    try:
        yield made
    finally:
        made.stop()


def test_the_data_moves_to_a_server_of_ones_own(server: OwnServer, elsewhere: Cluster, tmp_path: Path) -> None:
    """Its journal is the same there, and the processes find their configurations; one with something is refused."""
    address = "ada@larch.example.org"
    wish = schemas.SetUp(
        code=code_of(server), organisation="Larch", time_zone="UTC", name="Ada", address=address, password=PASSWORD
    )
    with Client(server.public_address) as client:
        client.set_up(wish)
        with pytest.raises(CallFailed, match="set up already"):
            client.set_up(wish)
    server.stop()
    elsewhere.ensure_database("moved")
    own_server.move(server.folder, elsewhere.url("moved"), tmp_path / "etc")
    with psycopg.connect(elsewhere.url("moved")) as db:
        row = db.execute("select name from organisations").fetchone()
        assert row == ("Larch",)
    for name in ("web", "worker", "admin"):
        written = tmp_path / "etc" / f"{name}.toml"
        assert written.stat().st_mode & 0o077 == 0
        assert ("systems_key" in written.read_text()) == (name != "web")
    with pytest.raises(BadInput, match="not empty"):
        own_server.move(server.folder, elsewhere.url("moved"), tmp_path / "etc")
