"""The dimensions of requests, each divided into cells within which no condition distinguishes two points.

An axis turns a part of a condition into a set of cells (a mask), and a set of cells into plain values.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from functools import lru_cache
from ipaddress import IPv4Address, IPv6Address, summarize_address_range
from zoneinfo import ZoneInfo

from openlatch.core.exposure.conditions import BeginsWith, Network, OneOf, Test
from openlatch.core.time_windows import WeeklyHours, Window

_V4 = 1 << 32
_V6 = 1 << 128
WEEK = 7 * 24 * 60
_DAY = 24 * 60


def _runs(mask: int) -> Iterator[tuple[int, int]]:
    """The runs of neighbouring cells in a mask, half-open."""
    at = 0
    while mask >> at:
        rest = mask >> at
        begin = at + (rest & -rest).bit_length() - 1
        after = mask >> begin
        end = begin + (~after & (after + 1)).bit_length() - 1
        yield begin, end
        at = end


def _span(begin: int, end: int) -> int:
    """The mask of the cells from one up to another."""
    return (1 << end) - (1 << begin)


class AddressAxis:
    """Where a request comes from: all of IPv4, and behind it all of IPv6."""

    def __init__(self, networks: Iterable[Network]) -> None:
        cuts = {0, _V4, _V4 + _V6}
        for network in networks:
            cuts.update(_bounds(network))
        self._cuts = sorted(cuts)
        self.size = len(self._cuts) - 1

    def mask(self, networks: Iterable[Network]) -> int:
        """The cells inside some of the networks that the axis was made with."""
        found = 0
        for network in networks:
            begin, end = _bounds(network)
            found |= _span(bisect_left(self._cuts, begin), bisect_left(self._cuts, end))
        return found

    def networks(self, mask: int) -> frozenset[Network]:
        """The fewest networks that hold just these cells."""
        found: set[Network] = set()
        for first, last in _runs(mask):
            begin, end = self._cuts[first], self._cuts[last]
            if begin < _V4:
                found.update(summarize_address_range(IPv4Address(begin), IPv4Address(min(end, _V4) - 1)))
            if end > _V4:
                found.update(summarize_address_range(IPv6Address(max(begin - _V4, 0)), IPv6Address(end - _V4 - 1)))
        return frozenset(found)

    def samples(self, cell: int) -> IPv4Address | IPv6Address:
        """An address in a cell."""
        begin = self._cuts[cell]
        return IPv4Address(begin) if begin < _V4 else IPv6Address(begin - _V4)


def complement(networks: Iterable[Network]) -> frozenset[Network]:
    """The fewest networks that hold every address that is in none of these."""
    named = list(networks)
    axis = AddressAxis(named)
    return axis.networks(_span(0, axis.size) & ~axis.mask(named))


def _bounds(network: Network) -> tuple[int, int]:
    shift = 0 if network.version == 4 else _V4
    begin = int(network.network_address) + shift
    return begin, begin + network.num_addresses


class InstantAxis:
    """When a request comes, as an instant."""

    def __init__(self, windows: Iterable[Window]) -> None:
        cuts = {at for window in windows for at in (window.since, window.until) if at is not None}
        self._cuts: list[datetime | None] = [None, *sorted(cuts), None]
        self.size = len(self._cuts) - 1

    def mask(self, window: Window) -> int:
        """The cells in one of the windows that the axis was made with."""
        begin = 0 if window.since is None else self._cuts.index(window.since, 1)
        end = self.size if window.until is None else self._cuts.index(window.until, 1)
        return _span(begin, end) if begin < end else 0

    def windows(self, mask: int) -> tuple[Window, ...]:
        """The fewest windows that hold just these cells, in order."""
        return tuple(Window(self._cuts[begin], self._cuts[end]) for begin, end in _runs(mask))

    def window(self, cell: int) -> Window:
        """The window that a cell is."""
        return Window(self._cuts[cell], self._cuts[cell + 1])


class WeekAxis:
    """When a request comes, in local time of one zone: the minutes of a week from Monday's midnight."""

    def __init__(self, hours: Iterable[WeeklyHours]) -> None:
        cuts = {0, WEEK}
        for each in hours:
            for begin, end in _minutes(each):
                cuts.update((begin, end))
        self._cuts = sorted(cuts)
        self.size = len(self._cuts) - 1

    def mask(self, hours: WeeklyHours) -> int:
        """The cells in one of the hours that the axis was made with."""
        found = 0
        for begin, end in _minutes(hours):
            found |= _span(self._cuts.index(begin), self._cuts.index(end))
        return found

    def hours(self, mask: int) -> tuple[WeeklyHours, ...]:
        """The weekly hours that cover exactly these cells; days with equal hours are grouped."""
        spans = [(self._cuts[begin], self._cuts[end]) for begin, end in _runs(mask)]
        if len(spans) > 1 and spans[0][0] == 0 and spans[-1][1] == WEEK:
            # A span over Sunday's midnight is one.
            spans[-1] = (spans[-1][0], WEEK + spans.pop(0)[1])
        days: dict[tuple[int, int], set[int]] = {}
        for begin, end in spans:
            for day, first, last in _by_day(begin, end):
                days.setdefault((first, last), set()).add(day)
        found = [WeeklyHours(frozenset(on), _clock(first), _clock(last)) for (first, last), on in days.items()]
        return tuple(sorted(found, key=lambda h: (min(h.days), h.begins)))

    def at(self, minute: int) -> int:
        """The cell of a minute of the week."""
        return 1 << bisect_right(self._cuts, minute) - 1

    def comes(self, cell: int, window: Window, zone: ZoneInfo) -> bool:
        """Whether any instant of a window falls into a cell."""
        return _comes(self._cuts[cell], self._cuts[cell + 1], window, zone)


