"""Mail servers (IMAP4rev1 with access control lists, RFC 4314): a shared mailbox is an account, its folders are parts.

Works with what the protocol gives and no more: LIST and NAMESPACE (RFC 3501, RFC 2342) find the mailboxes that are
shared, GETACL tells who holds what, SETACL and DELETEACL change it. IMAP does not tell who is signed in; where the
server has an administration that does, ``mail_sessions`` asks it.
"""

from __future__ import annotations

import imaplib
import re
import ssl
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from openlatch.adapters.contract import (
    CALL_SECONDS,
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
from openlatch.adapters.mail_sessions import MailSessions
from openlatch.core.revocation import Move
from openlatch.core.words import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused

# What each right lets somebody do (RFC 4314, 2.1), in the order in which the standard writes them.
RIGHTS = {
    "l": ("See that the mailbox is there", Reach.OBSERVE),
    "r": ("Read the messages", Reach.OBSERVE),
    "s": ("Mark messages as read", Reach.OBSERVE),
    "w": ("Mark and label messages", Reach.OPERATE),
    "i": ("Put messages in", Reach.OPERATE),
    "p": ("Send mail to the mailbox's address", Reach.OPERATE),
    "k": ("Make folders", Reach.OPERATE),
    "x": ("Delete and rename the mailbox", Reach.OPERATE),
    "t": ("Mark messages as deleted", Reach.OPERATE),
    "e": ("Remove messages for good", Reach.OPERATE),
    "a": ("Decide who gets into the mailbox", Reach.STEWARD),
}
# The sets that have a name of their own; every other set is named by what it holds.
NAMED = {
    "lr": ("Onlooker", "Can read the messages."),
    "lrs": ("Reader", "Can read the messages, and mark them as read."),
    "lrswit": ("Sorter", "Can read, mark, move in and mark as deleted."),
    "lrswite": ("Handler", "Can read, file and remove messages."),
    "lrswipkxte": ("Keeper of the mail", "Can do everything but decide who gets in."),
    "lrswipkxtea": ("Master of the mailbox", "Can do everything, and decides who gets in."),
}
ANYONE = "anyone"
_LINE = re.compile(rb'\((?P<flags>[^)]*)\) (?P<mark>"(?:[^"\\]|\\.)*"|NIL) (?P<name>.+)$')


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
        steps=frozenset({StepKind.GIVE, StepKind.REMOVE, StepKind.REDUCE, StepKind.END_SESSIONS}),
        rights=(
            "the rights l and a on every shared mailbox and folder (RFC 4314)",
            "the password of doveadm over HTTP, the same as that of the login, to see and end sessions",
        ),
        sessions=True,
    )

    def __init__(self, settings: dict[str, Any], secret: str) -> None:
        self._settings = settings
        self._secret = secret
        at = settings.get("sessions")
        self._sessions = MailSessions(str(at), secret) if at else None

    def check(self) -> None:
        """Sign in, and look whether the server has access control lists and lets this login see them."""
        with self._connection() as mail:
            # Asked anew: what a server can before one has signed in need not be all.
            if b"ACL" not in _said(mail.capability(), "CAPABILITY")[0].upper().split():
                raise SystemRefused("The mail server has no access control lists.", "Switch its ACL extension on.")
            for name, _ in _mailboxes(mail, self._prefix(mail)):
                rights = _one(mail, "MYRIGHTS", name)
                if b"a" not in rights.rsplit(b" ", 1)[-1]:
                    raise SystemRefused(
                        f"{self._settings['user']} lacks the right a on {name}.", "Give it that right on all of them."
                    )
        if self._sessions is not None:
            self._sessions.going_on()

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Every shared mailbox with its folders and lists."""
        with self._connection() as mail:
            prefix = self._prefix(mail)
            boxes = _mailboxes(mail, prefix)
            lists = {name: _acl(mail, name) for name, _ in boxes}
        tops = {name: _top(name, prefix, mark) for name, mark in boxes}
        held: dict[tuple[str, str], dict[str, str]] = {}
        for name, acl in lists.items():
            for who, rights in acl.items():
                held.setdefault((tops[name], who), {})[name] = rights
        sets = {rights for parts in held.values() for rights in parts.values()}
        yield from (level(rights) for rights in sorted(sets))
        for account in dict.fromkeys(tops.values()):
            yield SharedAccount(account, _decoded(account.removeprefix(prefix)), "mailbox")
        for name, acl in lists.items():
            shown = _decoded(name.removeprefix(tops[name])[1:]) or "Inbox"
            if name != tops[name] or ANYONE in acl:
                yield FoundPart(tops[name], name, shown, "folder", ANYONE in acl)
        people = {pair: parts for pair, parts in held.items() if pair[1] != ANYONE}
        for who in dict.fromkeys(who for _, who in people):
            yield self._login(who)
        for (account, who), parts in people.items():
            yield _holding(account, who, parts)
        if self._sessions is not None:
            yield from self._sessions.presences({who for _, who in people})
        yield Whole()

    def _login(self, who: str) -> Login:
        domain = self._settings.get("domain")
        return Login(who, who, False, {"address": f"{who}@{domain}"} if domain and "@" not in who else {})

    def can_reduce(self, level: str, lower: str) -> bool:
        """Any set of rights can be cut to a smaller one."""
        return set(lower) < set(level)

    def holding(self, account: str, login: str, level: str) -> dict[str, Any]:
        """An entry in the list of the mailbox."""
        return {"who": login, "boxes": [account], "rights": level}

    def plan(self, kind: StepKind, detail: dict[str, Any]) -> tuple[Move, ...]:
        """One move for each folder, those inside before those around them."""
        boxes = sorted(detail["boxes"], key=len, reverse=True)
        return tuple(
            Move(kind, {**detail, "boxes": [box]}, "" if box == boxes[-1] else f"the folder {_decoded(box)} first")
            for box in boxes
        )

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """GIVE and REDUCE write an entry of the list, REMOVE deletes it; END_SESSIONS puts a login out."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        if kind is StepKind.END_SESSIONS:
            return self._told_of_sessions().end(detail)
        who = detail["who"]
        with self._connection() as mail:
            for box in detail["boxes"]:
                if kind is StepKind.REMOVE:
                    _said(mail.deleteacl(_quoted(box), _quoted(who)), f"DELETEACL {box} {who}")
                else:
                    held = _acl(mail, box).get(who, "")
                    wanted = detail["rights"] if kind is StepKind.GIVE else _in_both(held, detail["to"])
                    _said(mail.setacl(_quoted(box), _quoted(who), wanted), f"SETACL {box} {who}")
        what = "Removed" if kind is StepKind.REMOVE else "Set"
        return f"{what} the entry of {who} on {', '.join(_decoded(box) for box in detail['boxes'])}."

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """None when the lists are as the step wants them, or the session is gone."""
        if kind is StepKind.END_SESSIONS:
            return self._told_of_sessions().wrong(detail)
        who = detail["who"]
        with self._connection() as mail:
            for box in detail["boxes"]:
                held = set(_acl(mail, box).get(who, ""))
                allowed = {StepKind.REMOVE: "", StepKind.REDUCE: detail.get("to", "")}.get(kind)
                if allowed is None and not set(detail["rights"]) <= held:
                    return f"{who} does not hold {detail['rights']} on {_decoded(box)} yet"
                if allowed is not None and held - set(allowed):
                    return f"{who} still holds {''.join(r for r in RIGHTS if r in held)} on {_decoded(box)}"
        return None

    def _told_of_sessions(self) -> MailSessions:
        if self._sessions is None:
            raise SystemRefused(
                "The mail server does not tell of sessions any more.", "Set the address of its administration again."
            )
        return self._sessions

    def _prefix(self, mail: imaplib.IMAP4) -> str:
        """What shared mailboxes begin with: as set, or the first shared namespace that the server names."""
        if self._settings.get("prefix"):
            return str(self._settings["prefix"])
        (answer,) = _said(mail.namespace(), "NAMESPACE")
        spaces = re.findall(rb'\(\("((?:[^"\\]|\\.)*)" "(.)"\)', answer.split(b") ", 1)[-1])
        if not spaces:
            raise SystemRefused("The mail server names no shared mailboxes.", "Set what their names begin with.")
        return str(spaces[-1][0].decode("ascii", "replace"))

    @contextmanager
    def _connection(self) -> Iterator[imaplib.IMAP4]:
        settings = self._settings
        host, port, tls = settings["host"], int(settings["port"]), settings.get("tls", "starttls")
        try:
            context = ssl.create_default_context() if tls != "none" else None
            if tls == "always":
                mail: imaplib.IMAP4 = imaplib.IMAP4_SSL(host, port, ssl_context=context, timeout=CALL_SECONDS)
            else:
                mail = imaplib.IMAP4(host, port, timeout=CALL_SECONDS)
            with mail:
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


