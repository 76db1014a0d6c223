"""Unix hosts: logins with their keys, groups, sudo rules and folders with access control lists.

Works on a root folder, which is / for the host that the service runs on. A line of authorized_keys is a holder of the
login that it lets in; the member of a group, whoever a sudo rule names and the entry of an access control list are
holders of those. Sessions are those of utmp(5).
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from functools import partial
from itertools import islice
from pathlib import Path, PurePosixPath
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    FoundPart,
    FoundRule,
    Holding,
    Login,
    Presence,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.limits import CALL_SECONDS
from openlatch.adapters.unix_host import certificates, exposure, files, lists, modes, rules, sessions
from openlatch.adapters.unix_host.holders import holders, left, not_told
from openlatch.adapters.unix_host.people import DOOR, People, groups_of, users_of
from openlatch.adapters.unix_host.rights import unable
from openlatch.adapters.unix_host.wording import (
    AMOUNT_TO_ROOT,
    AUTHORITY,
    BY_KEY,
    COMMAND,
    EVERYTHING,
    LEVELS,
    LIKE_ROOT,
    MEMBER,
    NO_SHELL,
    OWNER,
    READ,
    SHELL,
    WRITE,
)
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, JsonView

ADMINISTRATION = "administration"
FIRST_ORDINARY = 1000
_KEYS = (".ssh/authorized_keys", ".ssh/authorized_keys2")
_LOOKED_AT = (
    "keys and certificate authorities of logins, authorities and principals of sshd",
    "members of groups, primary groups too",
    "sudo rules",
    "users with UID 0",
    "owners, owning groups, lists and modes of the shared folders",
    "sessions",
    "shares by NFS and SMB that ask nobody who they are",
)
# Settings of sshd that let others in, and that are not covered.
_LETS_IN = {
    "authorizedkeyscommand": "keys that a program gives (AuthorizedKeysCommand)",
    "authorizedprincipalscommand": "principals that a program gives (AuthorizedPrincipalsCommand)",
    "match": "what is set for some only (Match)",
}


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
            "to read etc/passwd, etc/group, etc/shadow, etc/sudoers, etc/sudoers.d, etc/ssh/sshd_config, "
            "var/spool/cron/crontabs, run/utmp and .ssh in the homes of logins (CAP_DAC_READ_SEARCH)",
            "to write etc/group, etc/shadow, etc/sudoers, etc/sudoers.d and the keys of logins (CAP_DAC_OVERRIDE)",
            "to change the access control lists of the shared folders (CAP_FOWNER)",
            "to signal the processes of sessions (CAP_KILL)",
        ),
        sessions=True,
        secret=False,
        rules=exposure.MANNER,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
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
        """Check that the files exist and can be read and changed."""
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
        if shutil.which("cvtsudoers") is None:
            raise SystemRefused("cvtsudoers is not installed.", "Install Debian's package sudo.")
        if self._folders and shutil.which("getfacl") is None:
            raise SystemRefused("getfacl is not installed.", "Install Debian's package acl.")

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """All logins with keys, groups, sudo rules, listed folders and sessions."""
        yield from LEVELS
        gaps: dict[str, list[Gap]] = {"": []}
        host = self._people()
        gaps[""] += [Gap("a line that names nobody", Why.NOT_SUPPORTED, place) for place in host.strange]
        found = [
            *self._keys(host, gaps),
            *self._certificates(host, gaps),
            *_members(host),
            *self._rules(host, gaps),
            *self._lists(host, gaps),
            *self._sessions(host),
            *self._shares(gaps),
        ]
        if any(isinstance(x, Holding) and x.holder == DOOR for x in found):
            found += host.everyone()
        # The same group, or the same user, can occur in several places.
        yield from {x.handle: x for x in found if isinstance(x, SharedAccount)}.values()
        yield from {(x.account, x.handle): x for x in found if isinstance(x, FoundPart)}.values()
        yield from {x.handle: x for x in found if isinstance(x, Login)}.values()
        yield from (x for x in found if isinstance(x, Holding | Presence | FoundRule))
        gaps[""] += self._not_looked_at()
        files_with_keys = {self._path(x.handle["file"]) for x in found if isinstance(x, Holding) and "line" in x.handle}
        lacking = tuple(unable([self._path(folder) for folder in self._folders], sorted(files_with_keys)))
        for account, there in gaps.items():
            yield Coverage(account, _LOOKED_AT, tuple(there), () if account else lacking)
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Only an entry of a folder's access control list can be reduced."""
        return level == WRITE.key and lower == READ.key

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """SystemRefused: keys and entries are added by hand, since only their owner has the key."""
        raise SystemRefused("Access to a host is given there by hand.", "Put the key or entry in, and read the host.")

    def again(self, handle: JsonObject) -> JsonObject | None:
        """The line, member or entry, restored as it was."""
        return {key: value for key, value in handle.items() if key != "login"} if "kind" in handle else None

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One change of one file or list."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """REMOVE and REDUCE change one file or list, END_SESSIONS ends one process, LOCK locks a login."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        if kind is StepKind.END_SESSIONS:
            return sessions.hang_up(detail["process"], detail["began"])
        if kind in (StepKind.LOCK, StepKind.UNLOCK):
            return self._change("etc/shadow", lambda c: _lock(c, _plain(detail["login"]), kind is StepKind.LOCK))
        if kind is StepKind.GIVE:
            return self._put_back(detail)
        return self._take(kind, detail)

    def _take(self, kind: StepKind, detail: JsonObject) -> str:
        match detail["kind"]:
            case "key":
                changed = self._files_with_key(detail, kind)
                return " ".join(
                    self._change(f, partial(files.without_key, fingerprint=detail["fingerprint"])) for f in changed
                )
            case "principal":
                without = partial(certificates.without_principal, name=detail["principal"])
                return self._change(detail["file"], without)
            case "member":
                return self._change("etc/group", lambda c: _without_member(c, detail["group"], detail["user"]))
            case "rules":
                return self._take_rules(detail)
            case "list":
                return self._take_entries(kind, detail)
            case "mode" | "default" if kind is StepKind.CLOSE:
                return self._shut(detail)
        raise _by_hand(detail)

    def _take_rules(self, detail: JsonObject) -> str:
        changed = []
        for rule in detail["rules"]:
            if rule["left"] is None:
                raise SystemRefused(
                    f"The rule in {rule['file']} names {detail['who']} together with others, or by an alias: "
                    f"{rule['raw'].strip()}",
                    "Change the rule by hand with visudo, and have the host read again.",
                )
        for rule in detail["rules"]:
            raw, rest = rule["raw"].encode("latin-1"), rule["left"].encode("latin-1")
            self._change(rule["file"], partial(rules.replaced, line=raw, by=rest), rules.check)
            changed.append(rule["file"])
        return f"Changed {', '.join(dict.fromkeys(changed))}; copies of what was there are in {files.COPIES}."

    def _take_entries(self, kind: StepKind, detail: JsonObject) -> str:
        """The mask is kept: recomputed, it could give others more than now."""
        entry, who = f"{detail['of']}:{detail['number']}", (detail["of"], detail["number"])
        changed = []
        for one in self._with_entry(detail):
            changed.append(one.path)
            for there, prefix in ((one.entries, ""), (one.defaults, "d:")):
                if who not in there:
                    continue
                less = there[who].replace("w", "") or "-"
                change = ["-m", f"{prefix}{entry}:{less}"] if kind is StepKind.REDUCE else ["-x", f"{prefix}{entry}"]
                self._run(["setfacl", "-n", *change, str(self._path(one.path))])
        return f"Changed the access control list of {', '.join(changed)}."

    def _with_entry(self, detail: JsonView) -> list[lists.List]:
        """The lists in a folder that name somebody now, its own first: its content may have been moved."""
        folder, who = detail["folder"], (detail["of"], detail["number"])
        top = self._list_of(folder)
        if top is None:
            raise SystemRefused(f"There is no {folder}; it may have been moved.", "Have the host read again.")
        return [one for one in (top, *self._inside(folder)) if who in one.named()]

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None if the file, list, lock or process is as the step wants it."""
        if kind is StepKind.END_SESSIONS:
            there = sessions.began(detail["process"]) == detail["began"]
            return f"process {detail['process']} is still there" if there else None
        if kind in (StepKind.LOCK, StepKind.UNLOCK):
            return self._lock_wrong(kind, _plain(detail["login"]))
        match detail["kind"]:
            case "key":
                there = self._files_with_key(detail, kind)
                wrong = f"the key is still in {' and '.join(there)}" if there else None
            case "principal":
                there = any(one.name == detail["principal"] for one in self._principals(detail["file"]))
                wrong = f"{detail['principal']} is still in {detail['file']}" if there else None
            case "member":
                wrong = self._member_wrong(detail)
            case "rules":
                return self._rules_wrong(kind, detail)
            case "list":
                return self._list_wrong(kind, detail)
            case "mode" | "default" if kind is StepKind.CLOSE:
                return self._open_still(detail)
            case _:
                wrong = _by_hand(detail).detail
        if kind is StepKind.GIVE:
            return None if wrong else "what was there is not there yet"
        return wrong

    def _shut(self, detail: JsonView) -> str:
        """The mask is kept, and with it what others have by the list."""
        later = ["-d"] if detail["kind"] == "default" else []
        self._run(["setfacl", "-n", *later, "-m", "o::---", str(self._path(detail["folder"]))])
        if later:
            return f"What is made in {detail['folder']} from now on is closed to whoever is not named."
        return f"The mode of {detail['folder']} lets nobody in by itself any more."

    def _open_still(self, detail: JsonView) -> str | None:
        folder, is_default = detail["folder"], detail["kind"] == "default"
        top = self._list_of(folder)
        if top is None:
            raise SystemRefused(f"There is no {folder}; it may have been moved.", "Look where it is.")
        left = set((top.defaults if is_default else top.entries).get(("other", ""), "")) - {"-"}
        return (
            f"the {'default entry' if is_default else 'mode'} of {folder} still lets every login in" if left else None
        )

    def _files_with_key(self, detail: JsonView, kind: StepKind) -> list[str]:
        """The files in which a key lets somebody in as a user: its own, and wherever sshd looks for that user's keys
        now.
        """
        named = [detail["file"]]
        fields = users_of(self._text("etc/passwd"))[0].get(detail.get("user", ""))
        if fields is not None and kind is not StepKind.GIVE:
            named += self._key_files(detail["user"], fields)
        return [
            file
            for file in dict.fromkeys(named)
            if any(key.fingerprint == detail["fingerprint"] for key in files.keys(self._bytes(file, True)))
        ]

    def _member_wrong(self, detail: JsonView) -> str | None:
        groups = groups_of(self._text("etc/group"))[0]
        there = groups.get(detail["group"])
        other = next((name for name, (number, _) in groups.items() if number == detail.get("number")), None)
        if other is not None and other != detail["group"]:
            raise SystemRefused(f"The group {detail['group']} is called {other} by now.", "Have the host read again.")
        if there is not None and detail["user"] in there[1]:
            return f"{detail['user']} is still in the group {detail['group']}"
        return None

    def _lock_wrong(self, kind: StepKind, name: str) -> str | None:
        """What is wrong with a login after a step: a locked password alone does not keep out a key."""
        if name not in users_of(self._text("etc/passwd"))[0]:
            raise SystemRefused(f"There is no user {name}; they may have been renamed.", "Have the host read again.")
        fields = next((f for f in self._shadow() if f[0] == name), None)
        if fields is None:
            raise SystemRefused(f"{name} is not in etc/shadow.", "Lock the login where it is kept.")
        shut, over = fields[1].startswith("!"), _is_over(fields)
        if kind is StepKind.UNLOCK:
            return f"{name} is locked" if shut or fields[7] == _OVER else None
        if not shut:
            return f"{name} is not locked"
        return None if over else f"the password of {name} is locked, and keys still let them in"

    def _rules_wrong(self, kind: StepKind, detail: JsonView) -> str | None:
        found = rules.read(self._root, self._bytes)
        if found.unreadable:
            raise SystemRefused(
                f"sudo's parser does not understand {', '.join(found.unreadable)}.",
                "Mend that line, or take it out; until then nobody can say what the rules give.",
            )
        raws = {rule.raw.rstrip(b"\n") for rule in found.rules}
        if kind is StepKind.GIVE:
            lacking = [r for r in detail["rules"] if r["raw"].encode("latin-1").rstrip(b"\n") not in raws]
            return f"a rule is not in {lacking[0]['file']} yet" if lacking else None
        names = self._people()
        still = [rule for rule in found.rules if detail["who"] in holders(names, found, rule)]
        return f"a rule in {still[0].file} still names {detail['who']}" if still else None

    def _list_wrong(self, kind: StepKind, detail: JsonView) -> str | None:
        who = (detail["of"], detail["number"])
        named = {one.path: one for one in self._with_entry(detail)}
        if kind is StepKind.GIVE:
            for path, there in detail["entries"].items():
                one = named.get(path, lists.List(path, "", ""))
                if (one.entries.get(who), one.defaults.get(who)) != (there["rights"], there["default"]):
                    return f"{detail['name']} has not yet in {path} what was there"
            return None
        still = [path for path, one in named.items() if kind is StepKind.REMOVE or "w" in one.rights(who)]
        if not still:
            return None
        what = "may still write in" if kind is StepKind.REDUCE else "is still in the list of"
        return f"{detail['name']} {what} {', '.join(still)}"

    def _put_back(self, detail: JsonObject) -> str:
        match detail["kind"]:
            case "key" | "principal":
                return self._change(detail["file"], lambda c: _with_line(c, detail["line"].encode("latin-1")))
            case "member":
                return self._change("etc/group", lambda c: _with_member(c, detail))
            case "rules":
                for rule in detail["rules"]:
                    raw, rest = rule["raw"].encode("latin-1"), (rule["left"] or "").encode("latin-1")
                    self._change(rule["file"], partial(_with_rule, raw=raw, left=rest), rules.check)
                return f"Changed {', '.join(dict.fromkeys(rule['file'] for rule in detail['rules']))}."
        entry = f"{detail['of']}:{detail['number']}"
        for path, there in detail["entries"].items():
            for rights, prefix in ((there["rights"], ""), (there["default"], "d:")):
                if rights is not None:
                    self._run(["setfacl", "-n", "-m", f"{prefix}{entry}:{rights or '-'}", str(self._path(path))])
        return f"Changed the access control list of {', '.join(detail['entries'])}."

    # Reading.

    def _people(self) -> People:
        users, strange = users_of(self._text("etc/passwd"))
        groups, none = groups_of(self._text("etc/group"))
        with_keys = {name for name, fields in users.items() if self._has_keys(name, fields)}
        locked = {f[0] for f in self._shadow() if f[1].startswith("!") and (_is_over(f) or f[0] not in with_keys)}
        jobs = {name: self._jobs(name) for name in users}
        return People(users, groups, frozenset(locked), jobs, (*strange, *none))

    def _has_keys(self, name: str, fields: list[str]) -> bool:
        """Whether a key or a certificate lets a user in; assumed if the file can't be read."""
        told = self._sshd()
        named = told.get("authorizedprincipalsfile", "none")
        try:
            if told.get("trustedusercakeys", "none") != "none" and (
                named == "none" or any(any(self._principals(file)) for file in self._paths([named], name, fields))
            ):
                return True
            return any(any(files.keys(self._bytes(file, True))) for file in self._key_files(name, fields))
        except (SystemRefused, SystemDown):
            return True

    def _key_files(self, name: str, fields: list[str]) -> list[str]:
        """Where sshd looks for a user's keys (sshd_config(5), AuthorizedKeysFile)."""
        told = self._sshd().get("authorizedkeysfile")
        return self._paths(told.split() if told else list(_KEYS), name, fields)

    def _paths(self, patterns: Sequence[str], name: str, fields: list[str]) -> list[str]:
        """Files of a user, by patterns as sshd_config(5) has them (TOKENS)."""
        home = fields[5].strip("/")
        found = []
        for pattern in patterns:
            path = pattern.strip('"').replace("%%", "\0").replace("%h", f"/{home}").replace("%u", name)
            path = path.replace("%U", fields[2]).replace("\0", "%")
            if path != "none":
                found.append(path.lstrip("/") if path.startswith("/") else f"{home}/{path}")
        return found

    def _sshd(self) -> dict[str, str]:
        """Settings of sshd, by lower-case keyword: the first one counts. Match blocks are left out."""
        told: dict[str, str] = {}
        extra = self._path("etc/ssh/sshd_config.d")
        names = sorted(f"etc/ssh/sshd_config.d/{p.name}" for p in extra.glob("*.conf")) if extra.is_dir() else []
        for file in [*names, "etc/ssh/sshd_config"]:
            for line in self._text(file, True).splitlines():
                words = re.match(r"\s*(\w+)\s*(?:\s|=)\s*(.+?)\s*$", line)
                if words is None or line.lstrip().startswith("#"):
                    continue
                told.setdefault(words[1].lower(), words[2])
                if words[1].lower() == "match":
                    break
        return told

    def _not_looked_at(self) -> Iterator[Gap]:
        for word, what in _LETS_IN.items():
            if word in self._sshd():
                yield Gap(what, Why.NOT_SUPPORTED, "etc/ssh/sshd_config")
        switch = re.search(r"^passwd:(.*)$", self._text("etc/nsswitch.conf", True), re.MULTILINE)
        if switch and set(switch[1].split()) - {"files", "compat", "systemd"}:
            yield Gap(f"users from elsewhere ({switch[1].strip()})", Why.NOT_SUPPORTED, "etc/nsswitch.conf")
        yield Gap("rules of other programs that let people act as root (polkit, doas)", Why.NOT_SUPPORTED)
        yield Gap("folders that are not named in the settings", Why.NOT_SUPPORTED)
        yield Gap("owners and groups of what is inside shared folders", Why.NOT_SUPPORTED)

    def _keys(self, host: People, gaps: dict[str, list[Gap]]) -> Iterator[Found]:
        for name, fields in host.users.items():
            account = SharedAccount(f"login:{name}", fields[4].split(",")[0] or f"Login {name}", "login")
            for file in self._key_files(name, fields):
                try:
                    content = self._bytes(file, True)
                except (SystemRefused, SystemDown):
                    # An unreadable file of one user leaves everybody else's readable.
                    yield account
                    gap = Gap("keys, in what is no plain file or can't be read", Why.NOT_UNDERSTOOD, file)
                    gaps.setdefault(account.handle, []).append(gap)
                    continue
                found = list(files.keys(content))
                if found:
                    yield account
                    gaps.setdefault(account.handle, [])
                if found and (other := files.passed_over(content)):
                    lines = f"{other} line{'s' * (other != 1)} that sshd passes over"
                    gaps[account.handle].append(Gap(lines, Why.NOT_SUPPORTED, file))
                for key in found:
                    yield from self._key(host, name, account.handle, file, key)

    def _key(self, host: People, name: str, account: str, file: str, key: files.Key) -> Iterator[Found]:
        marks = {"fingerprint": key.fingerprint}
        if "@" in key.comment and " " not in key.comment:
            marks["address"] = key.comment
        if "cert-authority" in key.options:
            level = AUTHORITY
        elif not host.has_shell(name):
            level = NO_SHELL
        else:
            level = COMMAND if "command" in key.options else SHELL
        handle = {
            "kind": "key",
            "user": name,
            "file": file,
            "fingerprint": key.fingerprint,
            "line": key.line.decode("latin-1"),
        }
        for option in ("from", "principals"):
            if option in key.options:
                handle[option] = key.options[option]
        holder, runs = f"key:{key.fingerprint}", key.options.get("command", "")
        hangs = (("key", f"whoever has this key has {runs} run, likely a machine"),) if runs else ()
        yield Login(holder, key.comment or key.fingerprint, False, marks, hangs=hangs)
        yield Holding(account, holder, False, level.key, key.until(self._zone), handle)

    def _certificates(self, host: People, gaps: dict[str, list[Gap]]) -> Iterator[Found]:
        """Whom sshd lets in by a certificate: by authorities that it trusts for everybody, or by principals."""
        file = self._sshd().get("trustedusercakeys", "none").strip('"').lstrip("/")
        if file == "none":
            return
        try:
            authorities = list(files.keys(self._bytes(file, True)))
        except (SystemRefused, SystemDown) as error:
            gaps[""].append(Gap(f"who gets in by certificates ({error.detail})", Why.NOT_PERMITTED, file))
            return
        told = self._sshd().get("authorizedprincipalsfile", "none")
        for name, fields in host.users.items() if authorities else ():
            account = SharedAccount(f"login:{name}", fields[4].split(",")[0] or f"Login {name}", "login")
            if told != "none":
                yield from self._named(host, name, account, self._paths([told], name, fields), gaps)
            elif host.has_shell(name):
                yield account
                for key in authorities:
                    handle = {"kind": "authority", "file": file, "user": name, "fingerprint": key.fingerprint}
                    yield Login(f"key:{key.fingerprint}", key.comment or key.fingerprint, False)
                    yield Holding(account.handle, f"key:{key.fingerprint}", False, AUTHORITY.key, None, handle)

    def _named(
        self, host: People, name: str, account: SharedAccount, named: Sequence[str], gaps: dict[str, list[Gap]]
    ) -> Iterator[Found]:
        """The principals that a user's file names."""
        for file in named:
            try:
                found = list(self._principals(file))
            except (SystemRefused, SystemDown):
                yield account
                gap = Gap("principals, in what is no plain file or can't be read", Why.NOT_UNDERSTOOD, file)
                gaps.setdefault(account.handle, []).append(gap)
                continue
            for one in found:
                yield account
                level = NO_SHELL if not host.has_shell(name) else COMMAND if one.command else SHELL
                line = one.line.decode("latin-1")
                handle = {"kind": "principal", "user": name, "file": file, "principal": one.name, "line": line}
                marks = {"address": one.name} if "@" in one.name else {}
                yield Login(f"principal:{one.name}", f"certificates for {one.name}", False, marks)
                yield Holding(account.handle, f"principal:{one.name}", False, level.key, None, handle)

    def _principals(self, file: str) -> Iterator[certificates.Principal]:
        yield from certificates.principals(self._bytes(file, True))

    def _rules(self, host: People, gaps: dict[str, list[Gap]]) -> Iterator[Found]:
        yield SharedAccount(ADMINISTRATION, "Administration of the host", "administration")
        there = gaps.setdefault(ADMINISTRATION, [])
        for name in host.users:
            if host.is_root(name) and name != "root":
                yield from host.holding(name, ADMINISTRATION, EVERYTHING, {"kind": "uid 0", "user": name})
        try:
            found = rules.read(self._root, self._bytes)
        except SystemRefused as error:
            there.append(Gap(f"sudo rules ({error.detail})", Why.NOT_PERMITTED, "etc/sudoers"))
            return
        there += [Gap("a sudo rule", Why.NOT_UNDERSTOOD, place) for place in found.unreadable]
        there += not_told(found)
        held: dict[str, list[rules.Rule]] = {}
        for rule in found.rules:
            for who in holders(host, found, rule):
                held.setdefault(who, []).append(rule)
        for who, of in held.items():
            if host.is_root(who.removeprefix("user:")):
                continue
            level = BY_KEY[max((rule.level for rule in of), key=[rules.SOME, rules.AS_OTHERS, rules.EVERYTHING].index)]
            lines = [{"file": r.file, "raw": r.raw.decode("latin-1"), "left": left(host, r, who)} for r in of]
            handle: JsonObject = {"kind": "rules", "who": who, "rules": lines}
            if who == DOOR:
                yield Holding(ADMINISTRATION, DOOR, True, level.key, None, handle)
            else:
                yield from host.holding(who.removeprefix("user:"), ADMINISTRATION, level, handle)

    def _lists(self, host: People, gaps: dict[str, list[Gap]]) -> Iterator[Found]:
        for folder in self._folders:
            account = f"folder:{folder}"
            yield SharedAccount(account, f"Folder {folder}", "folder")
            gaps.setdefault(account, [])
            try:
                yield from self._list(host, account, folder, gaps[account])
            except SystemRefused as error:
                gaps[account].append(Gap(f"its list ({error.detail})", Why.NOT_UNDERSTOOD, folder))

    def _list(self, host: People, account: str, folder: str, gaps: list[Gap]) -> Iterator[Found]:
        top = self._list_of(folder)
        if top is None:
            raise SystemRefused(f"There is no {folder}.", "Look whether it is still shared.")
        inside = self._inside(folder)
        for one in inside:
            yield FoundPart(account, one.path, one.path.removeprefix(folder).lstrip("/"), "folder")
        for who in sorted(top.named().union(*(one.named() for one in inside))):
            of, number = who
            name = host.user_of(number) if of == "user" else f"%{host.group_of(number)}"
            named = [one for one in (top, *inside) if who in one.named()]
            entries = {one.path: {"rights": one.entries.get(who), "default": one.defaults.get(who)} for one in named}
            handle = {
                "kind": "list",
                "folder": folder,
                "of": of,
                "number": number,
                "name": name.lstrip("%"),
                "entries": entries,
            }
            parts = tuple((one.path, _level_of(one.rights(who)).key) for one in named if one is not top)
            level = _level_of(top.rights(who)) if who in top.named() else None
            yield from host.holding(name, account, level, handle, parts)
        # Open Latch's own user and group are left out.
        if top.owner not in ("0", str(os.geteuid())) and ("user", top.owner) not in top.named():
            handle = {"kind": "owner", "folder": folder, "user": host.user_of(top.owner)}
            yield from host.holding(host.user_of(top.owner), account, OWNER, handle)
        masked = "".join(r for r in top.entries.get(("group", ""), "") if r in top.entries.get(("mask", ""), "rwx"))
        is_ours = top.group in ("0", str(os.getegid())) or ("group", top.group) in top.named()
        if not is_ours and set(masked) & {"r", "w"}:
            handle = {"kind": "owning group", "folder": folder, "group": host.group_of(top.group)}
            yield from host.holding(f"%{host.group_of(top.group)}", account, _level_of(masked), handle)
        for one in (top, *inside):
            for name in host.narrower(one):
                what = f"what a narrower entry keeps from {name} (shown as if they had what their groups have)"
                gaps.append(Gap(what, Why.NOT_SUPPORTED, one.path))
        other = top.entries.get(("other", ""), "")
        if set(other) & {"r", "w"} and "x" in other and self._can_be_reached(folder):
            yield Holding(account, DOOR, True, _level_of(other).key, None, {"kind": "mode", "folder": folder})
            yield from modes.of_folder(account, folder, other)
        if "x" in other and self._can_be_reached(folder):
            yield from self._open_inside(account, top, gaps)
            yield from self._open_later(account, top, inside)

    def _open_inside(self, account: str, top: lists.List, gaps: list[Gap]) -> Iterator[Found]:
        """What modes inside a folder allow every login beyond the folder's own mode."""
        above = "".join(right for right in top.entries["other", ""] if right in "rw")
        told = modes.inside(self._run(modes.find(str(self._path(top.path)))), above)
        for path, kind, rights in islice(told, modes.MOST):
            yield from modes.of_inside(account, top.path, path, kind, rights)
        if next(told, None) is not None:
            what = f"what else modes open inside: it is more than {modes.MOST} files and folders"
            gaps.append(Gap(what, Why.NOT_SUPPORTED, top.path))

    def _open_later(self, account: str, top: lists.List, inside: Sequence[lists.List]) -> Iterator[Found]:
        """What default entries will allow every login in new files, where those can be reached."""
        for one in (top, *inside):
            path = one.path.removeprefix(top.path).lstrip("/")
            rights = {right for right in one.defaults.get(("other", ""), "") if right in "rw"}
            if rights - set(one.entries["other", ""]) and self._is_gone_through(top.path, path):
                yield from modes.of_new(account, top.path, path, "".join(sorted(rights)))

    def _is_gone_through(self, folder: str, path: str) -> bool:
        """Whether everyone may traverse a folder inside another, and those between; False once it is gone.

        SystemRefused when one of them can't be seen.
        """
        steps = PurePosixPath(path).parts
        between = (self._path(folder).joinpath(*steps[:n]) for n in range(len(steps) + 1))
        try:
            return all(one.stat().st_mode & 0o001 for one in between)
        except FileNotFoundError:
            return False
        except OSError as error:
            raise SystemRefused(f"{folder}/{path} can't be seen: {error.strerror}.", "Give the right to.") from error

    def _shares(self, gaps: dict[str, list[Gap]]) -> Iterator[Found]:
        """Network shares without authentication, also of folders that are not in the settings."""
        shares: list[exposure.Share] = []
        for file, read in (
            (exposure.EXPORTS, exposure.exported),
            (exposure.SAMBA, exposure.shared),
        ):
            try:
                shares += read(self._text(file, True))
            except ValueError as error:
                gaps[""].append(Gap(f"shares ({error})"[:200], Why.NOT_SUPPORTED, file))
        for folder in dict.fromkeys([*self._folders, *(share.folder for share in shares)]):
            account = f"folder:{folder}"
            if folder not in self._folders:
                yield SharedAccount(account, f"Folder {folder}", "folder")
                gaps.setdefault(account, []).append(
                    Gap("its list: it is not in the settings", Why.NOT_SUPPORTED, folder)
                )
            yield from exposure.of_shares(account, folder, self._for_every_login(folder), shares)

    def _for_every_login(self, folder: str) -> str:
        """What the mode of a folder gives to every login; everything if the folder can't be read."""
        try:
            mode = self._path(folder).stat().st_mode & 0o007
            if not mode & 0o001 or not self._can_be_reached(folder):
                return ""
        except OSError:
            return "rwx"
        return "".join(letter for letter, bit in (("r", 0o004), ("w", 0o002)) if mode & bit)

    def _can_be_reached(self, folder: str) -> bool:
        """Whether everyone may traverse the folders above one."""
        path = self._path(folder).parent
        while path not in (self._root, path.parent):
            if not path.stat().st_mode & 0o001:
                return False
            path = path.parent
        return True

    def _list_of(self, folder: str) -> lists.List | None:
        """The access control list of a folder; None if it does not exist. SystemRefused if it can't be read."""
        path = self._path(folder)
        try:
            path.lstat()
        except FileNotFoundError:
            if self._root.is_dir():
                return None
            raise SystemDown(f"There is no {self._root}.", "Look whether the root folder is there.") from None
        except OSError as error:
            raise SystemRefused(f"{path} can't be seen: {error.strerror}.", "Give the right to.") from error
        found = _lists(self._run(["getfacl", "--absolute-names", "--numeric", str(path)]))
        if len(found) != 1:
            raise SystemRefused(f"getfacl tells nothing of {path}.", "Nothing is taken for gone.")
        found[0].path = folder
        return found[0]

    def _inside(self, folder: str) -> list[lists.List]:
        """The access control lists inside a folder, where there is more than the modes."""
        path = self._path(folder)
        told = self._run(["getfacl", "-R", "-P", "--skip-base", "--absolute-names", "--numeric", str(path)])
        found = [one for one in _lists(told) if one.path != str(path)]
        for one in found:
            one.path = f"{folder}{one.path.removeprefix(str(path))}"
        return [one for one in found if one.named()]

    def _sessions(self, host: People) -> Iterator[Found]:
        records = list(sessions.signed_in(self._bytes("run/utmp", True)))
        if self._asks_loginctl:
            # A session that both report is one: utmp also knows its terminal.
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
        """Sessions of systemd. If one ends between being listed and shown, ask again."""
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
        """When a terminal was last used, if known."""
        path = self._path(f"dev/{line}")
        return datetime.fromtimestamp(path.stat().st_atime, since.tzinfo) if path.exists() else since

    def _shadow(self) -> list[list[str]]:
        """The lines of shadow(5), each with its nine fields."""
        split = (line.split(":") for line in self._text("etc/shadow", True).split("\n"))
        return [fields for fields in split if len(fields) == 9]

    # Changing.

    def _change(self, name: str, change: Callable[[bytes], bytes], check: Callable[[Path], None] | None = None) -> str:
        files.rewrite(self._root, self._path(name), change, check)
        return f"Changed {name}; a copy of what was there is in {files.COPIES}."

    def _run(self, command: list[str]) -> str:
        try:
            done = subprocess.run(
                command, capture_output=True, text=True, errors="backslashreplace", timeout=CALL_SECONDS, check=False
            )
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

    def _text(self, name: str, may_be_missing: bool = False) -> str:
        return self._bytes(name, may_be_missing).decode("utf-8", "backslashreplace")

    def _bytes(self, name: str, may_be_missing: bool = False) -> bytes:
        try:
            return files.plain(self._path(name))
        except (FileNotFoundError, NotADirectoryError) as error:
            if may_be_missing and self._root.is_dir():
                return b""
            raise SystemDown(f"There is no {self._path(name)}.", "Look whether the root folder is there.") from error
        except OSError as error:
            raise SystemRefused(f"{self._path(name)} can't be read: {error.strerror}.", "Give the right to.") from error


