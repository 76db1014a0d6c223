"""Latches: conditions on an account that a change may not break. The only place that evaluates them.

``breaches`` lists everything in an account that a latch does not allow, each under a key; a change breaks a latch when
it adds a key. So existing breaches stay as they are, can be mended step by step, and can't get worse.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from enum import StrEnum
from itertools import combinations
from typing import Any, TypeAlias
from uuid import UUID
from zoneinfo import ZoneInfo

from openlatch.core.access.paths import Path, everyone_reaching, rights_of
from openlatch.core.register import UTC_ZONE, Grant, Holder, Register
from openlatch.core.time_windows import Window, ends_on
from openlatch.core.vocabulary import GrantState, HolderKind, Reach

# Instants to come at which somebody's time begins or ends. Where there are more, nobody can say what holds later: then
# nothing more is let in that begins or ends at a time of its own.
MOST_INSTANTS = 400


class LatchKind(StrEnum):
    """What a latch demands."""

    MOST_DELEGATES = "most_delegates"
    ONE_AT_A_TIME = "one_at_a_time"
    NO_OUTSIDERS = "no_outsiders"
    NO_SPEND_OUTSIDE = "no_spend_outside"
    ENDS_WITHIN = "ends_within"
    TWO_STEWARDS = "two_stewards"
    SECOND_FACTOR = "second_factor"
    UNSEEN = "unseen"
    NOTHING_PUBLIC = "nothing_public"
    NEVER_TOGETHER = "never_together"
    PAYER_STAYS = "payer_stays"


class LatchMode(StrEnum):
    """How firmly a latch applies."""

    OFF = "off"
    WARN = "warn"
    HOLD = "hold"


@dataclass(frozen=True, slots=True)
class Latch:
    """One latch as it applies to an account. ``pair``: the keys of two permissions that may not be in one hand."""

    kind: LatchKind
    mode: LatchMode
    number: int | None = None
    pair: tuple[str, str] = ("", "")
    of_kind: bool = False

    @property
    def words(self) -> str:
        """What it asks for, as a sentence without its end."""
        return _WORDS[self.kind].format(n=self.number or "N", first=self.pair[0], second=self.pair[1])


_WORDS = {
    LatchKind.MOST_DELEGATES: "At most {n} delegates",
    LatchKind.ONE_AT_A_TIME: "One delegate at a time",
    LatchKind.NO_OUTSIDERS: "No outsiders",
    LatchKind.NO_SPEND_OUTSIDE: "No outsider may spend",
    LatchKind.ENDS_WITHIN: "Every grant ends within {n} days",
    LatchKind.TWO_STEWARDS: "Two stewards at all times",
    LatchKind.SECOND_FACTOR: "Delegates have a second factor",
    LatchKind.UNSEEN: "Delegates don't see one another",
    LatchKind.NOTHING_PUBLIC: "Nothing in it is public",
    LatchKind.NEVER_TOGETHER: "“{first}” and “{second}” are never in one hand",
    LatchKind.PAYER_STAYS: "Whoever pays for it has access",
}
_PASSES = {
    LatchKind.MOST_DELEGATES: "End somebody else's access first, or choose a window in which fewer have access.",
    LatchKind.ONE_AT_A_TIME: "Choose a window that begins when the other one's ends.",
    LatchKind.NO_OUTSIDERS: "Give it to somebody inside.",
    LatchKind.NO_SPEND_OUTSIDE: "Give a level that does not reach as far as spend, or give it to somebody inside.",
    LatchKind.ENDS_WITHIN: "Set a last day within {n} days.",
    LatchKind.TWO_STEWARDS: "Give somebody else steward reach first.",
    LatchKind.SECOND_FACTOR: "Have them set up a second factor first.",
    LatchKind.UNSEEN: "",
    LatchKind.NOTHING_PUBLIC: "Close the resource to the public first.",
    LatchKind.NEVER_TOGETHER: "Give a level with only one of the two, or give it to somebody else.",
    LatchKind.PAYER_STAYS: "Name another payer first.",
}


@dataclass(frozen=True, slots=True)
class Breach:
    """That something breaks a latch: which, the fact, and what would pass."""

    latch: Latch
    fact: str

    @property
    def remedy(self) -> str:
        """What would pass."""
        return _PASSES[self.latch.kind].format(n=self.latch.number)

    @property
    def words(self) -> str:
        """The breach in one sentence."""
        return f"“{self.latch.words}”: {self.fact}."


@dataclass(frozen=True, slots=True)
class Crowd:
    """Everyone who reaches one account, now and at the future instants at which somebody's time begins.

    ``outside_apps`` are grants of apps linked by outsiders, which count as outside too. ``beyond`` is the number of
    instants that were too many to evaluate.
    """

    register: Register
    account: UUID
    at: datetime
    public: Mapping[UUID, str] = field(default_factory=dict)
    moments: tuple[tuple[datetime, tuple[Path, ...]], ...] = ()
    outside_apps: frozenset[UUID] = frozenset()
    beyond: int = 0
    payer: tuple[Holder, str] | None = None

    @classmethod
    def of(
        cls,
        register: Register,
        account: UUID,
        at: datetime,
        public: Mapping[UUID, str] | None = None,
        outside_apps: frozenset[UUID] = frozenset(),
        payer: tuple[Holder, str] | None = None,
    ) -> Crowd:
        """The crowd of an account; ``public`` are its resources that anyone can reach, by id and name, and ``payer``
        is who pays for it, with their name.
        """
        instants = sorted(i for i in (w.since for w in _windows(register)) if i is not None and i > at)
        instants = list(dict.fromkeys(instants))
        looked_at = [at, *instants[:MOST_INSTANTS]]
        moments = tuple((i, tuple(everyone_reaching(register, account, i))) for i in looked_at)
        beyond = max(len(instants) - MOST_INSTANTS, 0)
        return cls(register, account, at, public or {}, moments, outside_apps, beyond, payer)

    def delegates(self, paths: Iterable[Path]) -> dict[UUID, list[Path]]:
        """The people among these paths who do not own the account, with their paths."""
        found: dict[UUID, list[Path]] = {}
        for path in paths:
            if path.holder.kind is HolderKind.PERSON:
                found.setdefault(path.holder.id, []).append(path)
        return {who: own for who, own in found.items() if not any(len(p.hops) == 1 and p.level is None for p in own)}

    def outsiders(self) -> dict[Holder, list[Path]]:
        """The people outside who reach it at any time, its owner among them, and apps that such people have linked."""
        found: dict[Holder, list[Path]] = {}
        for _, paths in self.moments:
            for path in paths:
                if path.holder.kind is HolderKind.PERSON:
                    is_outside = not self.inside(path.holder.id)
                else:
                    is_outside = not self.outside_apps.isdisjoint(path.grants)
                if is_outside:
                    found.setdefault(path.holder, []).append(path)
        return found

    def everybody(self) -> dict[UUID, list[Path]]:
        """All delegates of all its moments."""
        found: dict[UUID, list[Path]] = {}
        for _, paths in self.moments:
            for who, own in self.delegates(paths).items():
                found.setdefault(who, []).extend(own)
        return found

    @property
    def zone(self) -> ZoneInfo:
        """The account's time zone."""
        known = self.register.accounts.get(self.account)
        return known.zone if known else UTC_ZONE

    def day(self, at: datetime) -> date:
        """The day of an instant, where the account is."""
        return at.astimezone(self.zone).date()

    def name(self, person: UUID) -> str:
        """A person's name."""
        return self.register.name_of(Holder(HolderKind.PERSON, person))

    def inside(self, person: UUID) -> bool:
        """Whether a person stands inside the trust boundary."""
        known = self.register.people.get(person)
        return known is None or known.inside


