"""Mail servers (IMAP4rev1 with access control lists, RFC 4314): a shared mailbox is an account, its folders are parts.

Uses the protocol alone: LIST and NAMESPACE (RFC 3501, RFC 2342) find the mailboxes that are
shared, GETACL tells who holds what, SETACL and DELETEACL change it. IMAP does not tell who is signed in; where the
server has an administration that does, ``mail_sessions`` asks it.
"""

from __future__ import annotations

import imaplib
import re
import socket
import ssl
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from typing import NamedTuple

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    FoundPart,
    Holding,
    Login,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.limits import CALL_SECONDS, cut_off_after
from openlatch.adapters.mail.exposure import MANNER, open_rules
from openlatch.adapters.mail.lists import ANYONE, AUTHENTICATED, MailList, parse
from openlatch.adapters.mail.lists import normal as key
from openlatch.adapters.mail.sessions import MailSessions
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonList, JsonObject, JsonView

# What each right allows (RFC 4314, 2.1), in the order of the standard.
RIGHTS = {
    "l": ("See that the mailbox is there", Reach.OBSERVE),
    "r": ("Read the messages", Reach.OBSERVE),
    "s": ("Mark messages as read", Reach.OBSERVE),
    "w": ("Mark and label messages", Reach.OPERATE),
    "i": ("Put messages in", Reach.OPERATE),
    "p": ("Send mail to the mailbox's address", Reach.OPERATE),
    "k": ("Create folders", Reach.OPERATE),
    "x": ("Delete and rename the mailbox", Reach.OPERATE),
    "t": ("Mark messages as deleted", Reach.OPERATE),
    "e": ("Remove messages for good", Reach.OPERATE),
    "a": ("Decide who gets into the mailbox", Reach.STEWARD),
}
# Sets of rights with a name; every other set is named by its rights.
NAMED = {
    "lr": ("Lookup and read", "Can read the messages."),
    "lrs": ("Lookup, read, keep seen", "Can read the messages, and mark them as read."),
    "lrswit": ("Read, write, insert, delete", "Can read, mark, move in and mark as deleted."),
    "lrswite": ("Read, write, insert, delete, expunge", "Can read, file and remove messages."),
    "lrswipkxte": ("All rights but administer", "Can do everything but decide who gets in."),
    "lrswipkxtea": ("All rights, administer too", "Can do everything, and decides who gets in."),
}
# The account that stands for everybody who signs in, where a mailbox has rights for them.
EVERYONE = "everyone:"
# The part for messages in a mailbox itself, outside its folders.
INBOX = "inbox:"
_BELONGS = FoundLevel(
    "everyone",
    "Everyone",
    "Has what everybody has who signs in.",
    (("everyone", "Have what everybody has who signs in", Reach.OBSERVE),),
)
_LOOKED_AT = (
    "entries of logins",
    "anyone and authenticated",
    "groups by name",
    "negative rights",
    "the server's own list",
)
_GROUP = rb'(?:NIL|\((?:\((?:[^()"]|"(?:[^"\\]|\\.)*")*\))+\))'
_SPACES = re.compile(rb"\s*%b\s+%b\s+(?P<shared>%b)\s*" % (_GROUP, _GROUP, _GROUP))
_LINE = re.compile(rb'\((?P<flags>[^)]*)\) (?P<mark>"(?:[^"\\]|\\.)*"|NIL) (?P<name>.+)$')


class _Mail(imaplib.IMAP4):
    """A connection with a total time limit, from the greeting on."""

    def __init__(self, host: str, port: int, watch: Callable[[socket.socket], None]) -> None:
        self._watch = watch
        super().__init__(host, port, timeout=CALL_SECONDS)

    def open(self, host: str = "", port: int = 143, timeout: float | None = None) -> None:
        """Connect, and be watched from then on."""
        super().open(host, port, timeout)
        self._watch(self.sock)


