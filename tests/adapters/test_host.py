"""The files of a host: told as its own programs tell them, and changed without touching anything else."""

from __future__ import annotations

import os
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openlatch.adapters import Reading
from openlatch.adapters.unix_host import exposure, files, rules, sessions
from openlatch.adapters.unix_host.adapter import HostAdapter
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.test_systems import host
from tests.adapters.worlds import KEYS, TODAY

ODD = (
    b"# ssh-ed25519 AAAA in a comment\r\n\t  \n"
    + KEYS["ann"].encode()
    + b"\r\n"
    + KEYS["bob"].encode()
    + b"\n"
    + b"garbage \xff\xfe\n"
    + b"  "
    + KEYS["ann"].encode()
    + b" twice, and no end of line"
)


def test_keys_are_told_as_ssh_keygen_tells_them(tmp_path: Path) -> None:
    """With options, comments, odd ends of lines and a key's name inside quotes."""
    (tmp_path / "keys").write_bytes(ODD)
    told = subprocess.run(["ssh-keygen", "-lf", str(tmp_path / "keys")], capture_output=True, text=True, check=False)
    wanted = [word for line in told.stdout.splitlines() for word in line.split() if word.startswith("SHA256:")]
    found = list(files.keys(ODD))
    assert [key.fingerprint for key in found] == wanted
    bob = found[1]
    assert bob.options["from"] == "192.0.2.0/24"
    assert bob.options["command"] == '/usr/bin/uptime "ssh-rsa AAAA"'
    assert bob.until(ZoneInfo("Europe/London")) == datetime(2026, 12, 31, tzinfo=UTC)
    local = files.Key(b"", "", "", {"expiry-time": "20260701083000"})
    assert local.until(ZoneInfo("Europe/London")) == datetime(2026, 7, 1, 7, 30, tzinfo=UTC)


def test_taking_a_key_out_keeps_every_other_byte() -> None:
    """The same key on two lines goes from both."""
    first = next(iter(files.keys(ODD))).fingerprint
    left = files.without_key(ODD, first)
    assert left == b"# ssh-ed25519 AAAA in a comment\r\n\t  \n" + KEYS["bob"].encode() + b"\ngarbage \xff\xfe\n"
    assert files.without_key(left, first) == left


@given(st.binary(max_size=300))
def test_any_bytes_are_read_without_harm(content: bytes) -> None:
    """What is no key is left as it is."""
    for key in files.keys(content):
        assert key.fingerprint.startswith("SHA256:")
    assert files.without_key(content, "SHA256:none") == content
    assert b"".join(raw for _, raw in rules.logical_lines(content)) == content
    list(sessions.signed_in(content))
    list(sessions.told(content.decode("utf-8", "replace")))


def test_a_file_is_changed_in_one_go_with_a_copy_and_its_mode(tmp_path: Path) -> None:
    """Doing it again makes no other copy; a link that leads out is refused."""
    path = tmp_path / "etc" / "group"
    path.parent.mkdir()
    path.write_bytes(b"maps:x:1001:ann,bob\n")
    path.chmod(0o640)
    assert files.rewrite(tmp_path, path, lambda c: c.replace(b"ann,", b""))
    assert (path.read_bytes(), path.stat().st_mode & 0o777) == (b"maps:x:1001:bob\n", 0o640)
    (copy,) = (tmp_path / files.COPIES).iterdir()
    assert copy.read_bytes() == b"maps:x:1001:ann,bob\n"
    assert not files.rewrite(tmp_path, path, lambda c: c)
    assert os.listdir(path.parent) == ["group"]  # noqa: PTH208  nothing is left lying about
    outside = tmp_path.parent / f"{tmp_path.name}-outside"
    outside.write_bytes(b"x")
    (tmp_path / "etc" / "link").symlink_to(outside)
    with pytest.raises(SystemRefused, match="leads out"):
        files.rewrite(tmp_path, tmp_path / "etc" / "link", lambda c: b"")
    assert outside.read_bytes() == b"x"


LOGINCTL = """#!/bin/sh
case "$1" in
list-sessions) echo "  3 1000 ann  seat0 tty2"; echo " c1  998 kiosk"; echo " 9 1000 ann - -" ;;
show-session) printf 'Name=ann\\nLeader={there}\\nTTY=tty2\\nRemoteHost=192.0.2.8\\nClass=user\\n\\n'
    printf 'Name=kiosk\\nLeader={there}\\nClass=greeter\\n\\nName=ann\\nLeader=999999999\\nClass=user\\n' ;;
esac
"""


