"""Directories (LDAP v3): people are logins, groups are shared accounts, and groups in groups are nested.

Reads groupOfNames, groupOfUniqueNames and organizationalRole (RFC 4519) with their owners, posixGroup (RFC 2307),
inetOrgPerson (RFC 2798), the lock of a password policy (``pwdAccountLockedTime``) and the time of the last sign-in
(``pwdLastSuccess`` or ``authTimestamp``), where the directory keeps them. Paged results (RFC 2696); other directories
that this one points at are named and not asked, since they would be sent the password.
"""

from __future__ import annotations

import ssl
import struct
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime

import ldap3
from ldap3.core import exceptions
from ldap3.core.results import (
    RESULT_COMPARE_TRUE,
    RESULT_INSUFFICIENT_ACCESS_RIGHTS,
    RESULT_NO_SUCH_OBJECT,
    RESULT_SIZE_LIMIT_EXCEEDED,
    RESULT_SUCCESS,
)
from pyasn1.error import PyAsn1Error

from openlatch.adapters.contract import (
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
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.directory import exposure
from openlatch.adapters.directory.names import dn, is_below, without_uid
from openlatch.adapters.directory.rights import unable
from openlatch.adapters.limits import CALL_SECONDS, CONNECT_SECONDS, cut_off_after
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, JsonView

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
    "owning_member",
    "Member and group owner",
    "Has what the group gives, and decides who is in it.",
    MEMBER.permissions + OWNER.permissions,
)
LEVELS = (MEMBER, OWNER, BOTH)
_HELD_BY = {"member": ("member",), "owner": ("owner",), "owning_member": ("member", "owner")}
# A permanent lock as a directory's password policy writes it (draft-behera-ldap-password-policy, 5.3.3).
LOCKED_FOR_GOOD = "000001010000Z"
_KINDS = ("groupOfNames", "groupOfUniqueNames", "organizationalRole", "posixGroup")
_GROUPS = f"(|{''.join(f'(objectClass={kind})' for kind in _KINDS)})"
# Dynamic groups, and groups stored on their members: reported as not supported.
_OTHER_GROUPS = "(|(objectClass=groupOfURLs)(objectClass=dynamicGroup))"
_PEOPLE = "(|(objectClass=inetOrgPerson)(objectClass=posixAccount))"
# By attribute: the role in the group of whoever it names.
_SAYS = {
    "member": "member",
    "uniqueMember": "member",
    "roleOccupant": "member",
    "memberUid": "member",
    "owner": "owner",
}
_OF_PEOPLE = (
    "uid",
    "cn",
    "mail",
    "employeeNumber",
    "gidNumber",
    "pwdAccountLockedTime",
    "pwdLastSuccess",
    "authTimestamp",
)
_TOLD = ("objectClass", "cn", "description", "gidNumber", "entryCSN")
_OF_GROUPS = (*_TOLD, *_SAYS)
_LOOKED_AT = (
    "what shows without signing in",
    "members by member, uniqueMember, roleOccupant and memberUid",
    "owners",
    "primary groups",
    "locks",
)


