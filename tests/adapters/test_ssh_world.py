"""A host through a real sshd: it proves who it is, takes a key or a certificate, and has only the program run."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from openlatch.adapters import Reading
from openlatch.adapters.unix_host import package, remote, wire
from openlatch.adapters.unix_host.adapter import HostAdapter
from openlatch.conformance import World
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from tests.adapters.worlds import through_ssh


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    place = folder / "ssh-world"
    place.mkdir()
    place.chmod(0o755)
    made = through_ssh(place, lambda _: pytest.fail("no such server"))
    yield made
    made.stop()


def test_what_comes_through_is_what_is_there(world: World) -> None:
    """Each thing as it would be found on the host itself."""
    here = HostAdapter({"root": str(world.extra["root"]), "folders": world.settings["folders"]}, "")
    assert Reading.of(world.adapter().read()) == Reading.of(here.read())


def test_another_host_or_another_key_is_refused(world: World) -> None:
    """Before anything is sent: whoever stands in between learns nothing."""
    server = world.extra["server"]
    with pytest.raises(SystemRefused, match="is another one"):
        world.adapter(host_key=server.public("authority")).check()
    with pytest.raises(SystemRefused, match="Permission denied"):
        world.adapter(server.private("authority")).check()
    for name, value in (("address", "-oProxyCommand=x"), ("user", "a b"), ("host_key", "none"), ("host_key", "x\ny")):
        with pytest.raises(SystemRefused, match="can't be used as"):
            world.adapter(**{name: value}).check()


def test_a_key_in_one_line_is_the_same_key(world: World) -> None:
    """As a field for passwords makes of it; what is no key is refused before anybody is called."""
    for between in ("", " "):
        world.adapter(world.secret.strip().replace("\n", between)).check()
    with pytest.raises(SystemRefused, match="no private key"):
        world.adapter("a word").check()


def test_a_certificate_lets_in_by_its_principal_and_until_its_end(world: World) -> None:
    """A key that the host does not know, signed by the authority that it trusts."""
    server = world.extra["server"]
    for principal, validity, passes in (
        ("open-latch", "+1h", True),
        ("somebody-else", "+1h", False),
        ("open-latch", "20200101:20200102", False),
    ):
        certificate = server.certificate(principal, validity)
        adapter = world.adapter(server.private(f"visitor-{principal}"), certificate=certificate)
        if passes:
            adapter.check()
            continue
        with pytest.raises(SystemRefused, match="does not let"):
            adapter.check()


def test_the_key_can_do_nothing_else(world: World) -> None:
    """Whatever it asks sshd for, the program answers; and which folder is read, is not its to say."""
    server = world.extra["server"]
    adapter = world.adapter()
    command = adapter._command(server.folder)
    told = subprocess.run(
        [*command[:-1], "cat /etc/passwd"], input="whoami\n", capture_output=True, text=True, check=False
    )
    assert json.loads(told.stdout)["refused"]
    adapter._told["root"] = "/nowhere"
    assert Reading.of(adapter.read()).accounts


@pytest.mark.parametrize(
    ("lines", "error"),
    [
        ("Welcome to the host\n", "answers otherwise"),
        ('{"found": {"is": "SharedAccount", "odd": 1}}\n', "not understood"),
        ('{"found": {"is": "Login", "handle": 5, "comment": "", "is_app": false}}\n', "not understood"),
        ('{"found": {"is": "os.system"}}\n', "not understood"),
        ("[1, 2]\n", "answers otherwise"),
        ("", "did not answer"),
        ('{"found": {"is": "SharedAccount", "handle": "a", "comment": "b"}}\n', "did not answer"),
    ],
)
def test_what_the_program_would_not_say_is_no_reading(
    world: World, monkeypatch: pytest.MonkeyPatch, lines: str, error: str
) -> None:
    """A message of the day, a thing of another version, an answer that breaks off."""
    adapter = world.adapter()
    said = [sys.executable, "-c", f"import sys; sys.stdin.readline(); sys.stdout.write({lines!r})"]
    monkeypatch.setattr(adapter, "_command", lambda folder: said)
    with pytest.raises((SystemRefused, SystemDown), match=error):
        Reading.of(adapter.read())


def test_a_host_that_stalls_is_given_up(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(remote, "CALL_SECONDS", 0.5)
    adapter = world.adapter()
    monkeypatch.setattr(adapter, "_command", lambda folder: [sys.executable, "-c", "import time; time.sleep(60)"])
    with pytest.raises(SystemDown, match="did not answer"):
        adapter.check()


def test_several_calls_go_over_one_connection_and_one_that_broke_is_made_anew(world: World) -> None:
    """As a plan is carried out: what fails in between leaves nothing of its answer behind."""
    adapter = world.adapter()
    with adapter.together():
        adapter.check()
        first = adapter._process
        for _ in range(3):
            assert Reading.of(adapter.read()).accounts
        assert adapter._process is first
        with pytest.raises(SystemRefused):
            adapter.confirm(StepKind.LOCK, {"login": "user:nobody-there"})
        next(iter(adapter.read()))
        adapter.check()
        assert adapter._process is not first
        adapter._process.kill()
        with pytest.raises(SystemDown):
            adapter.check()
        adapter.check()
    assert adapter._kept is None


def test_the_program_runs_with_nothing_but_python(world: World, tmp_path: Path) -> None:
    """In a Python without any package; a request of another version, or none, is refused."""
    program = tmp_path / "program"
    package.write(program)
    root = str(world.extra["root"])
    for asked, answer in (
        ('{"version": 1, "call": "read"}', "found"),
        ('{"version": 2, "call": "read"}', "refused"),
        ('{"version": 1, "call": "shell"}', "refused"),
        ("not json", "refused"),
        ("[]", "refused"),
    ):
        alone = [sys.executable, "-I", "-S", str(program), "--root", root]
        done = subprocess.run(alone, input=asked, capture_output=True, text=True, check=True)
        assert answer in json.loads(done.stdout.splitlines()[0]), done.stdout


def test_everything_that_can_be_found_can_be_sent(world: World) -> None:
    for thing in world.adapter().read():
        assert wire.read(json.loads(json.dumps(wire.written(thing)))) == thing