def _minutes(hours: WeeklyHours) -> Iterator[tuple[int, int]]:
    """The spans of minutes of a week that weekly hours are; one over the week's end comes in two."""
    begins, ends = (at.hour * 60 + at.minute for at in (hours.begins, hours.ends))
    for day in hours.days:
        begin, end = day * _DAY + begins, day * _DAY + (ends if begins < ends else ends + _DAY)
        yield begin, min(end, WEEK)
        if end > WEEK:
            yield 0, end - WEEK


def _by_day(begin: int, end: int) -> Iterator[tuple[int, int, int]]:
    """A span of minutes as spans that begin on a day and last at most a day: the day, and local minutes."""
    while begin < end:
        day, first = divmod(begin, _DAY)
        midnight = (day + 1) * _DAY
        # Hours over midnight are one span when they end before they began.
        last = end if end - midnight < first else midnight
        yield day % 7, first, min(last, end) % _DAY
        begin = min(last, end)


def _clock(minutes: int) -> time:
    return time(minutes // 60, minutes % 60)


# Two weeks and a day hold every minute of a week at least twice, and clocks skip one of them at most.
_LONG = timedelta(days=15)
_STEP = timedelta(hours=3)


def _comes(begin: int, end: int, window: Window, zone: ZoneInfo) -> bool:
    if window.is_empty:
        return False
    if window.since is None or window.until is None or window.until - window.since >= _LONG:
        return True
    return any(_overlaps(begin, end, first, last) for first, last in _wall_clock(window.since, window.until, zone))


@lru_cache(maxsize=1024)
def _wall_clock(since: datetime, until: datetime, zone: ZoneInfo) -> tuple[tuple[datetime, datetime], ...]:
    """Local time from one instant to another, in stretches without a change of offset."""
    return tuple(_stretches(since, until, zone))


def _stretches(since: datetime, until: datetime, zone: ZoneInfo) -> Iterator[tuple[datetime, datetime]]:
    at = since.astimezone(UTC)
    while at < until:
        after = min(at + _STEP, until.astimezone(UTC))
        offset = _offset(at, zone)
        if _offset(after, zone) != offset:
            after = _clocks_set(at, after, zone)
        yield (at + offset).replace(tzinfo=None), (after + offset).replace(tzinfo=None)
        at = after


def _offset(at: datetime, zone: ZoneInfo) -> timedelta:
    return at.astimezone(zone).utcoffset() or timedelta()


def _clocks_set(at: datetime, after: datetime, zone: ZoneInfo) -> datetime:
    """The first instant, to the second, at which the offset differs from that at the first of two."""
    offset, seconds = _offset(at, zone), int((after - at).total_seconds())
    low, high = 0, seconds
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if _offset(at + timedelta(seconds=middle), zone) == offset else (low, middle)
    return at + timedelta(seconds=high) if high < seconds else after


def _overlaps(begin: int, end: int, first: datetime, last: datetime) -> bool:
    """Whether clocks from one reading to another come into a span of minutes of the week."""
    monday = datetime.combine(first.date() - timedelta(days=first.weekday()), time())
    return any(
        monday + timedelta(days=7 * week, minutes=begin) < last
        and first < monday + timedelta(days=7 * week, minutes=end)
        for week in range((last - monday).days // 7 + 1)
    )


@dataclass(frozen=True, slots=True)
class Values:
    """A set of values of an attribute: some named, those that begin with some prefixes but not others, all others,
    and "not set".
    """

    named: Mapping[str, bool]
    prefixes: Mapping[str, bool]
    others: bool
    unset: bool

    def tests(self) -> Iterator[Test]:
        """Tests that name the same values and prefixes."""
        yield OneOf(frozenset(self.named))
        yield BeginsWith(frozenset(self.prefixes))

    def has(self, value: str | None) -> bool:
        """Whether a value, or one that is not set, is in the set."""
        if value is None:
            return self.unset
        if value in self.named:
            return self.named[value]
        longest = max((p for p in self.prefixes if value.startswith(p)), key=len, default=None)
        return self.others if longest is None else self.prefixes[longest]


class ValueAxis:
    """The value of an attribute of whoever asks.

    Its cells are the values that conditions name, other values with each of their prefixes, any other value, and "not
    set".
    """

    def __init__(self, tests: Iterable[Test]) -> None:
        named: set[str] = set()
        prefixes: set[str] = set()
        for test in tests:
            if isinstance(test, OneOf):
                named |= test.values
            else:
                prefixes |= test.prefixes
        self._named, self._prefixes = sorted(named), sorted(prefixes)
        self.size = len(self._named) + len(self._prefixes) + 2

    def mask(self, test: Test) -> int:
        """The cells that a test passes."""
        found = sum(1 << at for at, value in enumerate(self._named) if test.holds(value))
        if isinstance(test, BeginsWith):
            shift = len(self._named)
            found += sum(1 << shift + at for at, prefix in enumerate(self._prefixes) if test.holds(prefix))
            if "" in test.prefixes:
                found += 1 << self.size - 2
        return found

    def cell(self, value: str | None) -> int:
        """The cell that a value lies in."""
        if value is None:
            return self.size - 1
        if value in self._named:
            return self._named.index(value)
        longest = max((p for p in self._prefixes if value.startswith(p)), key=len, default=None)
        return self.size - 2 if longest is None else len(self._named) + self._prefixes.index(longest)

    def values(self, mask: int) -> Values:
        """The set that some cells are."""
        shift = len(self._named)
        return Values(
            {value: bool(mask >> at & 1) for at, value in enumerate(self._named)},
            {prefix: bool(mask >> shift + at & 1) for at, prefix in enumerate(self._prefixes)},
            bool(mask >> self.size - 2 & 1),
            bool(mask >> self.size - 1 & 1),
        )

    def mask_of(self, values: Values) -> int:
        """The cells that lie in a set. The axis has to know every value and prefix that the set names."""
        found = sum(1 << at for at, value in enumerate(self._named) if values.has(value))
        shift = len(self._named)
        found += sum(1 << shift + at for at, p in enumerate(self._prefixes) if _of_prefix(values, p))
        return found | values.others << self.size - 2 | values.unset << self.size - 1


def _of_prefix(values: Values, prefix: str) -> bool:
    """Whether what begins with a prefix, and is not named, lies in the set."""
    longest = max((p for p in values.prefixes if prefix.startswith(p)), key=len, default=None)
    return values.others if longest is None else values.prefixes[longest]