# What the library raises if the other end does not speak LDAP, or the connection breaks within an answer.
_NOT_LDAP = (IndexError, KeyError, TypeError, ValueError, AttributeError, struct.error, PyAsn1Error, OSError)


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
            "to write member, uniqueMember, roleOccupant, memberUid and owner of groups",
            "to write pwdAccountLockedTime of people, to lock them",
        ),
        use=True,
        stamps=True,
        rules=exposure.MANNER,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._settings = settings
        self._secret = secret

    def check(self) -> None:
        """Sign in, and check that people and groups can be read."""
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
        """All groups and people. Each page is read at its own moment; a directory has no snapshots.

        The stamp of a group is its entryCSN (draft-chu-ldap-csn): it moves with every change of the entry. What the
        directory shows without a sign-in is a part of it, since that can change without the entry.
        """
        yield from LEVELS
        world = _World(dn(self._settings["apps"]) if self._settings.get("apps") else "")
        with self._connection() as directory:
            entries = _search(directory, self._settings["groups"], _GROUPS, _TOLD if since else _OF_GROUPS)
            groups = list(world.named(entries))
            opened = self._open_to_anyone([entry["dn"] for entry in groups])
            stamps = {entry["dn"]: _stamp(entry, opened.get(entry["dn"], ())) for entry in groups}
            same = {name for name, stamp in stamps.items() if stamp and since.get(name) == stamp}
            others = _search(directory, self._settings["groups"], _OTHER_GROUPS, ("cn",))
            world.others = sum(entry["type"] == "searchResEntry" for entry in others)
            people = list(world.named(_search(directory, self._settings["people"], _PEOPLE, _OF_PEOPLE)))
            if world.apps:
                found = _search(directory, self._settings["apps"], "(objectClass=applicationProcess)", ("cn",))
                people += world.named(found)
            world.meet(groups, people)
            # Primary groups are stored with people, so an unchanged group may have other members by now.
            same -= world.with_numbers
            changed = [entry for entry in groups if entry["dn"] not in same]
            if since:
                again = [_search(directory, entry["dn"], _GROUPS, _OF_GROUPS, True) for entry in changed]
                changed = [entry for found in again for entry in world.named(found)]
            held = [(entry["dn"], world.members(entry)) for entry in changed]
            world.look_up(directory, {holder for _, members in held for holder in members})
            written = [(entry["dn"], entry["attributes"]) for entry in changed]
            world.unable = tuple(unable(directory, written, [entry["dn"] for entry in people], tuple(_SAYS)))
        for entry in groups:
            yield SharedAccount(
                entry["dn"], _first(entry, "description") or _first(entry, "cn"), "group", stamps[entry["dn"]]
            )
            if entry["dn"] in same:
                yield Unchanged(entry["dn"])
            yield from exposure.rules(entry["dn"], opened.get(entry["dn"], ()))
        for name, attributes in world.logins.items():
            yield world.login(name, attributes)
            last = world.signed_in(name, attributes)
            if last is not None:
                # The directory reports a sign-in, but not for which group: it counts as use of all of them.
                yield Used("", name, last.date())
        for group, members in held:
            yield from world.holdings(group, members)
        yield from world.coverage([group for group, _ in held])
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """A member who owns the group can be reduced to either of the two."""
        return level == BOTH.key and lower in (MEMBER.key, OWNER.key)

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """A value of member or owner, or of both."""
        return {"group": dn(account), "holder": dn(login), "level_key": level}

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One change of the group."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """GIVE, REMOVE and REDUCE change the values of a group; LOCK writes the lock of the password policy."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with self._connection() as directory:
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                time = [LOCKED_FOR_GOOD] if kind is StepKind.LOCK else []
                _modify(directory, detail["login"], {"pwdAccountLockedTime": [(ldap3.MODIFY_REPLACE, time)]})
                return f"{'Locked' if kind is StepKind.LOCK else 'Unlocked'} {detail['login']}."
            group = self._group(directory, detail["group"])
            changes = _changes(kind, _with_entry(directory, detail), group)
            _modify(directory, detail["group"], changes)
            return f"Changed {', '.join(changes)} of {detail['group']}."

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None if the group, or the lock, is as the step wants it."""
        with self._connection() as directory:
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                found = list(_search(directory, detail["login"], "(objectClass=*)", ("pwdAccountLockedTime",), True))
                if not found:
                    raise _not_shown(detail["login"])
                locked = bool(found[0]["attributes"].get("pwdAccountLockedTime"))
                if kind is StepKind.UNLOCK:
                    return f"{detail['login']} is locked" if locked else None
                return None if locked else f"{detail['login']} is not locked"
            group = self._group(directory, detail["group"])
            held = _held(directory, group, _with_entry(directory, detail))
        if kind is StepKind.GIVE:
            wanted = set(_HELD_BY[detail["level_key"]])
            return None if wanted <= held else f"{detail['holder']} is not yet in {detail['group']} as it should be"
        left = held - set(_HELD_BY[detail["to"]]) if kind is StepKind.REDUCE else held
        return f"{detail['holder']} is still {' and '.join(sorted(left))} of {detail['group']}" if left else None

    def again(self, handle: JsonObject) -> JsonObject | None:
        """The values as they were written, attribute by attribute."""
        return handle if handle.get("values") else None

    def _group(self, directory: ldap3.Connection, group: str) -> JsonObject:
        """A group with everybody named in it. SystemRefused if the directory does not show it: it may exist all the
        same.
        """
        found = list(_search(directory, group, "(objectClass=*)", _OF_GROUPS, True))
        if not found:
            raise _not_shown(group)
        return {"dn": group, **found[0]["attributes"]}

    def _open_to_anyone(self, known: Sequence[str]) -> dict[str, frozenset[str]]:
        """By group, what anonymous clients may do with it; empty if the directory refuses them."""
        try:
            with self._connection(anonymous=True) as nobody:
                return exposure.tried(nobody, self._settings["groups"], _GROUPS, known)
        except SystemRefused:
            return {}

    @contextmanager
    def _connection(self, anonymous: bool = False) -> Iterator[ldap3.Connection]:
        settings = self._settings
        tls = settings.get("tls", "starttls")
        server = ldap3.Server(
            settings["host"],
            int(settings["port"]),
            use_ssl=tls == "always",
            get_info=ldap3.NONE,
            tls=ldap3.Tls(validate=ssl.CERT_REQUIRED),
            connect_timeout=CONNECT_SECONDS,
        )
        directory = ldap3.Connection(
            server,
            None if anonymous else settings["user"],
            None if anonymous else self._secret,
            receive_timeout=CALL_SECONDS,
            auto_range=False,
            check_names=False,
            auto_referrals=False,
        )
        try:
            directory.open()
            if tls == "starttls":
                directory.start_tls()
            if not directory.bind():
                raise exceptions.LDAPBindError(directory.result["description"])
            with cut_off_after(directory.socket.fileno):
                yield directory
        except exceptions.LDAPBindError as error:
            raise SystemRefused(
                f"The directory refused the sign-in of {settings['user']}: {error}",
                "Look at the name and the password.",
            ) from error
        except (exceptions.LDAPException, *_NOT_LDAP) as error:
            raise SystemDown(
                f"The directory did not answer: {error}", "It will be tried again; look whether it can be reached."
            ) from error
        finally:
            # Closed even if the sign-in was refused or the connection could not be opened.
            directory.unbind()
            if directory.socket is not None:
                directory.socket.close()


class _World:
    """What a read has found so far: people, groups, and what it could not understand."""

    def __init__(self, apps: str) -> None:
        self.apps = apps
        self.groups: dict[str, JsonObject] = {}
        self.logins: dict[str, JsonObject] = {}
        self.with_numbers: set[str] = set()
        self.others = 0
        self.unable: tuple[str, ...] = ()
        self._by_uid: dict[str, list[str]] = {}
        self._gaps: dict[str, list[Gap]] = {}

    def named(self, entries: Iterable[JsonObject]) -> Iterator[JsonObject]:
        """Entries by their normalised names. An invalid name counts as a gap; so does a referral."""
        for entry in entries:
            if entry["type"] == "searchResRef":
                self._gap("", "what is in another directory", Why.NOT_SUPPORTED, " ".join(map(str, entry["uri"])))
                continue
            try:
                name = dn(entry["dn"])
                yield {**entry, "dn": name, "attributes": _values(entry["raw_attributes"])}
            except SystemRefused:
                # Only this entry is affected: what is known of others, and of it from before, stays.
                self._gap("", "an entry whose name is not understood", Why.NOT_SUPPORTED, str(entry["dn"]))

    def meet(self, groups: Iterable[JsonObject], people: Iterable[JsonObject]) -> None:
        """Record groups and people by name, and people by uid and primary group, too."""
        self.groups = {entry["dn"]: entry["attributes"] for entry in groups}
        self.logins = {entry["dn"]: entry["attributes"] for entry in people if entry["dn"] not in self.groups}
        self.with_numbers = {name for name, attributes in self.groups.items() if attributes.get("gidNumber")}
        for name, attributes in self.logins.items():
            for uid in attributes.get("uid", ()):
                self._by_uid.setdefault(uid, []).append(name)

    def members(self, entry: JsonObject) -> dict[str, dict[str, list[str]]]:
        """By holder, the attributes that name them in a group and the values as they are written there."""
        group, found = entry["dn"], dict[str, dict[str, list[str]]]()
        attributes = entry["attributes"]
        kinds = {kind.lower() for kind in attributes.get("objectClass", ())}
        if "groupofnames" in kinds and not attributes.get("member"):
            # The standard requires a member: an empty group has members that are hidden from us.
            self._gap(group, "its members", Why.NOT_PERMITTED, "member")
        for key in _SAYS:
            for value in attributes.get(key, ()):
                for holder in self._holders(group, key, value):
                    found.setdefault(holder, {}).setdefault(key, []).append(value)
        number = _first(entry, "gidNumber")
        for name, person in self.logins.items() if number else ():
            if number in person.get("gidNumber", ()):
                found.setdefault(name, {}).setdefault("gidNumber", []).append(number)
        return found

    def _holders(self, group: str, key: str, value: str) -> list[str]:
        if not value:
            return []
        if key == "memberUid":
            named = self._by_uid.get(value, [])
            if not named:
                self._gap(group, "a member whose entry is not among the people", Why.NOT_SUPPORTED, value)
            return named
        try:
            return [dn(without_uid(value) if key == "uniqueMember" else value)]
        except SystemRefused:
            self._gap(group, "a member", Why.NOT_UNDERSTOOD, value)
            return []

    def look_up(self, directory: ldap3.Connection, names: Iterable[str]) -> None:
        """Look up members whose entries are outside the bases that were read."""
        for name in sorted(set(names) - self.logins.keys() - self.groups.keys()):
            found = list(_search(directory, name, "(objectClass=*)", (*_OF_PEOPLE, "objectClass"), True))
            for entry in self.named(found):
                kinds = {kind.lower() for kind in entry["attributes"].get("objectClass", ())}
                if kinds & {kind.lower() for kind in _KINDS}:
                    self._gap("", "who is in a group that stands elsewhere", Why.NOT_SUPPORTED, name)
                self.logins[name] = entry["attributes"]
            if not found:
                self._gap("", "somebody named in a group, with no entry that is shown", Why.NOT_SUPPORTED, name)

    def login(self, name: str, attributes: JsonObject) -> Login:
        """A person or app that can sign in, with what identifies it."""
        is_app = bool(self.apps) and is_below(name, self.apps)
        marks = {"uid": "uid", "employee": "employeeNumber"}
        told = {mark: text for mark, key in marks.items() if (text := _text(attributes.get(key)))}
        if attributes.get("mail"):
            told["address"] = " ".join(attributes["mail"])
        return Login(
            name, _text(attributes.get("cn")) or name, is_app, told, bool(attributes.get("pwdAccountLockedTime"))
        )

    def signed_in(self, name: str, attributes: JsonObject) -> datetime | None:
        """When somebody signed in last; None when it is not kept, or not understood."""
        try:
            return _time(attributes)
        except ValueError:
            self._gap("", "when somebody signed in last", Why.NOT_SUPPORTED, name)
            return None

    def holdings(self, group: str, members: Mapping[str, dict[str, list[str]]]) -> Iterator[Holding]:
        """Who is in a group, who owns it, or both."""
        for holder, by in sorted(members.items()):
            if holder not in self.groups and holder not in self.logins:
                continue
            roles = {_SAYS.get(key, "member") for key in by}
            level = BOTH if len(roles) == 2 else MEMBER if "member" in roles else OWNER
            handle = {"group": group, "holder": holder, "level_key": level.key, "values": by}
            yield Holding(group, holder, holder in self.groups, level.key, None, handle)

    def coverage(self, read: Iterable[str]) -> Iterator[Coverage]:
        """What was covered and what not, in each group that was read and in the whole directory."""
        for group in read:
            yield Coverage(group, _LOOKED_AT, tuple(self._gaps.get(group, ())))
        if self.others:
            self._gap("", f"{self.others} groups whose members are found by a search", Why.NOT_SUPPORTED, "")
        self._gap("", "who may change the directory itself (its access rules)", Why.NOT_SUPPORTED, "")
        yield Coverage("", _LOOKED_AT, tuple(self._gaps.get("", ())), self.unable)

    def _gap(self, group: str, what: str, why: Why, place: str) -> None:
        self._gaps.setdefault(group, []).append(Gap(what, why, place))


def _search(
    directory: ldap3.Connection, base: str, what: str, attributes: Sequence[str], only: bool = False
) -> Iterator[JsonObject]:
    """Entries below a base, or the base only; empty if it does not exist. SystemRefused if it may not be read."""
    pages = directory.extend.standard.paged_search(
        base, what, ldap3.BASE if only else ldap3.SUBTREE, attributes=list(attributes), paged_size=PAGE, generator=True
    )
    for entry in pages:
        if entry.get("type") == "searchResEntry":
            yield {**entry, "attributes": _values(entry["raw_attributes"])} if only else entry
        elif not only:
            yield entry
    code = directory.result["result"]
    if code == RESULT_SIZE_LIMIT_EXCEEDED:
        raise SystemRefused(
            f"The directory shows only so many entries below {base} to Open Latch's login, and more are there.",
            "Lift its limit for this login (in OpenLDAP: limits dn.exact=… size=unlimited); pages alone do not.",
        )
    if code not in (RESULT_SUCCESS, RESULT_NO_SUCH_OBJECT):
        raise SystemRefused(
            f"The directory refused to show {base}: {directory.result['description']}.", "Give the right to read it."
        )


def _stamp(entry: JsonObject, opened: Collection[str]) -> str:
    """The change token of an entry; empty if the directory has none."""
    number = _first(entry, "entryCSN")
    return " ".join((number, "open to", *sorted(opened))) if number and opened else number


def _values(raw: Mapping[str, Sequence[bytes]]) -> dict[str, list[str]]:
    return {key: [value.decode(errors="backslashreplace") for value in values] for key, values in raw.items()}


def _not_shown(name: str) -> SystemRefused:
    return SystemRefused(
        f"The directory does not show {name}: it may be gone, renamed, or hidden from Open Latch's login.",
        "Look whether it is there. Nothing is taken for gone until then.",
    )


def _modify(directory: ldap3.Connection, name: str, changes: JsonObject) -> None:
    directory.modify(name, changes)
    if directory.result["result"] != RESULT_SUCCESS:
        said = directory.result["message"] or directory.result["description"]
        raise SystemRefused(f"The directory refused to change {name}: {said}.", "Give the right to write there.")


def _named(group: JsonView, detail: JsonView) -> dict[str, list[str]]:
    """By attribute, the values of a group that name a holder, as stored there."""
    holder, uids = dn(detail["holder"]), {*detail.get("values", {}).get("memberUid", ()), *detail.get("uids", ())}
    found: dict[str, list[str]] = {}
    for key in _SAYS:
        for value in group.get(key, ()):
            if key == "memberUid":
                is_theirs = value in uids
            else:
                is_theirs = bool(value) and _is(without_uid(value) if key == "uniqueMember" else value, holder)
            if is_theirs:
                found.setdefault(key, []).append(value)
    return found


def _is(value: str, holder: str) -> bool:
    try:
        return dn(value) == holder
    except SystemRefused:
        # An invalid name names nobody; the read reports it.
        return False


def _held(directory: ldap3.Connection, group: JsonView, detail: JsonView) -> set[str]:
    """Somebody's role in a group: by its values, and by the directory's answer when asked for them by name.

    SystemRefused if that may not be asked, since there may be values that are hidden from us.
    """
    held = {_SAYS[key] for key in _named(group, detail)}
    for key, says in _SAYS.items():
        if says in held or key == "memberUid":
            continue
        directory.compare(group["dn"], key, detail["holder"])
        code = directory.result["result"]
        if code == RESULT_COMPARE_TRUE:
            held.add(says)
        elif code == RESULT_INSUFFICIENT_ACCESS_RIGHTS:
            raise SystemRefused(
                f"The directory does not let Open Latch's login ask for {key} of {group['dn']}.",
                "Give it the right to read and compare that.",
            )
    if set(group.get("gidNumber", ())) & set(detail.get("numbers", ())):
        held.add("member")
    return held


def _with_entry(directory: ldap3.Connection, detail: JsonObject) -> JsonObject:
    """A step with what groups may name its holder by besides their DN: their uid, and the number of a group.

    SystemRefused when their entry is not shown: renamed, they may be in the group by another name.
    """
    found = list(_search(directory, detail["holder"], "(objectClass=*)", ("uid", "gidNumber"), True))
    if not found:
        raise _not_shown(detail["holder"])
    entry = found[0]["attributes"]
    return {**detail, "uids": entry.get("uid", []), "numbers": entry.get("gidNumber", [])}


def _changes(kind: StepKind, detail: JsonObject, group: JsonObject) -> JsonObject:
    """What has to be changed in a group for a step; values are named as the group has them."""
    named = _named(group, detail)
    changes: JsonObject = {}
    if kind is StepKind.GIVE:
        for key, values in _wanted(detail, group).items():
            lacking = [value for value in values if value not in named.get(key, ())]
            if lacking and key in _SAYS:
                changes[key] = [(ldap3.MODIFY_ADD, lacking)]
        return changes
    kept = set(_HELD_BY[detail["to"]]) if kind is StepKind.REDUCE else set()
    if set(group.get("gidNumber", ())) & set(detail.get("numbers", ())) and "member" not in kept:
        raise SystemRefused(
            f"{detail['group']} is the primary group of {detail['holder']}.",
            "Give them another primary group (gidNumber), then have the directory read again.",
        )
    for key, gone in named.items():
        if _SAYS[key] in kept:
            continue
        changes[key] = [(ldap3.MODIFY_DELETE, gone)]
        if key in ("member", "uniqueMember") and len(group[key]) == len(gone):
            # A group may not be empty (RFC 4519, 3.5 and 3.6): the empty name stands for nobody.
            changes[key].insert(0, (ldap3.MODIFY_ADD, [""]))
    return changes


def _wanted(detail: JsonView, group: JsonView) -> dict[str, list[str]]:
    """The values that give a holder what a step says, by attribute: as they were, or as this kind of group has them."""
    if detail.get("values"):
        return dict(detail["values"])
    kinds = {kind.lower() for kind in group.get("objectClass", ())}
    members = (
        "uniqueMember"
        if "groupofuniquenames" in kinds
        else "roleOccupant"
        if "organizationalrole" in kinds
        else "member"
    )
    if members == "member" and "groupofnames" not in kinds:
        raise SystemRefused(f"{detail['group']} takes its members by uid.", "Put them in by hand.")
    keys = {"member": members, "owner": "owner"}
    return {keys[name]: [detail["holder"]] for name in _HELD_BY[detail["level_key"]]}


def _first(entry: JsonObject, key: str) -> str:
    return _text(entry["attributes"].get(key))


def _text(values: Sequence[str] | None) -> str:
    return values[0] if values else ""


def _time(attributes: JsonObject) -> datetime | None:
    """When somebody signed in last, as a generalised time in UTC (RFC 4517, 3.3.13); None when it is not kept."""
    text = _text(attributes.get("pwdLastSuccess")) or _text(attributes.get("authTimestamp"))
    if not text:
        return None
    return datetime.strptime(text.split(".")[0].rstrip("Z"), "%Y%m%d%H%M%S").replace(tzinfo=UTC)
