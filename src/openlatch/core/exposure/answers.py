"""What is open to outsiders on a resource: by which ways and rules, and what keeps others out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import IntEnum

from openlatch.core.exposure.chart import Chart, Way
from openlatch.core.exposure.conditions import ResourceIs, leaves
from openlatch.core.exposure.rules import Boundary, Effect, Holder, Manner, Resource, Right, Rule, Terms, tiers
from openlatch.core.exposure.space import NONE, TooEntangled


class Audience(IntEnum):
    """How many outsiders something is open to, from fewest to most."""

    NAMED = 1
    LINK = 2
    SIGNED_IN = 3
    ANYONE = 4

    @property
    def word(self) -> str:
        """The word as it is written in answers."""
        return self.name.lower()


@dataclass(frozen=True, slots=True)
class Opening:
    """One way in, with the positions of the rules that open it."""

    way: Way
    rules: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Exposure:
    """A right that outsiders have on a resource. Rules are named by their position in the question.

    ``admitted_by`` are those that let somebody in, ``narrowed_by`` those that keep others out. ``unknown`` are
    conditions that were not understood, each of which counts as letting somebody in. ``is_open``: whether anybody gets
    in at the instant asked about, and not only later. An ``entangled`` exposure could not be computed, and counts as
    open to anyone.
    """

    right: Right
    audience: Audience
    is_open: bool
    openings: tuple[Opening, ...]
    admitted_by: tuple[int, ...]
    narrowed_by: tuple[int, ...] = ()
    unknown: tuple[str, ...] = ()
    entangled: bool = False


@dataclass(frozen=True, slots=True)
class Answer:
    """What is open to outsiders on one resource, and what only guards keep closed.

    ``rules`` are the keys of the rules that cover it, in the order in which exposures count them.
    """

    exposures: tuple[Exposure, ...] = ()
    blocked: tuple[Exposure, ...] = ()
    rules: tuple[str, ...] = ()

    def of(self, right: Right) -> Exposure | None:
        """The exposure by one right, if there is one."""
        return next((exposure for exposure in self.exposures if exposure.right is right), None)

    def keys(self, positions: Iterable[int]) -> tuple[str, ...]:
        """The keys of rules by their positions."""
        return tuple(self.rules[position] for position in positions)


_Found = tuple[tuple[Exposure, ...], tuple[Exposure, ...]]
_NOTHING = Answer()


@dataclass(slots=True)
class Calculator:
    """Computes answers for resources of one system, caching equal questions.

    ``since`` is the instant from which on requests count. ``known`` are the register's holders by key.
    """

    manner: Manner
    boundary: Boundary
    since: datetime
    known: Mapping[str, Holder] = field(default_factory=dict)
    _answers: dict[object, _Found] = field(default_factory=dict)

    def answer(self, rules: Sequence[Rule], guards: Sequence[Rule], resource: Resource) -> Answer:
        """What is open by these rules, which must be those that cover the resource."""
        if not any(rule.terms.effect is Effect.ADMIT for rule in rules):
            return _NOTHING
        asked = tiers(rules, resource, self.manner.combining)
        terms = tuple(tuple(rule.terms for rule in tier) for tier in asked)
        above = tuple(guard.terms for guard in guards)
        attributes = _looked_at(terms, above, resource)
        key = (terms, above, tuple(sorted(attributes.items())))
        found = self._answers.get(key)
        if found is None:
            found = self._answers[key] = _Question(self, terms, above, attributes).found()
        if not any(found):
            return _NOTHING
        return Answer(*found, (*(rule.key for tier in asked for rule in tier), *(guard.key for guard in guards)))


def _looked_at(terms: Iterable[Iterable[Terms]], guards: Iterable[Terms], resource: Resource) -> dict[str, str]:
    """The resource's attributes that conditions refer to."""
    if not resource.attributes:
        return {}
    every = (*(each for tier in terms for each in tier), *guards)
    names = {leaf.attribute for each in every for leaf in leaves(each.condition) if isinstance(leaf, ResourceIs)}
    return {name: value for name, value in resource.attributes.items() if name in names}


@dataclass(slots=True)
class _Tier:
    """Rules of one tier, by position, with the requests to which each applies."""

    admitting: dict[int, int] = field(default_factory=dict)
    refusing: dict[int, int] = field(default_factory=dict)


