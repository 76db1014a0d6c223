"""Directories (LDAP v3): people are logins, groups are shared accounts, and groups in groups are nested.

Reads groupOfNames and groupOfUniqueNames (RFC 4519) with their owners, inetOrgPerson (RFC 2798), the lock of a
password policy (``pwdAccountLockedTime``) and the time of the last sign-in (``pwdLastSuccess`` or ``authTimestamp``),
where the directory keeps them. Paged results (RFC 2696), so that its size limits do not cut a reading short.
"""

from __future__ import annotations

import ssl
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

import ldap3
from ldap3.core import exceptions
from ldap3.core.results import RESULT_NO_SUCH_OBJECT, RESULT_SUCCESS
from ldap3.utils.dn import safe_dn

from openlatch.adapters.contract import (
    CALL_SECONDS,
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Setting,
    SharedAccount,
    Unchanged,
    Used,
    Whole,
)
from openlatch.core.revocation import Move
from openlatch.core.words import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused

CONNECT_SECONDS = 5
PAGE = 500
MEMBER = FoundLevel(
    "member", "Member", "Has what the group gives.", (("belong", "Have what the group gives", Reach.OPERATE),)
)
OWNER = FoundLevel(
    "owner",
    "Group owner",
    "Decides who is in the group.",
    (("admit", "Let others in and put them out", Reach.STEWARD),),
)
BOTH = FoundLevel(
    "owning_member", "Member and group owner", "Has what the group gives, and decides who is in it.",
    MEMBER.permissions + OWNER.permissions,
)  # fmt: skip
LEVELS = (MEMBER, OWNER, BOTH)
_HELD_BY = {"member": ("member",), "owner": ("owner",), "owning_member": ("member", "owner")}
# A lock for good, as the password policy of directories writes it (draft-behera-ldap-password-policy, 5.3.3).
LOCKED_FOR_GOOD = "000001010000Z"
_GROUPS = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))"
_PEOPLE = "(objectClass=inetOrgPerson)"
_OF_PEOPLE = ("uid", "cn", "mail", "employeeNumber", "pwdAccountLockedTime", "pwdLastSuccess", "authTimestamp")
_TOLD = ("cn", "description", "entryCSN")
_OF_GROUPS = (*_TOLD, "member", "uniqueMember", "owner")