# The account expiry day that a lock writes (shadow(5)): long past.
_OVER = "1"


def _is_over(fields: list[str]) -> bool:
    """Whether an account has expired, by the days in shadow(5)."""
    with suppress(ValueError):
        return int(fields[7]) * 86_400 <= datetime.now(UTC).timestamp()
    return False


def _lists(told: str) -> list[lists.List]:
    """The output of getfacl, parsed. SystemRefused if it is not understood."""
    try:
        return lists.parse(told)
    except ValueError as error:
        raise SystemRefused(f"What getfacl tells is not understood: {error}.", "Nothing is taken for gone.") from error


def _level_of(rights: str) -> FoundLevel:
    return WRITE if "w" in rights else READ


def _by_hand(detail: JsonView) -> SystemRefused:
    """Access that can't be removed by changing one file or list."""
    told = {
        "primary": ("{user} has {group} as their primary group.", "Give them another with usermod -g."),
        "uid 0": (
            "{user} has UID 0, and so is the administrator.",
            "Give them another number, or take the user out.",
        ),
        "owner": ("{user} owns {folder}.", "Give it another owner with chown."),
        "owning group": (
            "{folder} belongs to the group {group}.",
            "Give it another group with chgrp, or change its mode.",
        ),
        "mode": ("The mode of {folder} lets everyone in.", "Change its mode with chmod."),
        "authority": (
            "sshd trusts the authority in {file} for every login.",
            "Take its key out there, or name principals for each login (AuthorizedPrincipalsFile).",
        ),
        "everyone": ("{user} has this as everyone does.", "Take it from everyone."),
    }[detail["kind"]]
    return SystemRefused(told[0].format(**detail), f"{told[1]} Then have the host read again.")