def _windows(register: Register) -> list[Window]:
    return [m.window for m in register.memberships] + [t.window for g in register.grants for t in g.terms]


# What breaks a latch, by what makes it the same as before: a person, or a person and a time.
Key: TypeAlias = Any
Found = dict[Key, str]
_BEYOND = (
    f"more than {MOST_INSTANTS} times lie ahead at which somebody's access begins or ends, "
    "too many to say who has access then"
)


def _most_delegates(latch: Latch, crowd: Crowd) -> Found:
    most = latch.number or 0
    found: Found = {}
    for instant, paths in crowd.moments:
        delegates = crowd.delegates(paths)
        if len(delegates) > most:
            when = "" if instant == crowd.at else f" from {crowd.day(instant)}"
            names = ", ".join(sorted(crowd.name(who) for who in delegates)[:4])
            more = f" and {len(delegates) - 4} more" if len(delegates) > 4 else ""
            for who in delegates:
                found.setdefault(who, f"there are {len(delegates)} delegates{when} ({names}{more})")
    return found


def _one_at_a_time(latch: Latch, crowd: Crowd) -> Found:
    found: Found = {}
    for instant, paths in crowd.moments:
        for pair in combinations(sorted(crowd.delegates(paths)), 2):
            first, second = (crowd.name(who) for who in pair)
            when = "now" if instant == crowd.at else f"from {crowd.day(instant)}"
            found.setdefault(pair, f"{first} and {second} have access at the same time, {when}")
    return found


