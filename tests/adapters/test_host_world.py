"""A host with every way of getting in: what a reading says is asked of sudo's own tool and of the kernel."""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest

from openlatch.adapters import Reading
from openlatch.adapters.coverage import Why
from openlatch.adapters.unix_host import adapter as host
from openlatch.adapters.unix_host import files, rules
from openlatch.adapters.unix_host.adapter import HostAdapter
from openlatch.adapters.unix_host.rights import FOWNER, KILL, unable
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from tests.adapters.worlds import KEYS

DATA = Path(__file__).parent / "data"
USERS = ["ann", "bob", "cy", "dan", "eve", "flo", "gus", "hal"]
NUMBER = {name: 60_000 + place for place, name in enumerate(USERS)}
GROUPS = {"cameras": ["bob", "cy"], "maps": ["gus"], "docker": ["flo"], "night": []}
GROUP = {name: 60_500 + place for place, name in enumerate(GROUPS)}
PRIMARY = {"hal": "night"}
# By folder: its mode, its owner and owning group, and its entries; those inside stand below it.
FOLDERS = {
    "srv/maps": ("750", "ann", "maps", ["u:bob:rwx", "g:cameras:r-x", "m::r-x"]),
    "srv/open": ("755", "", "", []),
    "srv/drop": ("771", "", "", ["u:dan:-wx", "d:u:eve:rwx"]),
    "srv/closed": ("700", "gus", "", ["u:59999:rwx"]),
}
KERNEL = os.geteuid() == 0


