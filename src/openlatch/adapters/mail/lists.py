"""Access control lists of IMAP (RFC 4314): parsing, and the effective rights of a login.

An answer that is not understood is an error and never an empty list: unknown is not absent.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from openlatch.errors import SystemRefused
from openlatch.json_values import JsonValue

ANYONE, AUTHENTICATED = "anyone", "authenticated"
# The standard's order of the rights (2.1), and the obsolete ones of older servers (2.1.1).
ORDER = "lrswipkxtea"
_LITERAL = re.compile(rb"\{(\d+)\+?\}\Z")
_TOKEN = re.compile(rb'\s*(?:"((?:[^"\\]|\\.)*)"|([^\s"]+))')


def normal(rights: str) -> str:
    """A set of rights in the order of the standard; the obsolete c and d are replaced by what they meant."""
    spread = rights if set("kxte") & set(rights) else rights.replace("c", "kx").replace("d", "xte")
    return "".join(right for right in ORDER if right in spread)


def tokens(answer: Sequence[JsonValue]) -> list[str]:
    """Atoms, quoted strings and literals of an answer as imaplib gives it, in turn. ValueError when it is neither."""
    found: list[bytes] = []
    for part in answer:
        if part is None:
            continue
        if isinstance(part, tuple):
            head, literal = part
            announced = _LITERAL.search(head)
            if announced is None or int(announced[1]) != len(literal):
                raise ValueError(f"a literal is not as long as it says: {head!r}")
            found += _plain(head[: announced.start()])
            found.append(literal)
        else:
            found += _plain(part)
    return [token.decode("utf-8") for token in found]


def _plain(line: bytes) -> Iterator[bytes]:
    at = 0
    while at < len(line.rstrip()):
        match = _TOKEN.match(line, at)
        if match is None:
            raise ValueError(f"it breaks off: {line[at:]!r}")
        yield re.sub(rb"\\(.)", rb"\1", match[1]) if match[1] is not None else match[2]
        at = match.end()


@dataclass(slots=True)
class MailList:
    """The list of one mailbox: rights and negative rights by identifier, and those that the server's own list gives."""

    own: dict[str, str] = field(default_factory=dict)
    negative: dict[str, str] = field(default_factory=dict)
    everywhere: dict[str, str] = field(default_factory=dict)

    @property
    def groups(self) -> list[str]:
        """The groups named in it."""
        return [who for who in self.own if who.startswith("$")]

    @property
    def logins(self) -> list[str]:
        """Everybody who is named in it by their login."""
        named = (*self.own, *self.negative, *self.everywhere)
        return [who for who in dict.fromkeys(named) if who not in (ANYONE, AUTHENTICATED) and not who.startswith("$")]

    def for_everyone(self) -> str:
        """The rights of anybody who signs in: *authenticated* takes precedence over *anyone*."""
        rights = self.own.get(AUTHENTICATED, self.own.get(ANYONE, ""))
        taken = self.negative.get(AUTHENTICATED, "") + self.negative.get(ANYONE, "")
        return "".join(right for right in rights if right not in taken)

    def named(self, who: str) -> str:
        """The rights that somebody has by name: in this list, or in the server's own."""
        return self._without_negative(who, self.everywhere.get(who, self.own.get(who, "")))

    def effective(self, who: str) -> str:
        """Somebody's effective rights: by their own entry, else by that for everybody, minus negative rights.

        An entry for a login takes the place of those for everybody, where the server is of that kind (Dovecot).
        """
        rights = self.everywhere.get(who) or self.own.get(who)
        if rights is None:
            rights = self.own.get(AUTHENTICATED, self.own.get(ANYONE, ""))
        return self._without_negative(who, rights)

    def _without_negative(self, who: str, rights: str) -> str:
        taken = "".join(self.negative.get(one, "") for one in (who, AUTHENTICATED, ANYONE))
        return "".join(right for right in rights if right not in taken)

    def has_all_of_everyone(self, who: str) -> bool:
        """Whether they can do all that anybody can who signs in."""
        return set(self.for_everyone()) <= set(self.effective(who))

    def has_narrower_entry(self, who: str) -> bool:
        """Whether their own entry gives less than everybody has: without it they would have more."""
        return who in self.own and not set(self.for_everyone()) <= set(self.own[who])


def parse(box: str, answer: Sequence[JsonValue]) -> MailList:
    """Parse the answer to GETACL. SystemRefused if it is not understood."""
    try:
        named, *rest = tokens(answer)
    except (ValueError, UnicodeDecodeError) as error:
        raise _not_understood(box, str(error)) from error
    if named != box or len(rest) % 2:
        raise _not_understood(box, f"it is about {named!r}, with {len(rest)} words")
    found = MailList()
    for who, rights in zip(rest[::2], rest[1::2], strict=True):
        if not who or set(rights) - set("lrswipkxteacd0123456789"):
            raise _not_understood(box, f"{who!r} has {rights!r}")
        kept = normal(rights)
        if who.startswith("-"):
            found.negative[who[1:]] = kept
        elif who.startswith("#"):
            found.everywhere[who[1:]] = kept
        else:
            found.own[who] = kept
    return found


def _not_understood(box: str, why: str) -> SystemRefused:
    return SystemRefused(
        f"The mail server's list of {box} is not understood: {why}.",
        "Nothing is taken for gone. Look at the list with another client, and tell us what it holds.",
    )