def _members(host: People) -> Iterator[Found]:
    primary: dict[str, list[str]] = {}
    for name, fields in host.users.items():
        primary.setdefault(host.group_of(fields[3]), []).append(name)
    for group, (number, members) in host.groups.items():
        # A user's private group is nobody else's.
        others = [name for name in primary.get(group, ()) if name != group and name not in members]
        if not members and not (others and (group in AMOUNT_TO_ROOT or number >= FIRST_ORDINARY)):
            if number >= FIRST_ORDINARY and group not in host.users:
                yield host.group(group)
            continue
        yield host.group(group)
        level = LIKE_ROOT if group in AMOUNT_TO_ROOT else MEMBER
        held = [(user, "member") for user in dict.fromkeys(members)] + [(user, "primary") for user in others]
        for user, kind in held:
            if user != "root":
                handle = {"kind": kind, "group": group, "user": user, "number": number, "members": list(members)}
                yield from host.holding(user, f"group:{group}", level, handle)


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


def _with_line(content: bytes, line: bytes) -> bytes:
    """The file with a line appended; a missing line end is added first."""
    return content + (b"\n" if content and not content.endswith(b"\n") else b"") + line.rstrip(b"\r\n") + b"\n"


def _with_rule(content: bytes, raw: bytes, left: bytes) -> bytes:
    """The file with a rule restored: in place of what was left of its line, else at the end; once."""
    there = [line.rstrip(b"\n") for _, line in rules.logical_lines(content)]
    if raw.rstrip(b"\n") in there:
        return content
    if left and left.rstrip(b"\n") in there:
        return rules.replaced(content, left, raw)
    return content + (b"\n" if content and not content.endswith(b"\n") else b"") + raw.rstrip(b"\n") + b"\n"