@pytest.fixture
def root(tmp_path: Path) -> Path:
    """The host's files. The kernel is asked as its users, so the way to them has to be open."""
    made = tmp_path / "host"
    for place in ("etc/sudoers.d", "etc/ssh", "run", "var"):
        (made / place).mkdir(parents=True)
    for path in (tmp_path, *tmp_path.parents):
        if path.owner() == tmp_path.owner() and path.parent != path and str(path) != tempfile.gettempdir():
            path.chmod(0o755)
    numbers = {**NUMBER, "toor": 0, "service": 300}
    shells = {"service": "/usr/sbin/nologin"}
    lines = [
        f"{name}:x:{number}:{GROUP[PRIMARY[name]] if name in PRIMARY else number}:{name.title()}:/home/{name}:"
        f"{shells.get(name, '/bin/bash')}\n"
        for name, number in numbers.items()
    ]
    (made / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/bash\n" + "".join(lines) + "nonsense\n")
    groups = [f"{name}:x:{GROUP[name]}:{','.join(members)}\n" for name, members in GROUPS.items()]
    (made / "etc/group").write_text("root:x:0:\n" + "".join(groups))
    (made / "etc/shadow").write_text("".join(f"{name}:$y$made$up:20000:0:99999:7:::\n" for name in numbers))
    (made / "etc/sudoers").write_bytes((DATA / "sudoers").read_bytes())
    (made / "etc/sudoers.d/gus").write_text("gus ALL=(ALL) ALL\n# a comment\ngus ALL=(root) /bin/ls\n")
    (made / "etc/sudoers.d/old.bak").write_text("hal ALL=(ALL) ALL\n")
    (made / "etc/sudoers.local").write_bytes(b"hal,\\\n   cy ALL=(ALL) /bin/df # caf\xe9\n")
    keys = {
        "ann": ("authorized_keys", KEYS["ann"]),
        "bob": ("authorized_keys2", KEYS["bob"]),
        "service": ("authorized_keys", f'cert-authority,principals="hut" {KEYS["ann"]}'),
    }
    for name, (file, line) in keys.items():
        (made / f"home/{name}/.ssh").mkdir(parents=True)
        (made / f"home/{name}/.ssh/{file}").write_text(f"# kept\n{line}\nnot a key\n")
    for folder, (mode, owner, group, entries) in FOLDERS.items():
        path = made / folder
        path.mkdir(parents=True)
        path.chmod(int(mode, 8))
        if KERNEL:
            os.chown(path, NUMBER.get(owner, 0), GROUP.get(group, 0))
        for entry in entries:
            numbered = re.sub(r"\b(" + "|".join(NUMBER) + r")\b", lambda m: str(NUMBER[m[1]]), entry)
            numbered = re.sub(r"\b(" + "|".join(GROUP) + r")\b", lambda m: str(GROUP[m[1]]), numbered)
            subprocess.run(
                ["setfacl", *(["-n"] if entry.startswith("m") else []), "-m", numbered, str(path)], check=True
            )
    inside = made / "srv/open/inside"
    inside.mkdir()
    inside.chmod(0o700)
    subprocess.run(["setfacl", "-m", f"u:{NUMBER['cy']}:rwx", str(inside)], check=True)
    return made


@pytest.fixture
def adapter(root: Path) -> HostAdapter:
    return HostAdapter({"root": str(root), "folders": ",".join(f"/{folder}" for folder in FOLDERS)}, "")


def groups_of(user: str) -> list[str]:
    return [name for name, members in GROUPS.items() if user in members or PRIMARY.get(user) == name]


def shown(reading: Reading, user: str, account: str) -> dict[str, set[str]]:
    """By part, or nothing for the whole, the levels that a reading shows of a user in an account, by any path."""
    found: dict[str, set[str]] = {}
    waiting, seen = [(f"user:{user}", False)], set()
    while waiting:
        who = waiting.pop()
        if who in seen:
            continue
        seen.add(who)
        for holding in reading.holdings:
            if (holding.holder, holding.holder_is_account) != who:
                continue
            if holding.account == account:
                for part, level in (("", holding.level), *holding.parts):
                    found.setdefault(part, set()).add(level)
            waiting.append((holding.account, True))
    return found


def allowed(root: Path, user: str) -> str:
    """What sudo's own tool finds for a user and their groups in each file, as text."""
    files = [root / "etc/sudoers", root / "etc/sudoers.d/gus", root / "etc/sudoers.local"]
    aliases = [line for line in re.split(r"(?<!\\)\n", files[0].read_text()) if "_Alias" in line]
    told = ""
    for file in files:
        text = b"\n".join(line for line in file.read_bytes().split(b"\n") if b"include" not in line)
        if file != files[0]:
            text = "\n".join(aliases).encode() + b"\n" + text
        match = ",".join([f"user={user}", *(f"group={group}" for group in groups_of(user))])
        command = [
            "cvtsudoers",
            "-c",
            "/dev/null",
            "-p",
            "-e",
            "-f",
            "sudoers",
            "-s",
            "defaults,aliases",
            "-m",
            match,
            "-",
        ]
        done = subprocess.run(command, input=text, capture_output=True, check=True)
        told += done.stdout.decode("utf-8", "replace").replace("\\\n", "")
    return "\n".join(line for line in told.splitlines() if line.strip() and not line.startswith("#"))


def test_rules_of_sudo_are_those_that_sudo_finds(root: Path, adapter: HostAdapter) -> None:
    """Aliases, numbers, groups, lists, lines that go on, includes, digests, bytes that are no UTF-8."""
    reading = Reading.of(adapter.read())
    expected = {
        "ann": {"some_commands", "as_others"},
        "bob": {"some_commands"},
        "cy": {"as_others", "everything"},
        "dan": {"some_commands", "everything"},
        "eve": set(),
        "flo": {"as_others"},
        "gus": {"everything"},
        "hal": {"some_commands"},
    }
    for user in USERS:
        levels = shown(reading, user, "administration").get("", set())
        finds = allowed(root, user)
        assert bool(levels) == bool([line for line in finds.splitlines() if "!ALL" not in line]), (user, finds)
        assert levels <= expected[user] | {"everything"}, user
    assert shown(reading, "toor", "administration") == {"": {"everything"}}
    (coverage,) = [c for c in reading.coverage if c.account == "administration"]
    assert [gap.words for gap in coverage.gaps] == [
        "a netgroup that a sudo rule names: nightshift in etc/sudoers: not supported"
    ]
    assert not coverage.is_partial


@pytest.mark.skipif(not KERNEL, reason="only root can ask the kernel as somebody else")
def test_who_gets_into_a_folder_is_what_the_kernel_says(
    root: Path, adapter: HostAdapter, record_testsuite_property: Callable[[str, object], None]
) -> None:
    """By owner, owning group, named entries within the mask, and modes; entries inside are parts."""
    reading = Reading.of(adapter.read())
    compared = 0
    places = [(f"folder:/{folder}", "", root / folder) for folder in FOLDERS]
    places.append(("folder:/srv/open", "/srv/open/inside", root / "srv/open/inside"))
    for user in USERS:
        for account, part, path in places:
            levels = shown(reading, user, account).get(part, set()) - {""}
            for right, wanted in (("r", {"read", "write", "owner"}), ("w", {"write", "owner"})):
                if path.name == "drop":
                    # Whoever may only write, and what is made there later, is told as access, too.
                    continue
                assert bool(levels & wanted) == may(user, right, path), (user, right, path, levels)
                compared += 1
    record_testsuite_property("facts in folders of the host", compared)
    assert compared >= 60
    assert shown(reading, "dan", "folder:/srv/drop")[""] == {"write"}
    assert shown(reading, "eve", "folder:/srv/drop")[""] == {"write"}
    assert "uid:59999" in {x.handle for x in reading.logins}


def may(user: str, right: str, path: Path) -> bool:
    """What the kernel says to a process of that user, with all their groups."""
    numbers = ",".join(str(GROUP[group]) for group in groups_of(user))
    group = GROUP[PRIMARY[user]] if user in PRIMARY else NUMBER[user]
    command = [
        "setpriv",
        f"--reuid={NUMBER[user]}",
        f"--regid={group}",
        f"--groups={numbers}" if numbers else "--clear-groups",
        "test",
        f"-{right}",
        str(path),
    ]
    return subprocess.run(command, check=False).returncode == 0


def test_keys_and_groups_are_told_as_what_they_are(adapter: HostAdapter) -> None:
    """Whatever the number of the user; authorities, users without a shell, groups as good as root, primary ones."""
    reading = Reading.of(adapter.read())
    levels = {(h.account, h.holder): h.level for h in reading.holdings}
    assert [level for (account, _), level in levels.items() if account == "login:service"] == ["authority"]
    assert [level for (account, _), level in levels.items() if account == "login:bob"] == ["command"]
    assert levels["group:docker", "user:flo"] == "like_root"
    assert levels["group:night", "user:hal"] == "member"
    gaps = {gap.words for c in reading.coverage for gap in c.gaps}
    assert "1 line that sshd passes over in home/ann/.ssh/authorized_keys: not supported" in gaps
    assert any("a line that names nobody in etc/passwd" in words for words in gaps)


def test_what_is_confirmed_gone_is_gone_and_comes_back_byte_by_byte(root: Path, adapter: HostAdapter) -> None:
    """Every holding: taken, or refused with what to do, and never confirmed; others keep what they have."""

    def state() -> dict[str, str]:
        files = [path for path in (*(root / "etc").rglob("*"), *(root / "home").rglob("*")) if path.is_file()]
        lists = subprocess.run(
            ["getfacl", "-R", "-n", "-p", str(root / "srv")], capture_output=True, text=True, check=True
        )
        return {**{str(path): path.read_bytes().decode("latin-1") for path in files}, "lists": lists.stdout}

    gone, refused = 0, set()
    for holding in Reading.of(adapter.read()).holdings:
        before = state()
        (move,) = adapter.plan(StepKind.REMOVE, holding.handle)
        try:
            adapter.apply(move.kind, move.detail)
        except SystemRefused:
            refused.add(holding.handle["kind"])
            assert adapter.confirm(move.kind, move.detail) is not None
            assert state() == before
            continue
        assert adapter.confirm(move.kind, move.detail) is None
        assert holding not in Reading.of(adapter.read()).holdings
        back = adapter.again(holding.handle)
        assert back is not None
        adapter.apply(StepKind.GIVE, back)
        assert adapter.confirm(StepKind.GIVE, back) is None
        after = state()
        differ = {name for name in before if sorted(before[name].splitlines()) != sorted(after[name].splitlines())}
        assert not differ, (holding.handle, before["lists"], after["lists"])
        gone += 1
    assert gone >= 14
    assert {"uid 0", "mode", "everyone", "primary", "rules"} <= refused


def test_taking_an_entry_leaves_the_mask_as_it_is(root: Path, adapter: HostAdapter) -> None:
    """Worked out anew, it would let others write whom it keeps from that."""
    holding = next(
        h for h in Reading.of(adapter.read()).holdings if (h.account, h.holder) == ("folder:/srv/maps", "group:cameras")
    )
    (move,) = adapter.plan(StepKind.REMOVE, holding.handle)
    adapter.apply(move.kind, move.detail)
    told = subprocess.run(["getfacl", "-cn", str(root / "srv/maps")], capture_output=True, text=True, check=True).stdout
    assert "mask::r-x" in told


@pytest.mark.parametrize("line", ["this is no rule", "ann ALL=(ALL ALL", "ann ALL=\\"])
def test_a_rule_that_is_not_understood_is_that_rule_and_confirms_nothing(
    root: Path, adapter: HostAdapter, line: str
) -> None:
    """The others are read; nothing is taken for gone until it is mended."""
    file = root / "etc/sudoers.d/gus"
    file.write_text(f"{file.read_text()}{line}\n")
    reading = Reading.of(adapter.read())
    (coverage,) = [c for c in reading.coverage if c.account == "administration"]
    assert [gap.place for gap in coverage.gaps if gap.why is Why.NOT_UNDERSTOOD] == ["etc/sudoers.d/gus, line 4"]
    assert coverage.is_partial
    holding = next(h for h in reading.holdings if h.holder == "user:gus" and h.account == "administration")
    with pytest.raises(SystemRefused, match="does not understand"):
        adapter.confirm(StepKind.REMOVE, holding.handle)


def test_sudo_looks_at_a_file_before_it_takes_its_place(root: Path) -> None:
    """What it would not take is not written."""
    file = root / "etc/sudoers.d/gus"
    before = file.read_bytes()
    with pytest.raises(SystemRefused, match="would not take"):
        files.rewrite(root, file, lambda c: c + b"gus ALL=(\n", rules.check)
    assert file.read_bytes() == before
    assert [path.name for path in file.parent.iterdir() if path.name.startswith(".open")] == []


def test_one_users_file_does_not_keep_the_host_from_being_read(root: Path, adapter: HostAdapter) -> None:
    """A pipe, a folder, a time that is none: theirs is read in part, and everything else as it is."""
    keys = root / "home/ann/.ssh/authorized_keys"
    keys.unlink()
    os.mkfifo(keys)
    (root / "home/bob/.ssh/authorized_keys2").write_text(f'expiry-time="soon" {KEYS["ann"]}\n')
    reading = Reading.of(adapter.read())
    coverage = {c.account: c for c in reading.coverage}
    assert coverage["login:ann"].is_partial
    assert not coverage["login:bob"].is_partial
    assert any(h.account == "login:bob" for h in reading.holdings)
    with pytest.raises(SystemRefused, match="no plain file"):
        adapter.confirm(StepKind.REMOVE, {"kind": "key", "file": "home/ann/.ssh/authorized_keys", "fingerprint": "x"})


def test_what_was_moved_or_renamed_is_not_gone(root: Path, adapter: HostAdapter) -> None:
    """A home with its keys, a group, a folder, what is inside one, a user."""
    held = {(h.account, h.holder): h for h in Reading.of(adapter.read()).holdings}

    def confirm(account: str, holder: str) -> str | None:
        (move,) = adapter.plan(StepKind.REMOVE, held[account, holder].handle)
        return adapter.confirm(move.kind, move.detail)

    (key,) = [holder for account, holder in held if account == "login:ann"]
    (root / "home/ann").rename(root / "home/anne")
    passwd = root / "etc/passwd"
    passwd.write_text(passwd.read_text().replace("/home/ann:", "/home/anne:"))
    assert "home/anne" in str(confirm("login:ann", key))
    group = root / "etc/group"
    group.write_text(group.read_text().replace("maps:", "charts:"))
    with pytest.raises(SystemRefused, match="called charts by now"):
        confirm("group:maps", "user:gus")
    (root / "srv/open/inside").rename(root / "srv/open/elsewhere")
    assert "/srv/open/elsewhere" in str(confirm("folder:/srv/open", "user:cy"))
    (root / "srv/maps").rename(root / "srv/charts")
    with pytest.raises(SystemRefused, match="moved"):
        confirm("folder:/srv/maps", "user:bob")
    with pytest.raises(SystemRefused, match="renamed"):
        adapter.confirm(StepKind.LOCK, {"login": "user:nobody-here"})


def test_a_locked_password_alone_locks_nobody_out_who_has_a_key(root: Path, adapter: HostAdapter) -> None:
    """So the account is ended, too; and is as it was afterwards."""
    shadow = root / "etc/shadow"
    before = shadow.read_bytes()
    shadow.write_bytes(before.replace(b"ann:$y", b"ann:!$y"))
    assert "keys still let them in" in str(adapter.confirm(StepKind.LOCK, {"login": "user:ann"}))
    assert not next(x for x in Reading.of(adapter.read()).logins if x.handle == "user:ann").locked
    adapter.apply(StepKind.LOCK, {"login": "user:ann"})
    assert adapter.confirm(StepKind.LOCK, {"login": "user:ann"}) is None
    assert next(x for x in Reading.of(adapter.read()).logins if x.handle == "user:ann").locked
    adapter.apply(StepKind.UNLOCK, {"login": "user:ann"})
    assert shadow.read_bytes() == before


def test_what_a_narrower_entry_keeps_from_somebody_is_told_as_not_looked_at(root: Path, adapter: HostAdapter) -> None:
    """They are shown with what their group has, and it is said that the kernel gives them less."""
    subprocess.run(["setfacl", "-m", f"u:{NUMBER['cy']}:---", str(root / "srv/maps")], check=True)
    told = [gap.words for c in Reading.of(adapter.read()).coverage for gap in c.gaps if "narrower" in gap.words]
    assert len(told) == 1
    assert "keeps from cy" in told[0]
    assert not may("cy", "r", root / "srv/maps") or not KERNEL


def test_what_can_not_be_changed_is_said_before_it_has_to_be(root: Path, adapter: HostAdapter) -> None:
    """By the capabilities of the service and the owners of files; an administrator can change everything."""
    folder, keys = root / "srv/maps", root / "home/ann/.ssh/authorized_keys"
    own = folder.stat().st_uid + 1
    lacking = list(unable([folder], [keys], lambda _: None, 0, own))
    assert [one.partition(":")[0] for one in lacking] == [
        "sudo rules",
        "lists of folders",
        f"lists of {folder}",
        f"keys in {keys}",
        "keys of others (a file that is replaced keeps its owner)",
        "sessions of others",
    ]
    held = ~(1 << KILL | 1 << FOWNER)
    assert len(list(unable([folder], [keys], held=held, own=own))) == 2
    if KERNEL:
        assert [one for c in Reading.of(adapter.read()).coverage for one in c.unable] == []


FAULTS = [
    "exit 1",
    "exit 0",
    "echo nonsense",
    "head -c 4000 /dev/urandom",
    "echo '{\"User_Specs\": 3}'",
    "sleep 5",
    "kill -9 $$",
    "echo 'user::rwx'",
]


@pytest.mark.parametrize("fault", FAULTS)
@pytest.mark.parametrize("program", ["getfacl", "setfacl", "cvtsudoers", "visudo"])
def test_no_fault_of_a_program_is_taken_for_gone(
    root: Path, adapter: HostAdapter, program: str, fault: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """What is there is there, or unknown; and the host is read all the same, in part."""
    before = Reading.of(adapter.read()).holdings
    for module in (host, rules):
        monkeypatch.setattr(module, "CALL_SECONDS", 0.3)
    (tmp_path / "broken").mkdir()
    broken = tmp_path / "broken" / program
    broken.write_text(f"#!/bin/sh\n{fault}\n")
    broken.chmod(0o755)
    monkeypatch.setenv("PATH", f"{broken.parent}:{os.environ['PATH']}")
    asked = 0
    for holding in before:
        for move in adapter.plan(StepKind.REMOVE, holding.handle):
            with suppress(SystemRefused, SystemDown):
                assert adapter.confirm(move.kind, move.detail) is not None, holding
            asked += 1
    assert asked >= 20
    with suppress(SystemDown):
        there = {(h.account, h.holder) for h in Reading.of(adapter.read()).holdings}
        assert {("login:ann", h.holder) for h in before if h.account == "login:ann"} <= there


def test_certificates_let_in_by_authority_or_by_principal(root: Path) -> None:
    """An authority that sshd trusts lets in whoever it names; with a file of principals only those who stand there."""
    (root / "etc/ssh/authorities").write_text(KEYS["ann"] + "\n")
    config = root / "etc/ssh/sshd_config"
    config.write_text("TrustedUserCAKeys /etc/ssh/authorities\n")
    finger = subprocess.run(["ssh-keygen", "-lf", "-"], input=KEYS["ann"], capture_output=True, text=True, check=True)
    authority = "key:" + next(word for word in finger.stdout.split() if word.startswith("SHA256:"))
    adapter = HostAdapter({"root": str(root)}, "")
    reading = Reading.of(adapter.read())
    trusted = {h.account: h for h in reading.holdings if h.holder == authority and h.handle["kind"] == "authority"}
    assert {"login:bob", "login:dan", "login:root"} <= set(trusted)
    assert "login:service" not in trusted
    with pytest.raises(SystemRefused, match="trusts the authority"):
        adapter.apply(StepKind.REMOVE, trusted["login:bob"].handle)
    config.write_text("TrustedUserCAKeys /etc/ssh/authorities\nAuthorizedPrincipalsFile /etc/ssh/principals/%u\n")
    (root / "etc/ssh/principals").mkdir()
    named = root / "etc/ssh/principals/bob"
    named.write_text('# who\ndesk\ncommand="/bin/echo \\"a b\\"",restrict night-shift\ndesk2\n')
    reading = Reading.of(adapter.read())
    found = {h.holder: h for h in reading.holdings if h.handle.get("kind") == "principal"}
    assert {(h.account, who, h.level) for who, h in found.items()} == {
        ("login:bob", "principal:desk", "shell"),
        ("login:bob", "principal:night-shift", "command"),
        ("login:bob", "principal:desk2", "shell"),
    }
    before = named.read_text()
    desk = found["principal:desk"].handle
    assert adapter.confirm(StepKind.REMOVE, desk) == "desk is still in etc/ssh/principals/bob"
    adapter.apply(StepKind.REMOVE, desk)
    assert named.read_text() == before.replace("desk\n", "", 1)
    assert adapter.confirm(StepKind.REMOVE, desk) is None
    adapter.apply(StepKind.GIVE, adapter.again(desk) or {})
    assert sorted(named.read_text().splitlines()) == sorted(before.splitlines())


def test_a_password_that_is_locked_keeps_nobody_out_whom_a_certificate_lets_in(root: Path) -> None:
    """As with a key: until the account itself has expired."""
    shadow = root / "etc/shadow"
    shadow.write_text(shadow.read_text().replace("dan:", "dan:!"))
    (root / "etc/ssh/authorities").write_text(KEYS["ann"] + "\n")
    adapter = HostAdapter({"root": str(root)}, "")

    def is_locked() -> bool:
        return any(one.handle == "user:dan" and one.locked for one in Reading.of(adapter.read()).logins)

    assert is_locked()
    (root / "etc/ssh/sshd_config").write_text("TrustedUserCAKeys /etc/ssh/authorities\n")
    assert not is_locked()