class _SafeMail(imaplib.IMAP4_SSL):
    """The same over TLS."""

    def __init__(
        self, host: str, port: int, watch: Callable[[socket.socket], None], context: ssl.SSLContext | None
    ) -> None:
        self._watch = watch
        super().__init__(host, port, ssl_context=context, timeout=CALL_SECONDS)

    def open(self, host: str = "", port: int | None = 993, timeout: float | None = None) -> None:
        """Connect, and be watched from then on."""
        super().open(host, port, timeout)
        self._watch(self.sock)


@contextmanager
def closing(mail: imaplib.IMAP4) -> Iterator[None]:
    """Sign out where that still works, and close the connection however it ends."""
    try:
        yield
        mail.logout()
    finally:
        with suppress(OSError):
            mail.shutdown()


class MailboxAdapter(Adapter):
    """Reads and changes the mailboxes that one mail server shares. ``secret`` is the password of ``user``."""

    settings_taken = (
        Setting("host", "The mail server's address."),
        Setting("port", "Its IMAP port.", 143),
        Setting("tls", "Whether to speak TLS: none, starttls or always.", "starttls"),
        Setting("user", "Open Latch's login there; it must hold the right a on every shared mailbox."),
        Setting("prefix", "What the names of shared mailboxes begin with; left out, the server is asked.", ""),
        Setting(
            "sessions", "Address of Dovecot's administration over HTTP, to see and end sessions; may be left out.", ""
        ),
        Setting("domain", "What follows the name of a login in their address; left out, logins have none.", ""),
    )
    can = Abilities(
        steps=frozenset({StepKind.GIVE, StepKind.REMOVE, StepKind.REDUCE, StepKind.CLOSE, StepKind.END_SESSIONS}),
        rights=(
            "the rights l and a on every shared mailbox and folder (RFC 4314)",
            "the password of doveadm over HTTP, the same as that of the login, to see and end sessions",
        ),
        sessions=True,
        rules=MANNER,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._settings = settings
        self._secret = secret
        at = settings.get("sessions")
        self._sessions = MailSessions(str(at), secret) if at else None

    def check(self) -> None:
        """Sign in, and check that the server has access control lists and shows them to this login."""
        with self._connection() as mail:
            # Asked again, since a server may announce fewer capabilities before the sign-in.
            if b"ACL" not in _said(mail.capability(), "CAPABILITY")[0].upper().split():
                raise SystemRefused("The mail server has no access control lists.", "Switch its ACL extension on.")
            for box in self._boxes(mail):
                rights = _one(mail, "MYRIGHTS", box.name)
                if b"a" not in rights.rsplit(b" ", 1)[-1]:
                    raise SystemRefused(
                        f"{self._settings['user']} lacks the right a on {box.name}.",
                        "Give it that right on all of them.",
                    )
        if self._sessions is not None:
            self._sessions.going_on()

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Every shared mailbox with its folders and lists. A list that is not understood makes its mailbox partial."""
        with self._connection() as mail:
            boxes = self._boxes(mail)
            lists: dict[str, MailList] = {}
            gaps: dict[str, list[Gap]] = {}
            for box in boxes:
                try:
                    lists[box.name] = _acl(mail, box.name)
                except SystemRefused as error:
                    gap = Gap("an access control list", _why(error), _decoded(box.name))
                    gaps.setdefault(box.top, []).append(gap)
        tops: dict[str, list[str]] = {}
        for box in boxes:
            tops.setdefault(box.top, []).append(box.name)
        shown = _shown({box.top: box.prefix for box in boxes})
        known = dict.fromkeys(who for acl in lists.values() for who in acl.logins if who != self._settings["user"])
        found = [thing for top, names in tops.items() for thing in self._account(top, shown[top], names, lists, known)]
        levels = {x.level for x in found if isinstance(x, Holding) and x.level}
        levels |= {rights for x in found if isinstance(x, Holding) for _, rights in x.parts}
        yield _BELONGS
        yield from (level(rights) for rights in sorted(levels - {_BELONGS.key}))
        yield from found
        for who in known:
            yield self._login(who)
        if self._sessions is not None:
            yield from self._sessions.presences(set(known))
        for top in tops:
            yield Coverage(top, _LOOKED_AT, tuple(gaps.get(top, ())))
        yield from _coverage(lists, self._sessions is not None)
        yield Whole()

    def _account(
        self, top: str, shown: str, names: list[str], lists: Mapping[str, MailList], logins: Iterable[str]
    ) -> Iterator[Found]:
        """A shared mailbox: its folders, their holders, and what everybody has who signs in."""
        yield SharedAccount(top, shown, "mailbox")
        known = {name: lists[name] for name in names if name in lists}
        for name, acl in known.items():
            called = _decoded(name.removeprefix(top)[1:]) or "Inbox"
            yield FoundPart(top, _part(name, top), called, "folder")
            yield from open_rules(top, _part(name, top), name, acl)
        everyone = {name: acl.for_everyone() for name, acl in known.items() if acl.for_everyone()}
        door = f"{EVERYONE}{top}"
        if everyone:
            yield SharedAccount(door, f"Everyone who signs in and opens {shown}", "everyone")
            boxes = [name for name, acl in known.items() if set(acl.own) & {ANYONE, AUTHENTICATED}]
            yield _holding(top, door, everyone, known, {"who": ANYONE, "boxes": sorted(boxes)}, by_account=True)
        for group in dict.fromkeys(group for acl in known.values() for group in acl.groups):
            held = {name: acl.own[group] for name, acl in known.items() if acl.own.get(group)}
            yield SharedAccount(f"group:{group}", f"Group {group.removeprefix('$')}", "group")
            named = {"who": group, "boxes": sorted(held)}
            yield _holding(top, f"group:{group}", held, known, named, by_account=True)
        for who in logins:
            named_in = sorted(name for name, acl in known.items() if who in acl.own or who in acl.everywhere)
            held = {name: known[name].named(who) for name in named_in if known[name].named(who)}
            if all(known[name].has_all_of_everyone(who) for name in everyone):
                if everyone:
                    yield Holding(door, who, False, _BELONGS.key, None, {"who": who, "everyone": top})
            else:
                # Somebody with less than everybody has holds a set of their own.
                held |= {name: known[name].effective(who) for name in everyone if known[name].effective(who)}
            if held:
                yield _holding(top, who, held, known, {"who": who, "boxes": named_in or sorted(held)})

    def _login(self, who: str) -> Login:
        domain = self._settings.get("domain")
        return Login(who, who, False, {"address": f"{who}@{domain}"} if domain and "@" not in who else {})

    def can_reduce(self, level: str, lower: str) -> bool:
        """Any set of rights can be reduced to a subset."""
        return set(lower) < set(level)

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """An entry in the list of one folder, or in those of a mailbox and all folders in it."""
        if account.startswith(INBOX):
            return {"who": login, "boxes": [account.removeprefix(INBOX)], "rights": level, "only": "yes"}
        return {"who": login, "boxes": [account], "rights": level}

    def again(self, handle: JsonObject) -> JsonObject | None:
        """The entries as they were, folder by folder."""
        return handle if "given" in handle else None

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One step for each folder, inner folders first."""
        boxes = sorted(detail["boxes"], key=len, reverse=True)
        return tuple(
            Move(kind, {**detail, "boxes": [box]}, "" if box == boxes[-1] else f"the folder {_decoded(box)} first")
            for box in boxes
        )

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """GIVE and REDUCE write an entry of the list, REMOVE deletes it; END_SESSIONS ends a login's sessions."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        kind = StepKind.REMOVE if kind is StepKind.CLOSE else kind
        if kind is StepKind.END_SESSIONS:
            return self._told_of_sessions().end(detail)
        who = detail["who"]
        if "everyone" in detail:
            raise _for_everyone(who)
        with self._connection() as mail:
            boxes = self._meant(mail, detail)
            for box in boxes:
                acl = _acl(mail, box)
                if kind is StepKind.REMOVE:
                    for one in (ANYONE, AUTHENTICATED) if who == ANYONE else (who,):
                        if acl.has_narrower_entry(one):
                            raise SystemRefused(
                                f"Without their entry {one} would have what everyone has on {_decoded(box)}.",
                                "Take the rights of everyone away first.",
                            )
                        _said(_call(mail, "DELETEACL", box, one), f"DELETEACL {box} {one}")
                else:
                    given = _given(detail, box) if kind is StepKind.GIVE else ""
                    wanted = given or _in_both(acl.own.get(who, ""), detail["to"])
                    _said(_call(mail, "SETACL", box, who, wanted), f"SETACL {box} {who}")
        what = "Removed" if kind is StepKind.REMOVE else "Set"
        return f"{what} the entry of {who} on {', '.join(_decoded(box) for box in boxes)}."

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None when the lists are as the step wants them, or the session is gone."""
        kind = StepKind.REMOVE if kind is StepKind.CLOSE else kind
        if kind is StepKind.END_SESSIONS:
            return self._told_of_sessions().wrong(detail)
        who = detail["who"]
        if "everyone" in detail:
            return f"{who} has what everyone has in {_decoded(detail['everyone'])}"
        with self._connection() as mail:
            there = {box.name for box in self._boxes(mail)}
            for box in self._meant(mail, detail):
                if box not in there:
                    raise _not_shown(box)
                wrong = _wrong(kind, detail, box, _acl(mail, box))
                if wrong is not None:
                    return wrong
        return None

    def _meant(self, mail: imaplib.IMAP4, detail: JsonView) -> list[str]:
        """The folders of a step: those that it names, and all those of a mailbox given as a whole."""
        if "rights" not in detail or "only" in detail:
            return list(detail["boxes"])
        whole = [box.name for box in self._boxes(mail) if box.top in detail["boxes"]]
        return sorted({*detail["boxes"], *whole})

    def _told_of_sessions(self) -> MailSessions:
        if self._sessions is None:
            raise SystemRefused(
                "The mail server does not tell of sessions any more.", "Set the address of its administration again."
            )
        return self._sessions

    def _boxes(self, mail: imaplib.IMAP4) -> list[Box]:
        """All shared mailboxes and folders, of every shared namespace."""
        return [box for prefix in self._prefixes(mail) for box in _mailboxes(mail, prefix)]

    def _prefixes(self, mail: imaplib.IMAP4) -> list[str]:
        """The prefixes of shared mailboxes: as configured, or the shared namespaces that the server announces."""
        if self._settings.get("prefix"):
            return [str(self._settings["prefix"])]
        (answer,) = _said(mail.namespace(), "NAMESPACE")
        shared = _SPACES.fullmatch(answer)
        spaces = re.findall(rb'\("((?:[^"\\]|\\.)*)" (?:"(?:[^"\\]|\\.)*"|NIL)', shared["shared"]) if shared else []
        if not spaces:
            raise SystemRefused("The mail server names no shared mailboxes.", "Set what their names begin with.")
        return [re.sub(rb"\\(.)", rb"\1", space).decode("ascii", "replace") for space in spaces]

    @contextmanager
    def _connection(self) -> Iterator[imaplib.IMAP4]:
        settings = self._settings
        host, port, tls = settings["host"], int(settings["port"]), settings.get("tls", "starttls")
        try:
            with ExitStack() as limited:

                def watch(sock: socket.socket) -> None:
                    limited.enter_context(cut_off_after(sock.fileno))

                context = ssl.create_default_context() if tls != "none" else None
                mail: imaplib.IMAP4 = (
                    _SafeMail(host, port, watch, context) if tls == "always" else _Mail(host, port, watch)
                )
                with closing(mail):
                    if tls == "starttls":
                        mail.starttls(context)
                    self._sign_in(mail)
                    yield mail
        except (OSError, imaplib.IMAP4.abort) as error:
            raise SystemDown(
                f"The mail server did not answer: {error}", "It will be tried again; look whether it can be reached."
            ) from error
        except imaplib.IMAP4.error as error:
            raise SystemRefused(f"The mail server refused: {_plain(error)}", "Look at what it refused.") from error

    def _sign_in(self, mail: imaplib.IMAP4) -> None:
        try:
            mail.login(self._settings["user"], self._secret)
        except imaplib.IMAP4.abort:
            raise
        except imaplib.IMAP4.error as error:
            raise SystemRefused(
                f"The mail server refused the sign-in of {self._settings['user']}: {_plain(error)}",
                "Look at the name and the password.",
            ) from error


def _wrong(kind: StepKind, detail: JsonView, box: str, acl: MailList) -> str | None:
    """What a list shows instead of what a step wants, by name, in the list and in the server's own; None if it is as
    wanted.
    """
    who = detail["who"]
    names = (ANYONE, AUTHENTICATED) if who == ANYONE else (who,)
    held = set().union(*(acl.own.get(one, "") + acl.everywhere.get(one, "") for one in names))
    if kind is StepKind.GIVE:
        lacking = set(key(_given(detail, box))) - set(acl.effective(who))
        return f"{who} does not hold {_given(detail, box)} on {_decoded(box)} yet" if lacking else None
    left = held - set(detail.get("to", "") if kind is StepKind.REDUCE else "")
    if not left:
        return None
    by = ", by the server's own list" if any(acl.everywhere.get(one) for one in names) else ""
    return f"{who} still holds {''.join(right for right in RIGHTS if right in left)} on {_decoded(box)}{by}"


def _not_shown(box: str) -> SystemRefused:
    """A mailbox that is not listed may be deleted, renamed or hidden: the server's answer is the same."""
    return SystemRefused(
        f"The mail server does not show the mailbox {_decoded(box)} any more: it is gone, renamed or hidden from us.",
        "Look whether it is there, and give Open Latch's login the rights l and a on it. Nothing is taken for gone.",
    )


def _for_everyone(who: str) -> SystemRefused:
    return SystemRefused(
        f"{who} has this as everyone does; it can't be taken from one alone.", "Take the rights of everyone away."
    )


def _why(error: SystemRefused) -> Why:
    return Why.NOT_UNDERSTOOD if "not understood" in error.detail else Why.NOT_PERMITTED


def _coverage(lists: Mapping[str, MailList], sessions: bool) -> Iterator[Coverage]:
    """Coverage of the whole server: groups are only names here, and logins without any entry are unknown."""
    groups = sorted({group for acl in lists.values() for group in acl.groups})
    gaps = [Gap("who belongs to a group", Why.NOT_SUPPORTED, group) for group in groups]
    gaps.append(Gap("logins that stand in no list", Why.NOT_SUPPORTED))
    gaps.append(Gap("who administers the server itself", Why.NOT_SUPPORTED))
    if not sessions:
        gaps.append(Gap("sessions", Why.NOT_SUPPORTED))
    yield Coverage("", ("shared namespaces",), tuple(gaps))


def _holding(
    account: str,
    who: str,
    held: Mapping[str, str],
    known: Mapping[str, MailList],
    handle: JsonObject,
    by_account: bool = False,
) -> Holding:
    """What somebody holds in a mailbox: on all of its folders, or on some."""
    rights = {name: key(given) for name, given in held.items()}
    handle = {**handle, "given": {name: given for name, given in sorted(rights.items()) if name in handle["boxes"]}}
    alike = set(rights.values())
    if len(alike) == 1 and rights.keys() >= known.keys():
        return Holding(account, who, by_account, alike.pop(), None, handle)
    parts = tuple((_part(name, account), given) for name, given in sorted(rights.items()))
    return Holding(account, who, by_account, "", None, handle, parts)


def _part(name: str, top: str) -> str:
    """A folder's name as a part; the mailbox's own messages are a part with a name of its own."""
    return f"{INBOX}{name}" if name == top else name


def _given(detail: JsonView, box: str) -> str:
    """The rights that a step gives on a folder."""
    return str(detail["given"].get(box, "") if "given" in detail else detail["rights"])


def level(rights: str) -> FoundLevel:
    """A set of rights as a level, with a permission for each."""
    held = key(rights)
    name, sentence = NAMED.get(held, (f"Rights {held}", "Can " + ", ".join(_can(held)) + "."))
    permissions = tuple((f"imap-{right}", *RIGHTS[right]) for right in held)
    return FoundLevel(held, name, sentence, permissions)


def _can(held: str) -> list[str]:
    return [RIGHTS[right][0][0].lower() + RIGHTS[right][0][1:] for right in held]


def _in_both(held: str, lower: str) -> str:
    """The intersection of two sets of rights: reducing never adds any."""
    return "".join(right for right in key(held) if right in lower)


class Box(NamedTuple):
    """A mailbox or folder, with its namespace prefix and hierarchy separator."""

    name: str
    prefix: str
    mark: str

    @property
    def top(self) -> str:
        """The shared mailbox that it is or belongs to."""
        return self.prefix + self.name.removeprefix(self.prefix).split(self.mark, 1)[0]


def _shown(tops: Mapping[str, str]) -> dict[str, str]:
    """Display names of shared mailboxes: without their prefix, unless two would be equal."""
    plain = {top: _decoded(top.removeprefix(prefix)) for top, prefix in tops.items()}
    names = list(plain.values())
    return {top: name if names.count(name) == 1 else _decoded(top) for top, name in plain.items()}


def _mailboxes(mail: imaplib.IMAP4, prefix: str) -> list[Box]:
    """The mailboxes below a prefix."""
    found = []
    listed = mail.list('""', _quoted(prefix + "*"))  # type: ignore[arg-type]
    for line in _said(listed, f"LIST {prefix}*"):
        if line is None:
            continue
        # A name with special characters comes as a literal: the line, then the name.
        head, name = line if isinstance(line, tuple) else (line, b"")
        match = _LINE.match(head)
        if match is None:
            raise SystemRefused(
                f"The mail server's list of mailboxes is not understood: {head!r}.", "Tell us what it is."
            )
        if b"\\noselect" in match["flags"].lower() or b"\\nonexistent" in match["flags"].lower():
            continue
        shown = name or match["name"]
        if not name and shown.startswith(b'"'):
            shown = re.sub(rb"\\(.)", rb"\1", shown[1:-1])
        mark = match["mark"].strip(b'"').replace(b"\\\\", b"\\").decode()
        found.append(Box(shown.decode("ascii", "replace"), prefix, mark or "/"))
    return sorted(found)


def _acl(mail: imaplib.IMAP4, box: str) -> MailList:
    """The list of a mailbox. SystemRefused if it may not be seen, or is not understood."""
    return parse(box, _said(_call(mail, "GETACL", box), f"GETACL {box}"))


def _call(mail: imaplib.IMAP4, command: str, *words: str) -> tuple[str, JsonList]:
    """A command of RFC 4314 with its arguments quoted, and the untagged answer to it."""
    kind, data = mail._simple_command(command, *map(_quoted, words))
    if command == "GETACL":
        kind, data = mail._untagged_response(kind, data, "ACL")
    return kind, data


def _one(mail: imaplib.IMAP4, command: str, box: str) -> bytes:
    answer = _said(mail.myrights(_quoted(box)), f"{command} {box}")  # type: ignore[arg-type]
    return bytes(answer[0])


def _said(answer: tuple[str, JsonList], what: str) -> JsonList:
    kind, data = answer
    if kind != "OK":
        said = b" ".join(part for part in data if isinstance(part, bytes)).decode("utf-8", "replace")
        raise SystemRefused(f"The mail server refused {what}: {said}", "Look at the rights of the login.")
    return data


def _quoted(text: str) -> bytes:
    """Text as a quoted string (RFC 3501, 4.3); UTF-8 if the server's names are."""
    if "\r" in text or "\n" in text or "\0" in text:
        raise SystemRefused(f"{text!r} can't be the name of a mailbox or login.", "Look at where it comes from.")
    return b'"' + text.replace("\\", "\\\\").replace('"', '\\"').encode() + b'"'


def _decoded(name: str) -> str:
    """A mailbox's readable name, decoded from modified UTF-7 (RFC 3501, 5.1.3)."""

    def plain(match: re.Match[str]) -> str:
        text = match[1]
        return ("+" + text.replace(",", "/") + "-").encode().decode("utf-7") if text else "&"

    return re.sub(r"&([^-]*)-", plain, name)


def _plain(error: Exception) -> str:
    first = error.args[0] if error.args else error
    return first.decode("utf-8", "replace") if isinstance(first, bytes) else str(first)