def _holding(account: str, who: str, parts: dict[str, str]) -> Holding:
    """What somebody holds on a mailbox; what a folder has from the mailbox above it is not a part of its own."""
    whole = key(parts[account]) if account in parts else ""
    some = ((name, key(rights)) for name, rights in sorted(parts.items()) if name != account)
    handle = {"who": who, "boxes": sorted(parts)}
    return Holding(account, who, False, whole, None, handle, tuple(pair for pair in some if pair[1] != whole))


def key(rights: str) -> str:
    """A set of rights as a level's key, in the order of the standard.

    The obsolete c and d stand for what they came to, where the server has nothing newer (RFC 4314, 2.1.1).
    """
    spread = rights if set("kxte") & set(rights) else rights.replace("c", "kx").replace("d", "xte")
    return "".join(right for right in RIGHTS if right in spread)


def level(rights: str) -> FoundLevel:
    """A set of rights as a level, with a permission for each."""
    held = key(rights)
    name, sentence = NAMED.get(held, (f"Rights {held}", "Can " + ", ".join(_can(held)) + "."))
    permissions = tuple((f"imap-{right}", *RIGHTS[right]) for right in held)
    return FoundLevel(held, name, sentence, permissions)


def _can(held: str) -> list[str]:
    return [RIGHTS[right][0][0].lower() + RIGHTS[right][0][1:] for right in held]


