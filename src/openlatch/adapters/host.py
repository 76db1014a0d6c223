"""Unix hosts: shared logins with their keys, groups, sudo rules and folders with access control lists.

Works on a root folder, which is / for the host that the service runs on. A line of authorized_keys is a holder of the
login that it lets in; the member of a group, the name in a sudo rule and the entry of an access control list are
holders of those. Sessions are those of utmp(5).
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from openlatch.adapters import host_files as files
from openlatch.adapters import host_sessions as sessions
from openlatch.adapters.contract import (
    CALL_SECONDS,
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
from openlatch.core.words import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused

SHELL = FoundLevel(
    "shell", "Whole login", "Can do all that the login can.",
    (("shell", "Do everything that the login can do", Reach.OPERATE),),
)  # fmt: skip
COMMAND = FoundLevel(
    "command", "One command", "Can run one fixed command as the login.",
    (("command", "Run one fixed command as the login", Reach.OPERATE),),
)  # fmt: skip
MEMBER = FoundLevel(
    "member", "Member", "Has what the group gives.", (("belong", "Have what the group gives", Reach.OPERATE),)
)
SOME = FoundLevel(
    "some_commands", "Some commands", "Can run some commands as the administrator.",
    (("administer_some", "Run some commands as the administrator", Reach.OPERATE),),
)  # fmt: skip
EVERYTHING = FoundLevel(
    "everything", "Administrator", "Can do everything on the host, and let others in.",
    (("administer", "Do everything on the host", Reach.STEWARD),),
)  # fmt: skip
_SEE = ("see", "See what is in the folder", Reach.OBSERVE)
READ = FoundLevel("read", "Reader", "Can see what is in the folder.", (_SEE,))
WRITE = FoundLevel(
    "write", "Writer", "Can see and change what is in the folder.",
    (_SEE, ("change", "Change what is in the folder", Reach.OPERATE)),
)  # fmt: skip
LEVELS = (SHELL, COMMAND, MEMBER, SOME, EVERYTHING, READ, WRITE)
ADMINISTRATION = "administration"
FIRST_ORDINARY = 1000
_GROUPS_THAT_MATTER = ("sudo", "adm", "wheel")
_NO_SHELL = ("nologin", "false", "sync")


@dataclass(frozen=True, slots=True)
class _Names:
    """The users and groups of a host: passwd(5) and group(5) by name, and whose passwords are locked."""

    users: dict[str, list[str]]
    groups: dict[str, tuple[int, tuple[str, ...]]]
    locked: frozenset[str]
    jobs: dict[str, int]

    def user(self, name: str) -> Login:
        """A user as somebody who can sign in."""
        fields = self.users.get(name)
        told = fields[4].split(",")[0] if fields else ""
        jobs = self.jobs.get(name, 0)
        hangs = (("job", f"cron runs {jobs} job{'s' * (jobs != 1)} of theirs, with nobody there"),) if jobs else ()
        marks = {"uid": fields[2]} if fields else {}
        return Login(f"user:{name}", told or name, False, marks, name in self.locked, hangs)

    def group(self, name: str) -> SharedAccount:
        """A group as an account that its members act as."""
        return SharedAccount(f"group:{name}", f"Group {name}", "group")

    def user_of(self, number: str) -> str:
        """The name of a user by number."""
        return next((name for name, fields in self.users.items() if fields[2] == number), "")

    def group_of(self, number: str) -> str:
        """The name of a group by number."""
        return next((name for name, (known, _) in self.groups.items() if str(known) == number), "")

    def holding(self, who: str, account: str, level: FoundLevel, handle: dict[str, Any]) -> Iterator[Found]:
        """That a user, or with a percent sign a group, holds something; nothing for names that the host lacks."""
        if who.startswith("%") and who[1:] in self.groups:
            yield self.group(who[1:])
            yield Holding(account, f"group:{who[1:]}", True, level.key, None, handle)
        elif who in self.users:
            yield self.user(who)
            yield Holding(account, f"user:{who}", False, level.key, None, handle)


class HostAdapter(Adapter):
    """Reads and changes one host below a root folder. It needs no secret."""

    settings_taken = (
        Setting("root", "The folder that the host's files are below: / for this host."),
        Setting("folders", "Shared folders whose access control lists are looked at, with commas between them.", ""),
        Setting("time_zone", "The host's time zone.", "UTC"),
        Setting("sessions", "What tells of sessions: utmp, or loginctl for that and the sessions of systemd.", "utmp"),
    )
    can = Abilities(
        steps=frozenset(StepKind) - {StepKind.DROP, StepKind.BY_HAND, StepKind.READ_AGAIN},
        rights=(
            "to read etc/passwd, etc/group, etc/shadow, etc/sudoers.d, var/spool/cron/crontabs and run/utmp",
            "to write those files, and .ssh/authorized_keys in the homes of shared logins",
            "to change the access control lists of the shared folders (CAP_FOWNER)",
            "to signal the processes of sessions (CAP_KILL)",
        ),
        sessions=True,
        secret=False,
    )

    def __init__(self, settings: dict[str, Any], secret: str) -> None:
        self._root = Path(settings["root"])
        self._sessions_by = str(settings.get("sessions") or "utmp")
        self._asks_loginctl = self._sessions_by == "loginctl"
        self._folders = [f.strip() for f in str(settings.get("folders") or "").split(",") if f.strip()]
        try:
            self._zone = ZoneInfo(settings.get("time_zone") or "UTC")
        except (ZoneInfoNotFoundError, ValueError) as error:
            raise SystemRefused(
                f"There is no time zone {settings['time_zone']!r}.", "Name one as Europe/London."
            ) from error

    def check(self) -> None:
        """Look whether the files are there and may be read and changed."""
        for name in ("etc/passwd", "etc/group"):
            self._bytes(name)
        for name in ("etc/passwd", "etc/group", "etc/shadow", "etc/sudoers.d"):
            path = self._path(name)
            if path.exists() and not os.access(path, os.R_OK | os.W_OK):
                raise SystemRefused(f"{path} may not be read and written.", "Give the service that right.")
        told_by = self._sessions_by
        if told_by not in ("utmp", "loginctl"):
            raise SystemRefused(f"Nothing called {told_by!r} tells of sessions.", "Set sessions to utmp or loginctl.")
        if self._asks_loginctl:
            self._shown()
        if self._folders and shutil.which("getfacl") is None:
            raise SystemRefused("getfacl is not installed.", "Install Debian's package acl.")

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """All logins with keys, groups, sudo rules, listed folders and sessions."""
        yield from LEVELS
        users = self._users()
        host = _Names(users, self._groups(), self._locked(), {name: self._jobs(name) for name in users})
        found = [*self._keys(host), *_members(host), *self._rules(host), *self._lists(host), *self._sessions(host)]
        # The same group, or the same user, can be met in several places.
        yield from {x.handle: x for x in found if isinstance(x, SharedAccount)}.values()
        yield from {x.handle: x for x in found if isinstance(x, Login)}.values()
        yield from (x for x in found if isinstance(x, Holding | Presence))
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Only an entry of a folder's list can be cut down."""
        return level == WRITE.key and lower == READ.key

    def holding(self, account: str, login: str, level: str) -> dict[str, Any]:
        """SystemRefused: keys and entries are put in by hand, since only their owner has the key."""
        raise SystemRefused("Access to a host is given there by hand.", "Put the key or entry in, and read the host.")

    def again(self, handle: dict[str, Any]) -> dict[str, Any] | None:
        """The line, member or entry that was there, put back as it was."""
        return {key: value for key, value in handle.items() if key != "login"} if "kind" in handle else None

    def plan(self, kind: StepKind, detail: dict[str, Any]) -> tuple[Move, ...]:
        """One change of one file or list."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """REMOVE and REDUCE change one file or list, END_SESSIONS hangs one process up, LOCK locks a password."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        if kind is StepKind.END_SESSIONS:
            return sessions.hang_up(detail["process"], detail["began"])
        if kind in (StepKind.LOCK, StepKind.UNLOCK):
            return self._change("etc/shadow", lambda c: _lock(c, _plain(detail["login"]), kind is StepKind.LOCK))
        if kind is StepKind.GIVE:
            return self._put_back(detail)
        match detail["kind"]:
            case "key":
                return self._change(detail["file"], lambda c: files.without_key(c, detail["fingerprint"]))
            case "member":
                return self._change("etc/group", lambda c: _without_member(c, detail["group"], detail["user"]))
            case "rule":
                return self._change(detail["file"], lambda c: _without_line(c, detail["line"]))
        entry = f"{detail['of']}:{detail['number']}"
        folder = self._path(detail["folder"])
        for prefix in ("", "d:"):
            if kind is StepKind.REDUCE:
                self._setfacl(["-m", f"{prefix}{entry}:r-x"], folder, optional=bool(prefix))
            else:
                self._setfacl(["-x", f"{prefix}{entry}"], folder, optional=bool(prefix))
        return f"Changed the access control list of {detail['folder']}."

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """None when the file, list, lock or process is as the step wants it."""
        if kind is StepKind.END_SESSIONS:
            there = sessions.began(detail["process"]) == detail["began"]
            return f"process {detail['process']} is still there" if there else None
        if kind in (StepKind.LOCK, StepKind.UNLOCK):
            name, locked = _plain(detail["login"]), _plain(detail["login"]) in self._locked()
            if kind is StepKind.UNLOCK:
                return f"{name} is locked" if locked else None
            return None if locked or not self._path("etc/shadow").exists() else f"{name} is not locked"
        if kind is StepKind.GIVE:
            if detail["kind"] == "list":
                there = self._acl(detail["folder"]).get((detail["of"], detail["number"])) == detail["rights"]
            else:
                there = self.confirm(StepKind.REMOVE, detail) is not None
            return None if there else "what was there is not there yet"
        match detail["kind"]:
            case "key":
                there = any(
                    k.fingerprint == detail["fingerprint"] for k in files.keys(self._bytes(detail["file"], True))
                )
                return f"the key is still in {detail['file']}" if there else None
            case "member":
                there = detail["user"] in self._groups().get(detail["group"], (0, ()))[1]
                return f"{detail['user']} is still in the group {detail['group']}" if there else None
            case "rule":
                there = detail["line"].encode() in self._bytes(detail["file"], True).splitlines()
                return f"the rule is still in {detail['file']}" if there else None
        rights = self._acl(detail["folder"]).get((detail["of"], detail["number"]), "")
        if kind is StepKind.REDUCE:
            return f"{detail['name']} may still write in {detail['folder']}" if "w" in rights else None
        return f"{detail['name']} is still in the list of {detail['folder']}" if rights else None

    def _put_back(self, detail: dict[str, Any]) -> str:
        match detail["kind"]:
            case "key":
                return self._change(detail["file"], lambda c: _with_line(c, detail["line"].encode("latin-1")))
            case "rule":
                return self._change(detail["file"], lambda c: _with_line(c, detail["line"].encode()))
            case "member":
                return self._change("etc/group", lambda c: _with_member(c, detail["group"], detail["user"]))
        entry = f"{detail['of']}:{detail['number']}:{detail['rights']}"
        self._setfacl(["-m", entry], self._path(detail["folder"]), optional=False)
        return f"Changed the access control list of {detail['folder']}."

    # Reading.

    def _keys(self, host: _Names) -> Iterator[Found]:
        for name, fields in host.users.items():
            system_login = int(fields[2]) < FIRST_ORDINARY and name != "root"
            if system_login or fields[6].rsplit("/", 1)[-1] in _NO_SHELL:
                continue
            file = f"{fields[5].lstrip('/')}/.ssh/authorized_keys"
            account = SharedAccount(f"login:{name}", fields[4].split(",")[0] or f"Login {name}", "login")
            for key in files.keys(self._bytes(file, True)):
                marks = {"fingerprint": key.fingerprint}
                if "@" in key.comment and " " not in key.comment:
                    marks["address"] = key.comment
                level = COMMAND if "command" in key.options else SHELL
                handle = {
                    "kind": "key",
                    "file": file,
                    "fingerprint": key.fingerprint,
                    "line": key.line.decode("latin-1"),
                }
                if "from" in key.options:
                    handle["from"] = key.options["from"]
                holder = f"key:{key.fingerprint}"
                yield account
                runs = key.options.get("command", "")
                hangs = (("key", f"whoever has this key has {runs} run, likely a machine"),) if runs else ()
                yield Login(holder, key.comment or key.fingerprint, False, marks, hangs=hangs)
                yield Holding(account.handle, holder, False, level.key, key.until(self._zone), handle)

    def _rules(self, host: _Names) -> Iterator[Found]:
        folder = self._path("etc/sudoers.d")
        for path in sorted(folder.iterdir()) if folder.is_dir() else ():
            # sudo passes over names with a dot or a tilde at the end (sudoers(5)).
            if "." in path.name or path.name.endswith("~") or not path.is_file():
                continue
            file = f"etc/sudoers.d/{path.name}"
            for rule in files.rules(file, self._bytes(file).decode("utf-8", "replace")):
                level = EVERYTHING if rule.everything else SOME
                handle = {"kind": "rule", "file": file, "line": rule.line}
                yield SharedAccount(ADMINISTRATION, "Administration of the host", "administration")
                yield from host.holding(rule.who, ADMINISTRATION, level, handle)

    def _lists(self, host: _Names) -> Iterator[Found]:
        for folder in self._folders:
            account = f"folder:{folder}"
            yield SharedAccount(account, f"Folder {folder}", "folder")
            for (of, number), rights in self._acl(folder).items():
                name = host.user_of(number) if of == "user" else f"%{host.group_of(number)}"
                level = WRITE if "w" in rights else READ
                handle = {"kind": "list", "folder": folder, "of": of, "number": number, "name": name.lstrip("%"),
                          "rights": rights}  # fmt: skip
                yield from host.holding(name, account, level, handle)

    def _sessions(self, host: _Names) -> Iterator[Found]:
        records = list(sessions.signed_in(self._bytes("run/utmp", True)))
        if self._asks_loginctl:
            # A session that both tell of is one: utmp knows its terminal, too.
            known = {record.process for record in records}
            records += [record for record in sessions.told(self._shown()) if record.process not in known]
        for record in records:
            began = sessions.began(record.process)
            if began is None or record.user not in host.users:
                continue
            yield host.user(record.user)
            yield Presence(
                key=f"{record.process}@{began}",
                login=f"user:{record.user}",
                device=record.line,
                address=record.host or "local",
                started_at=record.since,
                last_seen_at=max(record.since, self._seen(record.line, record.since)),
                handle={"process": record.process, "began": began},
            )

    def _shown(self) -> str:
        """What systemd shows of its sessions. One that ends between being listed and shown is a reason to ask again."""
        for last in (False, True):
            listed = sessions.listed(self._run(["loginctl", "list-sessions", "--no-legend", "--no-pager"]))
            try:
                return self._run(["loginctl", "show-session", *sessions.SHOWN, *listed]) if listed else ""
            except SystemRefused:
                if last:
                    raise
        return ""

    def _jobs(self, user: str) -> int:
        """How many lines of a user's table are jobs (crontab(5)): neither comments nor settings."""
        lines = self._bytes(f"var/spool/cron/crontabs/{user}", True).decode("utf-8", "replace").splitlines()
        return sum(bool(line.strip()) and not re.match(r"\s*(#|\w+\s*=)", line) for line in lines)

    def _seen(self, line: str, since: datetime) -> datetime:
        """When a terminal was last touched, where it can be told."""
        path = self._path(f"dev/{line}")
        return datetime.fromtimestamp(path.stat().st_atime, since.tzinfo) if path.exists() else since

    def _users(self) -> dict[str, list[str]]:
        """The fields of passwd(5) by name."""
        lines = self._bytes("etc/passwd").decode("utf-8", "replace").splitlines()
        split = [line.split(":") for line in lines if line.count(":") == 6 and not line.startswith("#")]
        return {fields[0]: fields for fields in split if fields[2].isdigit()}

    def _groups(self) -> dict[str, tuple[int, tuple[str, ...]]]:
        """Number and members of each group of group(5)."""
        found = {}
        for line in self._bytes("etc/group").decode("utf-8", "replace").splitlines():
            fields = line.split(":")
            if len(fields) == 4 and fields[2].isdigit():
                found[fields[0]] = int(fields[2]), tuple(m for m in fields[3].split(",") if m)
        return found

    def _locked(self) -> frozenset[str]:
        """Those whose password is locked in shadow(5)."""
        lines = self._bytes("etc/shadow", True).decode("utf-8", "replace").splitlines()
        return frozenset(f[0] for line in lines if len(f := line.split(":")) > 1 and f[1].startswith("!"))

    def _acl(self, folder: str) -> dict[tuple[str, str], str]:
        """The named entries of a folder's list, with the rights that are left by its mask."""
        done = self._run(["getfacl", "--absolute-names", "--omit-header", "--numeric", str(self._path(folder))])
        found: dict[tuple[str, str], str] = {}
        for line in done.splitlines():
            entry, _, effective = line.partition("#effective:")
            parts = entry.strip().split(":")
            if len(parts) == 3 and parts[0] in ("user", "group") and parts[1]:
                found[parts[0], parts[1]] = (effective or parts[2]).strip()
        return found

    # Changing.

    def _change(self, name: str, change: Any) -> str:
        files.rewrite(self._root, self._path(name), change)
        return f"Changed {name}; a copy of what was there is in {files.COPIES}."

    def _setfacl(self, change: list[str], folder: Path, optional: bool) -> None:
        try:
            self._run(["setfacl", *change, str(folder)])
        except SystemRefused:
            # There need be no default entry; a named one that is not there is what was wanted.
            if not optional:
                raise

    def _run(self, command: list[str]) -> str:
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=CALL_SECONDS, check=False)
        except FileNotFoundError as error:
            package = "systemd, or set sessions to utmp" if command[0] == "loginctl" else "acl"
            raise SystemRefused(f"{command[0]} is not installed.", f"Install Debian's package {package}.") from error
        except subprocess.TimeoutExpired as error:
            raise SystemDown(f"{command[0]} did not answer.", "It will be tried again.") from error
        if done.returncode:
            raise SystemRefused(f"{command[0]} refused: {done.stderr.strip()}", "Look at the rights of the service.")
        return done.stdout

    def _path(self, name: str) -> Path:
        return self._root / name.lstrip("/")

    def _bytes(self, name: str, may_be_missing: bool = False) -> bytes:
        try:
            return self._path(name).read_bytes()
        except FileNotFoundError as error:
            if may_be_missing and self._root.is_dir():
                return b""
            raise SystemDown(f"There is no {self._path(name)}.", "Look whether the root folder is there.") from error
        except OSError as error:
            raise SystemRefused(f"{self._path(name)} can't be read: {error.strerror}.", "Give the right to.") from error


