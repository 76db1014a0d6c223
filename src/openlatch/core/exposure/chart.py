"""The space of all requests on a resource, divided as finely as given rules need, and the sets that rules stand for."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from zoneinfo import ZoneInfo

from openlatch.core.exposure.axes import AddressAxis, InstantAxis, ValueAxis, Values, WeekAxis
from openlatch.core.exposure.callers import CallerAxis, Callers
from openlatch.core.exposure.conditions import (
    AllOf,
    AnyOf,
    Between,
    Circumstances,
    Condition,
    FromNetwork,
    InHours,
    Network,
    Not,
    PersonIs,
    ResourceIs,
    SecondFactor,
    Secure,
    Test,
    Unknown,
    leaves,
    network,
)
from openlatch.core.exposure.rules import Boundary, Caller, Holder, Manner, Terms, Who, WhoKind
from openlatch.core.exposure.space import EVERYTHING, NONE, Box, Space
from openlatch.core.time_windows import WeeklyHours, Window

_CALLER, _LINK, _ADDRESS, _INSTANT, _WEEK, _SECURE, _FACTOR, _FIRST_NAMED = range(8)
_NO, _YES = 1, 2


@dataclass(frozen=True, slots=True)
class Way:
    """Requests by which outsiders get in, as one description: everything that is not None restricts it.

    ``links`` are those that somebody must have one of; an empty name means having none. ``unknown`` are conditions that
    are not understood, with whether they have to hold.
    """

    callers: Callers
    links: frozenset[str] | None = None
    networks: frozenset[Network] | None = None
    windows: tuple[Window, ...] | None = None
    hours: tuple[WeeklyHours, ...] | None = None
    secure: bool | None = None
    second_factor: bool | None = None
    person: Mapping[str, Values] = field(default_factory=dict)
    unknown: Mapping[str, bool] = field(default_factory=dict)

    def has(self, caller: Caller, now: Circumstances, zone: ZoneInfo) -> bool:
        """Whether it describes the request of one outsider."""
        return (
            self.callers.has(caller)
            and (self.links is None or caller.link in self.links)
            and (self.networks is None or any(now.address in each for each in self.networks))
            and (self.windows is None or any(window.contains(now.at) for window in self.windows))
            and (self.hours is None or any(hours.contains(now.at, zone) for hours in self.hours))
            and self.secure in (None, now.secure)
            and self.second_factor in (None, now.second_factor)
            and all(values.has(now.person.get(name)) for name, values in self.person.items())
            and all(now.understood.get(text, False) == truth for text, truth in self.unknown.items())
        )


class Chart:
    """The dimensions that some rules and ways need, with the sets of requests that these stand for."""

    def __init__(
        self,
        terms: Sequence[Terms],
        manner: Manner,
        boundary: Boundary,
        known: Mapping[str, Holder],
        attributes: Mapping[str, str],
        since: datetime | None,
        ways: Sequence[Way] = (),
    ) -> None:
        """``attributes`` are those of the resource. ``since`` is from when on requests are looked at."""
        parts = [leaf for each in terms for leaf in leaves(each.condition)]
        who = [w for each in terms for w in (*each.who, *each.but)]
        self.manner, self.attributes, self.since = manner, attributes, since
        self._caller = CallerAxis([*who, *(w for way in ways for w in _who(way.callers))], known, boundary)
        named = {w.name for w in who if w.kind is WhoKind.LINK}
        self._links = sorted({"", *named}.union(*(way.links or () for way in ways)))
        ranges = [network(w.name) for w in who if w.kind is WhoKind.NETWORK]
        self._inside = boundary.networks
        self._address = AddressAxis(
            [
                *ranges,
                *boundary.networks,
                *(n for p in parts if isinstance(p, FromNetwork) for n in p.networks),
                *(n for way in ways for n in way.networks or ()),
            ]
        )
        self._instant = InstantAxis(
            [
                Window(since),
                *(p.window for p in parts if isinstance(p, Between)),
                *(w for way in ways for w in way.windows or ()),
            ]
        )
        self._week = WeekAxis(
            [*(p.hours for p in parts if isinstance(p, InHours)), *(h for way in ways for h in way.hours or ())]
        )
        self._person = _value_axes(parts, ways)
        self._unknown = sorted({p.text for p in parts if isinstance(p, Unknown)}.union(*(w.unknown for w in ways)))
        self._attribute_at = {name: _FIRST_NAMED + at for at, name in enumerate(self._person)}
        first = _FIRST_NAMED + len(self._person)
        self._unknown_at = {text: first + at for at, text in enumerate(self._unknown)}
        self.space = Space(
            [
                self._caller.size,
                len(self._links),
                self._address.size,
                self._instant.size,
                self._week.size,
                2,
                2,
                *(axis.size for axis in self._person.values()),
                *(2 for _ in self._unknown),
            ]
        )
        self.comes = self._comes()
        self.outside = self._outside()

    def requests(self, terms: Terms) -> int:
        """The requests that a rule with these terms applies to, whatever they ask for."""
        about, but = (self.space.union(map(self._who, several)) for several in (terms.who, terms.but))
        return self.space.both(self.space.less(about, but), self.where(terms.condition))

    def where(self, condition: Condition) -> int:  # noqa: C901  one case a kind
        """The requests for which a condition holds."""
        cells = self.space.cells
        match condition:
            case AllOf(parts):
                found = EVERYTHING
                for part in parts:
                    found = self.space.both(found, self.where(part))
                return found
            case AnyOf(parts):
                return self.space.union(self.where(part) for part in parts)
            case Not(part):
                return self.space.less(EVERYTHING, self.where(part))
            case Between(window):
                return cells(_INSTANT, self._instant.mask(window))
            case InHours(hours):
                return cells(_WEEK, self._week.mask(hours))
            case FromNetwork(networks):
                return cells(_ADDRESS, self._address.mask(networks))
            case SecondFactor():
                return cells(_FACTOR, _YES)
            case Secure():
                return cells(_SECURE, _YES)
            case ResourceIs(attribute, test):
                return EVERYTHING if test.holds(self.attributes.get(attribute)) else NONE
            case PersonIs(attribute, test):
                return cells(self._attribute_at[attribute], self._person[attribute].mask(test))
            case Unknown(text):
                return cells(self._unknown_at[text], _YES)

    def set_of(self, way: Way) -> int:
        """The requests that a way describes."""
        box = list(self.space.full)
        box[_CALLER] = self._caller.mask_of(way.callers)
        if way.links is not None:
            box[_LINK] = sum(1 << at for at, link in enumerate(self._links) if link in way.links)
        if way.networks is not None:
            box[_ADDRESS] = self._address.mask(way.networks)
        if way.windows is not None:
            box[_INSTANT] = _joined(self._instant.mask(window) for window in way.windows)
        if way.hours is not None:
            box[_WEEK] = _joined(self._week.mask(hours) for hours in way.hours)
        for dimension, truth in ((_SECURE, way.secure), (_FACTOR, way.second_factor)):
            if truth is not None:
                box[dimension] = _YES if truth else _NO
        for attribute, values in way.person.items():
            box[self._attribute_at[attribute]] = self._person[attribute].mask_of(values)
        for text, truth in way.unknown.items():
            box[self._unknown_at[text]] = _YES if truth else _NO
        return self.space.box(tuple(box))

    def ways(self, requests: int) -> list[tuple[Way, int]]:
        """The fewest and widest descriptions of outsiders' requests in a set, each with its own set.

        They may also contain requests of others; requests that can't be made only if they are in the set.
        """
        wanted = self.space.both(requests, self.comes)
        may = self.space.either(self.space.less(EVERYTHING, self.outside), requests)
        order = [
            *self._unknown_at.values(),
            *self._attribute_at.values(),
            _FACTOR,
            _SECURE,
            _WEEK,
            _INSTANT,
            _ADDRESS,
            _LINK,
            _CALLER,
        ]
        boxes = self.space.cover(self.space.both(wanted, self.outside), may, order, lean=_ADDRESS)
        return [(self._way(box), self.space.box(box)) for box in sorted(boxes)]

    def is_open_at(self, requests: int, at: datetime) -> bool:
        """Whether a set has requests that can be made at an instant."""
        instants = [cell for cell in range(self._instant.size) if self._instant.window(cell).contains(at)]
        then = self.space.cells(_INSTANT, _joined(1 << cell for cell in instants))
        local = at.astimezone(self.manner.zone)
        minute = local.weekday() * 24 * 60 + local.hour * 60 + local.minute
        then = self.space.both(then, self.space.cells(_WEEK, self._week.at(minute)))
        return self.space.both(self.space.both(requests, self.outside), then) != NONE

    def _way(self, box: Box) -> Way:
        narrow = {d: mask for d, mask in enumerate(box) if mask != self.space.full[d]}
        links, secure, factor = narrow.get(_LINK), narrow.get(_SECURE), narrow.get(_FACTOR)
        return Way(
            self._caller.callers(box[_CALLER]),
            None if links is None else frozenset(x for at, x in enumerate(self._links) if links >> at & 1),
            self._address.networks(narrow[_ADDRESS]) if _ADDRESS in narrow else None,
            self._windows(narrow[_INSTANT]) if _INSTANT in narrow else None,
            self._week.hours(narrow[_WEEK]) if _WEEK in narrow else None,
            None if secure is None else secure == _YES,
            None if factor is None else factor == _YES,
            {name: self._person[name].values(narrow[d]) for name, d in self._attribute_at.items() if d in narrow},
            {text: narrow[d] == _YES for text, d in self._unknown_at.items() if d in narrow},
        )

    def _windows(self, instants: int) -> tuple[Window, ...] | None:
        """Windows restricted to ``since`` and later."""
        since = self.since
        if since is None:
            return self._instant.windows(instants)
        to_come = [w for w in self._instant.windows(instants) if w.until is None or w.until > since]
        found = tuple(Window(w.since if w.since is None or w.since > since else None, w.until) for w in to_come)
        return None if found == (Window(),) else found

    def _who(self, who: Who) -> int:
        cells = self.space.cells
        match who.kind:
            case WhoKind.LINK:
                return cells(_LINK, 1 << self._links.index(who.name))
            case WhoKind.NETWORK:
                return cells(_ADDRESS, self._address.mask({network(who.name)}))
            case _:
                return cells(_CALLER, self._caller.mask(who))

    def _comes(self) -> int:
        """The requests whose time can come at all: not, say, on a Tuesday in a window that ends on Monday."""
        space, found = self.space, EVERYTHING
        for instant in range(self._instant.size):
            window = self._instant.window(instant)
            never = [c for c in range(self._week.size) if not self._week.comes(c, window, self.manner.zone)]
            if never:
                week = space.cells(_WEEK, _joined(1 << cell for cell in never))
                found = space.less(found, space.both(space.cells(_INSTANT, 1 << instant), week))
        return found

    def _with_known_values(self, found: int) -> int:
        """The requests in which known holders have the attribute values that the register knows."""
        space = self.space
        for cell, holder in self._caller.holder_cells():
            is_holder = space.cells(_CALLER, 1 << cell)
            for attribute in holder.attributes.keys() & self._person.keys():
                value = 1 << self._person[attribute].cell(holder.attributes[attribute])
                other = space.less(is_holder, space.cells(self._attribute_at[attribute], value))
                found = space.less(found, other)
        return found

    def _outside(self) -> int:
        """The requests of outsiders from ``since`` on. Requests from a network inside are nobody's from outside."""
        space = self.space
        found = self._with_known_values(space.cells(_CALLER, self._caller.outside))
        if self.since is not None:
            found = space.both(found, space.cells(_INSTANT, self._instant.mask(Window(self.since))))
        return space.less(found, space.cells(_ADDRESS, self._address.mask(self._inside)))


def _joined(masks: Iterable[int]) -> int:
    found = 0
    for mask in masks:
        found |= mask
    return found


def _who(callers: Callers) -> Iterable[Who]:
    """Whom a set of outsiders names."""
    yield from (Who(WhoKind.ORGANISATION, name) for name in callers.organisations)
    yield from (Who(WhoKind.HOLDER, key) for key in callers.holders)


def _value_axes(parts: Iterable[Condition], ways: Iterable[Way]) -> dict[str, ValueAxis]:
    """An axis for each attribute of people that conditions or ways name."""
    tests: dict[str, list[Test]] = {}
    for part in parts:
        if isinstance(part, PersonIs):
            tests.setdefault(part.attribute, []).append(part.test)
    for way in ways:
        for name, values in way.person.items():
            tests.setdefault(name, []).extend(values.tests())
    return {name: ValueAxis(tests[name]) for name in sorted(tests)}