def _in_both(held: str, lower: str) -> str:
    """What is left of rights that are cut to a smaller set: a cut never adds any."""
    return "".join(right for right in key(held) if right in lower)


def _mailboxes(mail: imaplib.IMAP4, prefix: str) -> list[tuple[str, str]]:
    """The mailboxes below a prefix, each with what separates its parts."""
    found = []
    for line in _said(mail.list('""', _quoted(prefix + "*")), f"LIST {prefix}*"):
        if line is None:
            continue
        # A name with odd characters comes as a literal: the line, and the name after it.
        head, name = line if isinstance(line, tuple) else (line, b"")
        match = _LINE.match(head)
        if match is None or b"\\noselect" in match["flags"].lower() or b"\\nonexistent" in match["flags"].lower():
            continue
        shown = name or match["name"]
        if not name and shown.startswith(b'"'):
            shown = re.sub(rb"\\(.)", rb"\1", shown[1:-1])
        found.append((shown.decode("ascii", "replace"), match["mark"].strip(b'"').decode() or "/"))
    return sorted(found)


def _acl(mail: imaplib.IMAP4, box: str) -> dict[str, str]:
    """Who holds which rights on a mailbox, groups, negative rights and the server's own left out."""
    _, answer = mail.getacl(_quoted(box))
    words = _words(b" ".join(part if isinstance(part, bytes) else b"" for part in answer or []))
    pairs = zip(words[1::2], words[2::2], strict=False)
    return {who: key(rights) for who, rights in pairs if not who.startswith(("-", "$", "#")) and key(rights)}


def _words(line: bytes) -> list[str]:
    """Atoms and quoted strings of an answer, in turn."""
    found = re.findall(rb'"((?:[^"\\]|\\.)*)"|(\S+)', line)
    return [(re.sub(rb"\\(.)", rb"\1", quoted) or atom).decode("utf-8", "replace") for quoted, atom in found]


def _one(mail: imaplib.IMAP4, command: str, box: str) -> bytes:
    answer = _said(mail.myrights(_quoted(box)), f"{command} {box}")
    return bytes(answer[0])


def _said(answer: tuple[str, list[Any]], what: str) -> list[Any]:
    kind, data = answer
    if kind != "OK":
        said = b" ".join(part for part in data if isinstance(part, bytes)).decode("utf-8", "replace")
        raise SystemRefused(f"The mail server refused {what}: {said}", "Look at the rights of the login.")
    return data


def _quoted(text: str) -> str:
    """Text as a quoted string (RFC 3501, 4.3), whatever stands in it."""
    if "\r" in text or "\n" in text or "\0" in text or not text.isascii():
        raise SystemRefused(f"{text!r} can't be the name of a mailbox or login.", "Look at where it comes from.")
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _top(name: str, prefix: str, mark: str) -> str:
    """The shared mailbox that a folder is in."""
    return prefix + name.removeprefix(prefix).split(mark, 1)[0]


def _decoded(name: str) -> str:
    """A mailbox's name for people to read, out of modified UTF-7 (RFC 3501, 5.1.3)."""

    def plain(match: re.Match[str]) -> str:
        text = match[1]
        return ("+" + text.replace(",", "/") + "-").encode().decode("utf-7") if text else "&"

    return re.sub(r"&([^-]*)-", plain, name)


def _plain(error: Exception) -> str:
    first = error.args[0] if error.args else error
    return first.decode("utf-8", "replace") if isinstance(first, bytes) else str(first)
