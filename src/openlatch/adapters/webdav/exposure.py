"""Access rules of a WebDAV server: what its lists give to everybody, as asked for without signing in.

A list says who may; whether the server lets anybody in who does not sign in is another matter, and is tried.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from openlatch.adapters.contract import FoundRule, RuleManner
from openlatch.adapters.webdav.lists import ALL, AUTHENTICATED, OPEN, PRIVILEGES, UNAUTHENTICATED, Containment, Entry
from openlatch.core.exposure.paths import key_of, path_of
from openlatch.core.exposure.rules import Combining, Right
from openlatch.json_values import JsonList, JsonObject

# What is set on an account's own collection, as a part of it.
ITSELF = "itself:"
# Entries are asked in their order (RFC 3744, section 6). Who can sign in, besides those in lists, is not told.
MANNER = RuleManner(
    Combining.FIRST_MATCH, {name: right for name, (_, _, right) in PRIVILEGES.items()}, logins_known=False
)


@dataclass(frozen=True, slots=True)
class Tried:
    """What came of asking without signing in; None where that was not tried, or told nothing."""

    reads: bool | None = None
    sees_times: bool | None = None
    changes: bool | None = None

    def lets(self, privilege: str) -> bool:
        """Whether a privilege may be used by whoever has not signed in; what is not known counts as open."""
        if privilege == "read-free-busy":
            return self.sees_times is not False or self.reads is True
        return (self.reads if PRIVILEGES[privilege][2] is Right.SEE else self.changes) is not False


def open_rules(
    account: str,
    part: str,
    at: str,
    entries: Sequence[Entry],
    containment: Containment,
    tried: Tried,
    refusals_win: bool,
) -> Iterator[FoundRule]:
    """The rules of one list, where it gives anything to everybody, or the server does whatever it says.

    ``part`` is whose list it is, ``at`` the path by which the server has it.
    """
    on = {"set_on": {"resource": path_of(part)}}
    stands = key_of(path_of(part.removeprefix(ITSELF)).removeprefix("/"))
    ordered = sorted(entries, key=lambda entry: entry.grants) if refusals_win else list(entries)
    open_to_all = frozenset[str]()
    found: list[FoundRule] = []
    for number, entry in enumerate(ordered):
        to = containment.known(entry.privileges)
        if containment.unknown(entry.privileges):
            to |= {right.value for right in Right}
        if not entry.who or not to:
            continue
        if entry.grants and (entry.who in OPEN or entry.inverted):
            open_to_all |= to
        handle = (
            {"who": entry.who, "paths": [at], **({"inverted": "yes"} if entry.inverted else {})} if entry.own else {}
        )
        found += [
            FoundRule(account, {"rule": f"{name}.{number}.{stands}", **rule, **on}, handle if "admit" in rule else {})
            for name, rule in _rules(entry, to, tried)
        ]
    if any(rule.rule.get("admit") for rule in found):
        yield from found
    if tried.reads and "read" not in open_to_all:
        rule = {"rule": f"tried.{stands}", "admit": ["anyone"], "to": ["read"], **on}
        yield FoundRule(account, {**rule, "because": "It could be read without signing in."})


def _rules(entry: Entry, to: frozenset[str], tried: Tried) -> Iterator[tuple[str, JsonObject]]:
    """What one entry comes to: by trying, those who don't sign in may have less of it than it says."""
    if not entry.grants:
        yield "refused", {"refuse": _whom(entry), **_but(entry), "to": sorted(to)}
    elif entry.who == AUTHENTICATED:
        yield entry.who, {"admit": ["signed in"], "to": sorted(to)}
    elif entry.who in OPEN or entry.inverted:
        without = {name for name in to if name not in PRIVILEGES or tried.lets(name)}
        name = entry.who if entry.who in OPEN else "others"
        if without:
            yield name, {"admit": ["anyone"], **_but(entry), "to": sorted(without)}
        if to - without and entry.who != UNAUTHENTICATED:
            yield f"{name}-signed-in", {"admit": ["signed in"], **_but(entry), "to": sorted(to - without)}


def _whom(entry: Entry) -> JsonList:
    if entry.inverted or entry.who in (ALL, UNAUTHENTICATED):
        return ["anyone"]
    return ["signed in"] if entry.who == AUTHENTICATED else [{"holder": entry.who}]


def _but(entry: Entry) -> JsonObject:
    """Whom an entry leaves out. What is granted to those who don't sign in is anybody's; what is denied is not."""
    if entry.inverted:
        return {"but": [{"holder": entry.who}]}
    return {"but": ["signed in"]} if entry.who == UNAUTHENTICATED and not entry.grants else {}