def _no_outsiders(latch: Latch, crowd: Crowd) -> Found:
    found: Found = {}
    for holder in crowd.outsiders():
        linked = "linked by " if holder.kind is HolderKind.APP else ""
        found[holder.id] = f"{crowd.register.name_of(holder)} is {linked}an outsider"
    for grant in _live(crowd):
        team = crowd.register.teams.get(grant.holder.id)
        if grant.holder.kind is HolderKind.TEAM and team is not None and team.partner:
            found[team.id] = f"{team.name} is a partner organisation"
    return found


def _no_spend_outside(latch: Latch, crowd: Crowd) -> Found:
    found: Found = {}
    for holder, own in crowd.outsiders().items():
        reach = max(p.reach for p in own)
        linked = "linked by " if holder.kind is HolderKind.APP else ""
        if reach >= Reach.SPEND:
            name = crowd.register.name_of(holder)
            found[holder.id, "spend"] = f"{name} is {linked}an outsider and can {reach.word}"
    return found


def _ends_within(latch: Latch, crowd: Crowd) -> Found:
    found: Found = {}
    for grant in _live(crowd):
        for term in grant.terms:
            begins = max(term.window.since or crowd.at, crowd.at)
            holder = crowd.register.name_of(grant.holder)
            if term.window.until is None:
                found[(grant.id, None)] = f"the grant of {holder} has no end"
            elif term.window.until > begins + timedelta(days=latch.number or 0):
                found[(grant.id, term.window.until)] = (
                    f"the grant of {holder} ends on {ends_on(term.window.until, crowd.zone)}"
                )
    return found


def _two_stewards(latch: Latch, crowd: Crowd) -> Found:
    first: dict[int, tuple[datetime, str]] = {}
    # Stewards go at the end of a window. What each beginning adds is there at the next end as well.
    ends = sorted({w.until for w in _windows(crowd.register) if w.until is not None and w.until > crowd.at})
    for instant in (crowd.at, *ends[:MOST_INSTANTS]):
        if len(first) == 2:
            break
        paths = everyone_reaching(crowd.register, crowd.account, instant)
        stewards = {p.holder.id for p in paths if p.holder.kind is HolderKind.PERSON and p.reach is Reach.STEWARD}
        when = "" if instant == crowd.at else f" from {crowd.day(instant)}"
        told = {0: f"nobody decides about it{when}", 1: f"only one person decides about it{when}"}
        for lacking in range(len(stewards), 2):
            # The first instant counts: what is broken later, or not at all, is no worse.
            first.setdefault(lacking, (instant, told[len(stewards)]))
    found: Found = {(lacking, instant): fact for lacking, (instant, fact) in first.items()}
    if len(ends) > MOST_INSTANTS:
        found["beyond", len(ends)] = _BEYOND
    return found


def _second_factor(latch: Latch, crowd: Crowd) -> Found:
    people = crowd.register.people
    return {
        who: f"{crowd.name(who)} has no second factor"
        for who in crowd.everybody()
        if who in people and not people[who].second_factor
    }


def _unseen(latch: Latch, crowd: Crowd) -> Found:
    return {}