class DirectoryAdapter(Adapter):
    """Reads and changes one directory. ``secret`` is the password of ``user``, a distinguished name."""

    settings_taken = (
        Setting("host", "The directory's address."),
        Setting("port", "Its port.", 389),
        Setting("tls", "Whether to speak TLS: none, starttls or always.", "starttls"),
        Setting("user", "The distinguished name that Open Latch signs in as."),
        Setting("people", "Where people are, as a distinguished name."),
        Setting("groups", "Where groups are, as a distinguished name."),
        Setting("apps", "Where entries are that are apps and not people, as a distinguished name.", ""),
    )
    can = Abilities(
        steps=frozenset({StepKind.GIVE, StepKind.REMOVE, StepKind.REDUCE, StepKind.LOCK, StepKind.UNLOCK}),
        rights=(
            "to read people and groups, with pwdAccountLockedTime and pwdLastSuccess",
            "to write member and owner of groups",
            "to write pwdAccountLockedTime of people, to lock them",
        ),
        use=True,
        stamps=True,
    )

    def __init__(self, settings: dict[str, Any], secret: str) -> None:
        self._settings = settings
        self._secret = secret

    def check(self) -> None:
        """Sign in, and look whether people and groups can be read."""
        with self._connection() as directory:
            for name in ("people", "groups"):
                base = self._settings[name]
                directory.search(base, "(objectClass=*)", ldap3.BASE, attributes=["objectClass"])
                if directory.result["result"] != RESULT_SUCCESS or not directory.response:
                    raise SystemRefused(
                        f"{self._settings['user']} can't read {base}.",
                        f"Look whether it is there, and give the right to read it: {directory.result['description']}.",
                    )

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """All groups and people. Each page is a moment of its own; a directory has no one view of everything.

        The stamp of a group is its entryCSN (draft-chu-ldap-csn): it moves with every change of the entry.
        """
        yield from LEVELS
        with self._connection() as directory:
            groups = list(_search(directory, self._settings["groups"], _GROUPS, _TOLD if since else _OF_GROUPS))
            stamps = {dn(entry["dn"]): _first(entry, "entryCSN") for entry in groups}
            same = {name for name, stamp in stamps.items() if stamp and since.get(name) == stamp}
            changed = [entry for entry in groups if dn(entry["dn"]) not in same]
            if since:
                changed = [e for one in changed for e in _search(directory, one["dn"], _GROUPS, _OF_GROUPS, True)]
            people = list(_search(directory, self._settings["people"], _PEOPLE, _OF_PEOPLE))
            if self._settings.get("apps"):
                people += _search(directory, self._settings["apps"], "(objectClass=applicationProcess)", ("cn",))
        accounts = {dn(entry["dn"]): dn(entry["dn"]) for entry in groups}
        logins = {dn(entry["dn"]): entry["attributes"] for entry in people}
        for entry in groups:
            name = dn(entry["dn"])
            yield SharedAccount(name, _first(entry, "description") or _first(entry, "cn"), "group", stamps[name])
            if name in same:
                yield Unchanged(name)
        for name, attributes in logins.items():
            is_app = bool(self._settings.get("apps")) and name.endswith("," + dn(self._settings["apps"]))
            marks = {"address": "mail", "uid": "uid", "employee": "employeeNumber"}
            told = {mark: text for mark, key in marks.items() if (text := _text(attributes.get(key)))}
            locked = bool(attributes.get("pwdAccountLockedTime"))
            yield Login(name, _text(attributes.get("cn")) or name, is_app, told, locked)
            last = _time(attributes)
            if last is not None:
                # The directory tells that somebody signed in, and not by which group: it counts for all they are in.
                yield Used("", name, last.date())
        for entry in changed:
            yield from _holdings(entry, accounts, logins)
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """A member who owns the group can be made just one of the two."""
        return level == BOTH.key and lower in (MEMBER.key, OWNER.key)

    def holding(self, account: str, login: str, level: str) -> dict[str, Any]:
        """A value of member or owner, or of both."""
        return {"group": dn(account), "holder": dn(login), "level_key": level}

    def plan(self, kind: StepKind, detail: dict[str, Any]) -> tuple[Move, ...]:
        """One change of the group."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """GIVE, REMOVE and REDUCE change the values of a group; LOCK writes the lock of the password policy."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with self._connection() as directory:
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                time = [LOCKED_FOR_GOOD] if kind is StepKind.LOCK else []
                _modify(directory, detail["login"], {"pwdAccountLockedTime": [(ldap3.MODIFY_REPLACE, time)]})
                return f"{'Locked' if kind is StepKind.LOCK else 'Unlocked'} {detail['login']}."
            group = self._group(directory, detail["group"])
            changes = _changes(kind, detail, group)
            _modify(directory, detail["group"], changes)
            return f"Changed {', '.join(changes)} of {detail['group']}."

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """None when the group, or the lock, is as the step wants it."""
        with self._connection() as directory:
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                found = list(_search(directory, detail["login"], "(objectClass=*)", ("pwdAccountLockedTime",), True))
                locked = found and found[0]["attributes"].get("pwdAccountLockedTime")
                if kind is StepKind.UNLOCK:
                    return f"{detail['login']} is locked" if locked or not found else None
                return None if locked or not found else f"{detail['login']} is not locked"
            group = self._group(directory, detail["group"])
        held = _held(group, dn(detail["holder"]))
        if kind is StepKind.GIVE:
            wanted = set(_HELD_BY[detail["level_key"]])
            return None if wanted <= held else f"{detail['holder']} is not yet in {detail['group']} as it should be"
        left = held - set(_HELD_BY[detail["to"]]) if kind is StepKind.REDUCE else held
        return f"{detail['holder']} is still {' and '.join(sorted(left))} of {detail['group']}" if left else None

    def _group(self, directory: ldap3.Connection, group: str) -> dict[str, Any]:
        found = list(_search(directory, group, "(objectClass=*)", _OF_GROUPS, True))
        return found[0]["attributes"] if found else {}

    @contextmanager
    def _connection(self) -> Iterator[ldap3.Connection]:
        settings = self._settings
        tls = settings.get("tls", "starttls")
        server = ldap3.Server(
            settings["host"], int(settings["port"]), use_ssl=tls == "always", get_info=ldap3.NONE,
            tls=ldap3.Tls(validate=ssl.CERT_REQUIRED), connect_timeout=CONNECT_SECONDS,
        )  # fmt: skip
        directory = ldap3.Connection(
            server, settings["user"], self._secret, receive_timeout=CALL_SECONDS, auto_range=False, check_names=False
        )
        try:
            directory.open()
            if tls == "starttls":
                directory.start_tls()
            if not directory.bind():
                raise exceptions.LDAPBindError(directory.result["description"])
            yield directory
        except exceptions.LDAPBindError as error:
            raise SystemRefused(
                f"The directory refused the sign-in of {settings['user']}: {error}",
                "Look at the name and the password.",
            ) from error
        except exceptions.LDAPException as error:
            raise SystemDown(
                f"The directory did not answer: {error}", "It will be tried again; look whether it can be reached."
            ) from error
        finally:
            # Also when it was opened and the sign-in refused, or when it could not be opened.
            directory.unbind()
            if directory.socket is not None:
                directory.socket.close()


