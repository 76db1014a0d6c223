"""Access rules of a WebDAV server: what its lists give to everybody, as tested without a sign-in.

A list says who may; whether the server accepts anonymous clients at all is tested.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from openlatch.adapters.contract import FoundRule, RuleManner
from openlatch.adapters.webdav.lists import ALL, AUTHENTICATED, OPEN, PRIVILEGES, UNAUTHENTICATED, Containment, Entry
from openlatch.core.exposure.paths import key_of, path_of
from openlatch.core.exposure.rules import Combining, Right
from openlatch.json_values import JsonList, JsonObject

# The part that stands for an account's own collection.
ITSELF = "itself:"
# Entries are evaluated in order (RFC 3744, section 6). Logins that occur in no list are unknown.
MANNER = RuleManner(
    Combining.FIRST_MATCH, {name: right for name, (_, _, right) in PRIVILEGES.items()}, logins_known=False
)


@dataclass(frozen=True, slots=True)
class Tried:
    """Results of requests without a sign-in; None if not tried, or inconclusive."""

    reads: bool | None = None
    sees_times: bool | None = None
    changes: bool | None = None

    def lets(self, privilege: str) -> bool:
        """Whether a privilege may be used without a sign-in; unknown counts as open."""
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
    """The rules of one list that gives something to everybody, or whose server does so regardless.

    ``part`` is whose list it is, ``at`` its path on the server.
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
    """The rules of one entry: as tested, anonymous clients may have less than it says."""
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
    """Whom an entry excludes. What is granted to anonymous clients is anybody's; what is denied is not."""
    if entry.inverted:
        return {"but": [{"holder": entry.who}]}
    return {"but": ["signed in"]} if entry.who == UNAUTHENTICATED and not entry.grants else {}