def _nothing_public(latch: Latch, crowd: Crowd) -> Found:
    return {resource: f"“{name}” is open to anyone" for resource, name in crowd.public.items()}


def _never_together(latch: Latch, crowd: Crowd) -> Found:
    found: Found = {}
    for who, own in crowd.everybody().items():
        held = {p.key: p.sentence for p in rights_of(own)}
        if all(key in held for key in latch.pair):
            first, second = (held[key] for key in latch.pair)
            found[who] = f"{crowd.name(who)} can both “{first}” and “{second}”"
    return found


def _payer_stays(latch: Latch, crowd: Crowd) -> Found:
    if crowd.payer is None:
        return {"nobody": "nobody is known to pay for it"}
    payer, name = crowd.payer
    if payer.kind is HolderKind.PERSON:
        # Access to come is none yet.
        has_access = any(path.holder == payer for path in crowd.moments[0][1]) if crowd.moments else False
    else:
        has_access = any(grant.holder == payer for grant in _live(crowd))
    return {} if has_access else {payer: f"{name}, who pays for it, has no access"}


def _live(crowd: Crowd) -> list[Grant]:
    dead = (GrantState.ENDED, GrantState.PENDING)
    return [grant for grant in crowd.register.by_account.get(crowd.account, ()) if grant.state not in dead]


_LOOK: dict[LatchKind, Callable[[Latch, Crowd], Found]] = {
    LatchKind.MOST_DELEGATES: _most_delegates,
    LatchKind.ONE_AT_A_TIME: _one_at_a_time,
    LatchKind.NO_OUTSIDERS: _no_outsiders,
    LatchKind.NO_SPEND_OUTSIDE: _no_spend_outside,
    LatchKind.ENDS_WITHIN: _ends_within,
    LatchKind.TWO_STEWARDS: _two_stewards,
    LatchKind.SECOND_FACTOR: _second_factor,
    LatchKind.UNSEEN: _unseen,
    LatchKind.NOTHING_PUBLIC: _nothing_public,
    LatchKind.NEVER_TOGETHER: _never_together,
    LatchKind.PAYER_STAYS: _payer_stays,
}


# Those for which it matters who has access at which time; a window that ends too late is seen without that.
_OVER_TIME = frozenset(LatchKind) - {
    LatchKind.ENDS_WITHIN,
    LatchKind.NOTHING_PUBLIC,
    LatchKind.UNSEEN,
    LatchKind.TWO_STEWARDS,
    LatchKind.PAYER_STAYS,
}


def broken(latch: Latch, crowd: Crowd) -> Found:
    """Everything in an account that a latch does not allow, by key, with the fact in words."""
    if latch.mode is LatchMode.OFF:
        return {}
    found = _LOOK[latch.kind](latch, crowd)
    if crowd.beyond and latch.kind in _OVER_TIME:
        found = {**found, ("beyond", crowd.beyond): _BEYOND}
    return found


def _is_new(latch: Latch, key: Key, was: Found) -> bool:
    """Whether something breaks a latch that did not before, or breaks it sooner."""
    if latch.kind is not LatchKind.TWO_STEWARDS or key[0] == "beyond":
        return key not in was
    return not any(lacking == key[0] and since <= key[1] for lacking, since in was if lacking != "beyond")


def breaches(latches: Sequence[Latch], crowd: Crowd) -> list[Breach]:
    """What breaks each latch now: the first fact, which says how many there are."""
    found = []
    for latch in latches:
        facts = list(dict.fromkeys(broken(latch, crowd).values()))
        found += [Breach(latch, fact) for fact in facts]
    return found


def newly_broken(latches: Sequence[Latch], before: Crowd, after: Crowd) -> list[Breach]:
    """What a change breaks that was not broken before."""
    found = []
    for latch in latches:
        was, will = broken(latch, before), broken(latch, after)
        facts = dict.fromkeys(fact for key, fact in will.items() if _is_new(latch, key, was))
        found += [Breach(latch, fact) for fact in facts]
    return found


def held(found: Iterable[Breach]) -> list[Breach]:
    """The breaches that refuse a change; the others only warn."""
    return [breach for breach in found if breach.latch.mode is LatchMode.HOLD]