def dn(name: str) -> str:
    """A distinguished name in one form, so that two ways of writing it are equal (RFC 4514)."""
    try:
        return str(safe_dn(name)).lower()
    except exceptions.LDAPInvalidDnError as error:
        raise SystemRefused(f"{name!r} is no distinguished name: {error}.", "Look at where it comes from.") from error


def _search(
    directory: ldap3.Connection, base: str, what: str, attributes: Sequence[str], only: bool = False
) -> Iterator[dict[str, Any]]:
    """Entries below a base, or the base only; none when it is not there. SystemRefused when it may not be read."""
    pages = directory.extend.standard.paged_search(
        base, what, ldap3.BASE if only else ldap3.SUBTREE, attributes=list(attributes), paged_size=PAGE, generator=True
    )
    for entry in pages:
        if entry.get("type") == "searchResEntry":
            entry["attributes"] = {k: _values(v) for k, v in entry["raw_attributes"].items()}
            yield entry
    code = directory.result["result"]
    if code not in (RESULT_SUCCESS, RESULT_NO_SUCH_OBJECT):
        raise SystemRefused(f"The directory refused to show {base}: {directory.result['description']}.",
                            "Give the right to read it.")  # fmt: skip


def _values(raw: Sequence[bytes]) -> list[str]:
    return [value.decode("utf-8", "replace") for value in raw]


def _modify(directory: ldap3.Connection, name: str, changes: dict[str, Any]) -> None:
    directory.modify(name, changes)
    if directory.result["result"] != RESULT_SUCCESS:
        said = directory.result["message"] or directory.result["description"]
        raise SystemRefused(f"The directory refused to change {name}: {said}.", "Give the right to write there.")


def _held(group: dict[str, Any], holder: str) -> set[str]:
    """Whether somebody is a member of a group, or its owner, or both."""
    keys = {"member": "member", "uniqueMember": "member", "owner": "owner"}
    return {name for key, name in keys.items() if holder in {dn(v) for v in group.get(key, ()) if v}}


def _changes(kind: StepKind, detail: dict[str, Any], group: dict[str, Any]) -> dict[str, Any]:
    """What has to be changed in a group for a step; values are named as the group has them."""
    holder = dn(detail["holder"])
    members = "uniqueMember" if group.get("uniqueMember") else "member"
    changes: dict[str, Any] = {}
    if kind is StepKind.GIVE:
        for name in set(_HELD_BY[detail["level_key"]]) - _held(group, holder):
            changes[members if name == "member" else "owner"] = [(ldap3.MODIFY_ADD, [detail["holder"]])]
        return changes
    kept = set(_HELD_BY[detail["to"]]) if kind is StepKind.REDUCE else set()
    for key in {members, "owner"}:
        if ("owner" if key == "owner" else "member") in kept:
            continue
        gone = [value for value in group.get(key, ()) if value and dn(value) == holder]
        if gone:
            changes[key] = [(ldap3.MODIFY_DELETE, gone)]
            if key == members and len(group[key]) == len(gone):
                # A group may not be empty (RFC 4519, 3.5): the empty name stands for nobody.
                changes[key].insert(0, (ldap3.MODIFY_ADD, [""]))
    return changes


def _holdings(entry: dict[str, Any], accounts: Mapping[str, str], logins: Mapping[str, Any]) -> Iterator[Holding]:
    attributes, group = entry["attributes"], dn(entry["dn"])
    members = {dn(m) for key in ("member", "uniqueMember") for m in attributes.get(key, ()) if m}
    owners = {dn(o) for o in attributes.get("owner", ()) if o}
    for holder in sorted(members | owners):
        if holder in accounts or holder in logins:
            level = BOTH if holder in members & owners else MEMBER if holder in members else OWNER
            yield Holding(group, holder, holder in accounts, level.key, None, {"group": group, "holder": holder})


def _first(entry: dict[str, Any], key: str) -> str:
    return _text(entry["attributes"].get(key))


def _text(values: Sequence[str] | None) -> str:
    return values[0] if values else ""


def _time(attributes: dict[str, Any]) -> datetime | None:
    """When somebody signed in last, as a generalised time in UTC (RFC 4517, 3.3.13); None when it is not kept."""
    text = _text(attributes.get("pwdLastSuccess")) or _text(attributes.get("authTimestamp"))
    if not text:
        return None
    return datetime.strptime(text.split(".")[0].rstrip("Z"), "%Y%m%d%H%M%S").replace(tzinfo=UTC)