def _members(host: _Names) -> Iterator[Found]:
    for group, (number, members) in host.groups.items():
        if number < FIRST_ORDINARY and group not in _GROUPS_THAT_MATTER:
            continue
        yield host.group(group)
        for user in members:
            handle = {"kind": "member", "group": group, "user": user}
            yield host.user(user)
            yield Holding(f"group:{group}", f"user:{user}", False, MEMBER.key, None, handle)


def _plain(handle: str) -> str:
    return handle.removeprefix("user:")


def _without_member(content: bytes, group: str, user: str) -> bytes:
    def cut(line: bytes) -> bytes:
        fields = line.split(b":")
        if len(fields) != 4 or fields[0] != group.encode():
            return line
        end = fields[3][len(fields[3].rstrip(b"\r\n")) :]
        left = [m for m in fields[3].rstrip(b"\r\n").split(b",") if m != user.encode()]
        return b":".join((*fields[:3], b",".join(left) + end))

    return b"".join(cut(line) for line in content.splitlines(keepends=True))


def _without_line(content: bytes, line: str) -> bytes:
    return b"".join(each for each in content.splitlines(keepends=True) if each.rstrip(b"\r\n") != line.encode())


def _with_line(content: bytes, line: bytes) -> bytes:
    """With a line at the end; one that ends without a line end gets it first."""
    return content + (b"\n" if content and not content.endswith(b"\n") else b"") + line.rstrip(b"\r\n") + b"\n"


def _with_member(content: bytes, group: str, user: str) -> bytes:
    def add(line: bytes) -> bytes:
        fields = line.split(b":")
        if len(fields) != 4 or fields[0] != group.encode():
            return line
        kept = fields[3].rstrip(b"\r\n")
        return b":".join((*fields[:3], (kept + b"," if kept else b"") + user.encode() + fields[3][len(kept) :]))

    return b"".join(add(line) for line in content.splitlines(keepends=True))


def _lock(content: bytes, name: str, on: bool) -> bytes:
    def shut(line: bytes) -> bytes:
        fields = line.split(b":")
        if fields[0] != name.encode() or len(fields) < 2 or fields[1].startswith(b"!") == on:
            return line
        return b":".join((fields[0], b"!" + fields[1] if on else fields[1][1:], *fields[2:]))

    return b"".join(shut(line) for line in content.splitlines(keepends=True))