class _Question:
    """One question: tiers of terms, and guards above them, on a resource with these attributes."""

    def __init__(
        self,
        asker: Calculator,
        tiers: tuple[tuple[Terms, ...], ...],
        guards: tuple[Terms, ...],
        attributes: Mapping[str, str],
    ) -> None:
        self.asker, self.tiers, self.guards = asker, tiers, guards
        every = [*(terms for tier in tiers for terms in tier), *guards]
        self.every = [(terms, asker.manner.named(terms.permissions)) for terms in every]
        self.attributes = attributes

    def found(self) -> _Found:
        """The exposures, and those that only guards keep closed."""
        asker, every = self.asker, [terms for terms, _ in self.every]
        try:
            self.chart = Chart(every, asker.manner, asker.boundary, asker.known, self.attributes, asker.since)
            self.space = self.chart.space
            self.sets = [self.chart.requests(terms) for terms, _ in self.every]
            rights = [self._right(right) for right in Right]
        except TooEntangled:
            return tuple(self._entangled(right) for right in Right if self._admits(right)), ()
        return (
            tuple(open_now for open_now, _ in rights if open_now is not None),
            tuple(shut for _, shut in rights if shut is not None),
        )

    def _admits(self, right: Right) -> list[int]:
        of = {key for key, each in self.asker.manner.permissions.items() if each is right}
        return [n for n, (terms, keys) in enumerate(self.every) if terms.effect is Effect.ADMIT and keys & of]

    def _entangled(self, right: Right) -> Exposure:
        return Exposure(right, Audience.ANYONE, True, (), tuple(self._admits(right)), entangled=True)

    def _right(self, right: Right) -> tuple[Exposure | None, Exposure | None]:
        """What one right opens, through any of its permissions."""
        space, whole, admitted, refused = self.space, _Whole(), dict[int, int](), set[int]()
        for of in self._alike(right):
            one = self._permission(of)
            whole.inside = space.either(whole.inside, one.inside)
            whole.before = space.either(whole.before, one.before)
            for position, requests in one.admitted.items():
                admitted[position] = space.either(admitted.get(position, NONE), requests)
            refused |= one.refused
        exposure = self._exposure(right, whole.inside, admitted, refused)
        shut = space.less(whole.before, whole.inside)
        return exposure, self._exposure(right, shut, admitted, refused)

    def _alike(self, right: Right) -> set[frozenset[int]]:
        """For a right's permissions, the sets of rules about them, each once."""
        of = (key for key, each in self.asker.manner.permissions.items() if each is right)
        return {frozenset(n for n, (_, keys) in enumerate(self.every) if key in keys) for key in of}

    def _permission(self, about: frozenset[int]) -> _Whole:
        """What one permission opens, computed from the last tier to the first."""
        space, outside = self.space, self.chart.outside
        may_come = space.both(outside, self.chart.comes)
        whole, later, admitted_below, tiers = _Whole(), NONE, NONE, self._split(about)
        reached = [may_come]
        for tier in tiers[:-1]:
            met = space.union((*tier.admitting.values(), *tier.refusing.values()))
            reached.append(space.less(reached[-1], met))
        for tier, left in zip(reversed(tiers), reversed(reached), strict=True):
            refused = space.union(tier.refusing.values())
            admitting = space.union(tier.admitting.values())
            admitted_below = space.either(admitted_below, admitting)
            for position, requests in tier.refusing.items():
                if space.both(space.both(left, admitted_below), requests) != NONE:
                    whole.refused.add(position)
            for position, requests in tier.admitting.items():
                whole.admitted[position] = space.both(left, space.less(requests, refused))
            later = space.less(space.either(admitting, later), refused)
        return self._guarded(whole, space.both(outside, later), about)

    def _guarded(self, whole: _Whole, before: int, about: frozenset[int]) -> _Whole:
        """What guards leave of what the rules let in."""
        first = len(self.every) - len(self.guards)
        guards = {n: self.sets[n] for n in range(first, len(self.every)) if n in about}
        whole.before = before
        whole.inside = self.space.less(before, self.space.union(guards.values()))
        comes = self.space.both(before, self.chart.comes)
        whole.refused.update(n for n, requests in guards.items() if self.space.both(comes, requests) != NONE)
        return whole

    def _split(self, about: frozenset[int]) -> list[_Tier]:
        found, position = [], 0
        for tier in self.tiers:
            one = _Tier()
            for terms in tier:
                if position in about:
                    to = one.admitting if terms.effect is Effect.ADMIT else one.refusing
                    to[position] = self.sets[position]
                position += 1
            found.append(one)
        return found

    def _exposure(self, right: Right, requests: int, admitted: Mapping[int, int], refused: set[int]) -> Exposure | None:
        space = self.space
        come = space.both(requests, self.chart.comes)
        if come == NONE:
            return None
        openings = []
        in_force = {n: space.both(each, come) for n, each in sorted(admitted.items())}
        for way, within in self.chart.ways(requests):
            by = tuple(n for n, each in in_force.items() if space.both(each, within) != NONE)
            openings.append(Opening(way, by))
        return Exposure(
            right,
            max(audience(opening.way) for opening in openings),
            self.chart.is_open_at(requests, self.asker.since),
            tuple(openings),
            tuple(n for n, each in in_force.items() if each != NONE),
            tuple(sorted(refused)),
            tuple(sorted({text for opening in openings for text in opening.way.unknown})),
        )


@dataclass(slots=True)
class _Whole:
    """The requests of outsiders that get in, before and after guards; by which rules, and kept out by which."""

    inside: int = NONE
    before: int = NONE
    admitted: dict[int, int] = field(default_factory=dict)
    refused: set[int] = field(default_factory=set)


def audience(way: Way) -> Audience:
    """To how many outsiders a way is open."""
    if way.links is not None and "" not in way.links:
        return Audience.LINK
    if way.callers.signed_out:
        return Audience.ANYONE
    return Audience.SIGNED_IN if way.callers.others else Audience.NAMED