def _with_member(content: bytes, detail: JsonView) -> bytes:
    """The file with somebody in a group again, at their old position."""
    user, order = detail["user"], list(detail.get("members", ()))

    def add(line: bytes) -> bytes:
        fields = line.split(b":")
        if len(fields) != 4 or fields[0] != detail["group"].encode():
            return line
        kept = fields[3].rstrip(b"\r\n")
        members = [one.decode("utf-8", "surrogateescape") for one in kept.split(b",") if one]
        later = order[order.index(user) + 1 :] if user in order else []
        place = next((members.index(one) for one in later if one in members), len(members))
        members.insert(place, user)
        joined = ",".join(members).encode("utf-8", "surrogateescape")
        return b":".join((*fields[:3], joined + fields[3][len(kept) :]))

    return b"".join(add(line) for line in content.splitlines(keepends=True))


def _lock(content: bytes, name: str, on: bool) -> bytes:
    """The file with a user's password locked and their account expired, as by ``usermod -L -e 1``, or neither."""

    def shut(line: bytes) -> bytes:
        fields = line.split(b":")
        if fields[0] != name.encode() or len(fields) != 9:
            return line
        if on:
            fields[1] = fields[1] if fields[1].startswith(b"!") else b"!" + fields[1]
            fields[7] = fields[7] or _OVER.encode()
        else:
            fields[1] = fields[1].removeprefix(b"!")
            fields[7] = b"" if fields[7] == _OVER.encode() else fields[7]
        return b":".join(fields)

    return b"".join(shut(line) for line in content.splitlines(keepends=True))