def test_sessions_of_systemd_are_told_once_and_hung_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """By their leading process; greeters and sessions whose process is gone are none."""
    root, programs = tmp_path / "host", tmp_path / "bin"
    host.prepare(root, {"users": {"ann": "Ann Lee"}, "groups": {}, "keys": {}, "rules": {}, "folders": {}}, TODAY)
    programs.mkdir()
    monkeypatch.setenv("PATH", f"{programs}:{os.environ['PATH']}")
    adapter = HostAdapter({"root": str(root), "sessions": "loginctl"}, "")
    with pytest.raises(SystemRefused, match="tells of sessions"):
        HostAdapter({"root": str(root), "sessions": "who"}, "").check()
    monkeypatch.setenv("PATH", str(programs))
    with pytest.raises(SystemRefused, match="loginctl is not installed"):
        Reading.of(adapter.read())
    monkeypatch.setenv("PATH", f"{programs}:{os.environ['PATH']}:/usr/bin:/bin")
    process = subprocess.Popen(["sleep", "600"])
    try:
        (programs / "loginctl").write_text(LOGINCTL.format(there=process.pid))
        (programs / "loginctl").chmod(0o755)
        (presence,) = Reading.of(adapter.read()).presences
        assert (presence.login, presence.device, presence.address) == ("user:ann", "tty2", "192.0.2.8")
        assert abs(datetime.now(UTC) - presence.started_at) < timedelta(minutes=1)
        host.sign_in(root, process.pid, "ann", "pts/3", "192.0.2.8", datetime.now(UTC))
        assert [p.device for p in Reading.of(adapter.read()).presences] == ["pts/3"]
        adapter.apply(StepKind.END_SESSIONS, presence.handle)
        assert process.wait(5) is not None
        assert Reading.of(adapter.read()).presences == ()
    finally:
        process.kill()
        process.wait()


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("/srv/maps *(ro)", [("/srv/maps", False, (), "")]),
        (
            "/srv/maps 192.0.2.0/24(rw,sync) gate.example.org(ro)",
            [("/srv/maps", True, ("192.0.2.0/24",), ""), ("/srv/maps", False, (), "from gate.example.org")],
        ),
        ("/srv/my\\040maps", [("/srv/my maps", False, (), "")]),
        ('"/srv/my maps" -rw \\\n  192.0.2.7', [("/srv/my maps", True, ("192.0.2.7/32",), "")]),
        ("/srv/maps *(rw,sec=krb5p)", []),
        ("# /srv/maps *(rw)", []),
    ],
)
def test_exports_that_trust_whoever_comes_are_told(line: str, told: list[Any]) -> None:
    """Those for which one has to prove who one is are none."""
    found = [(share.folder, share.writes, share.whence, share.unclear) for share in exposure.exported(line)]
    assert found == told


def test_shares_that_guests_get_into_are_told() -> None:
    """By all the names that the options have."""
    text = """
    [global]
        hosts allow = 192.0.2. 2001:db8::/32
    [Maps]
        Path = /srv/maps/
        guest ok = Yes
        writable = yes
    [plans]
        path = /srv/plans
        public = yes
        hosts allow = gate
    [off]
        path = /srv/off
        guest ok = yes
        available = no
    [kept]
        path = /srv/kept
    """
    found = [(s.name, s.folder, s.writes, s.whence, s.unclear) for s in exposure.shared(text)]
    assert found == [
        ("Maps", "/srv/maps", True, ("192.0.2.0/24", "2001:db8::/32"), ""),
        ("plans", "/srv/plans", False, (), "from gate"),
    ]
    with pytest.raises(ValueError, match="line"):
        list(exposure.shared("guest ok = yes"))


def test_what_is_shared_with_the_network_is_open_as_far_as_modes_let_it(tmp_path: Path) -> None:
    """Also a folder that nobody named in the settings."""
    plan = {"users": {"ann": "Ann"}, "groups": {}, "keys": {}, "rules": {}, "folders": {"/srv/maps": {}}}
    host.prepare(tmp_path, plan, datetime(2026, 3, 2, tzinfo=UTC))
    (tmp_path / "srv/maps").chmod(0o755)
    (tmp_path / "etc/exports").write_text("/srv *(rw)\n")
    (tmp_path / "etc/samba").mkdir()
    (tmp_path / "etc/samba/smb.conf").write_text("[maps]\npath=/srv/maps\nguest ok=yes\nwritable=yes\n")
    reading = Reading.of(HostAdapter(host.usual(tmp_path, plan), "").read())
    rules = {(rule.account, rule.key.split(":")[0], tuple(rule.rule["to"])) for rule in reading.rules}
    assert rules == {
        ("folder:/srv/maps", "mode", ("read",)),
        ("folder:/srv/maps", "etc/exports", ("read", "write")),
        ("folder:/srv/maps", "etc/samba/smb.conf", ("read",)),
        ("folder:/srv", "etc/exports", ("read", "write")),
    }
    assert "folder:/srv" in {account.handle for account in reading.accounts}
