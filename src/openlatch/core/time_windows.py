"""Windows: half-open ``[from, until)`` spans of instants in UTC, and weekly hours inside them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from openlatch.errors import BadInput
from openlatch.instants import FAR_AWAY_YEAR


@dataclass(frozen=True, slots=True)
class Window:
    """A half-open span in UTC. An empty ``since`` or ``until`` has no bound on that side."""

    since: datetime | None = None
    until: datetime | None = None

    def contains(self, at: datetime) -> bool:
        """Whether the instant lies in the window; the end itself does not."""
        return (self.since is None or self.since <= at) and (self.until is None or at < self.until)

    def meet(self, other: Window) -> Window:
        """The part that both windows share; it can be empty (see ``is_empty``)."""
        if other is self or (other.since is None and other.until is None):
            return self
        if self.since is None and self.until is None:
            return other
        sinces = [s for s in (self.since, other.since) if s is not None]
        untils = [u for u in (self.until, other.until) if u is not None]
        return Window(max(sinces) if sinces else None, min(untils) if untils else None)

    @property
    def is_empty(self) -> bool:
        """Whether no instant at all lies in it."""
        return self.since is not None and self.until is not None and self.until <= self.since


ALWAYS = Window()


@dataclass(frozen=True, slots=True)
class WeeklyHours:
    """Hours of a week in the account's time zone: days count from Monday = 0, ``ends`` is not included."""

    days: frozenset[int]
    begins: time
    ends: time

    def contains(self, at: datetime, zone: ZoneInfo) -> bool:
        """Whether the instant falls into the hours as clocks in ``zone`` show it then."""
        local = at.astimezone(zone)
        clock = local.time()
        if self.begins < self.ends:
            return local.weekday() in self.days and self.begins <= clock < self.ends
        # Over midnight: the evening belongs to today, the small hours to the day before.
        if clock >= self.begins:
            return local.weekday() in self.days
        return clock < self.ends and (local.weekday() - 1) % 7 in self.days


def with_end(windows: Sequence[Window], end: datetime | None) -> list[Window]:
    """Windows of one grant after its end as a whole is moved: those that run to that end, or for ever, run to the new
    one. A single end that comes earlier stays, unless even that is later than the new one.
    """
    untils = [window.until for window in windows]
    whole = None if None in untils else max((until for until in untils if until), default=None)
    found = []
    for window in windows:
        until = end if window.until == whole else window.until
        if until is not None and end is not None:
            until = min(until, end)
        found.append(Window(window.since, until))
    return found


def zone_of(name: str) -> ZoneInfo:
    """A time zone by its name in the IANA database. ValueError when there is none."""
    try:
        return ZoneInfo(name)
    except (ValueError, KeyError, OSError) as error:
        raise ValueError(f"there is no time zone {name[:60]!r}") from error


def open_at(hours: Sequence[WeeklyHours], at: datetime, zone: ZoneInfo) -> bool:
    """Whether every set of weekly hours on a path allows the instant; none means always."""
    return all(h.contains(at, zone) for h in hours)


def end_of_last_day(day: date, zone: ZoneInfo) -> datetime | None:
    """The instant in UTC at which a "last day" is over, or None for a far-away date.

    The day counts to its end as clocks in ``zone`` show it, also on days with 23 or 25 hours.
    """
    if is_far_away(day):
        return None
    return datetime.combine(day + timedelta(days=1), time(), zone).astimezone(UTC)


def end_given(until: datetime | None, last_day: date | None, zone: ZoneInfo) -> datetime | None:
    """The end that somebody gave: an instant, or a last day, which counts to its end in ``zone``; None for no end.

    BadInput when both are given.
    """
    if until is not None and last_day is not None:
        raise BadInput("Both an end and a last day are given.", "Give one of them.", {"last_day": "is one too many"})
    return end_of_last_day(last_day, zone) if last_day else until


def start_given(since: datetime | None, first_day: date | None, zone: ZoneInfo) -> datetime | None:
    """The start that somebody gave: an instant, or a first day, which counts from its beginning in ``zone``.

    BadInput when both are given, or a day that is too far away to be one.
    """
    if since is not None and first_day is not None:
        raise BadInput("Both a start and a first day are given.", "Give one of them.", {"first_day": "is one too many"})
    if first_day is not None and is_far_away(first_day):
        raise BadInput("That first day is too far away.", "Give an earlier one.", {"first_day": "too far away"})
    return datetime.combine(first_day, time(), zone).astimezone(UTC) if first_day else since


def last_day(until: datetime | None, zone: ZoneInfo) -> date | None:
    """The last day of a window that ends with a day, as clocks in ``zone`` show it; None where it ends within a day,
    or has no end.
    """
    if until is None or until.astimezone(zone).time() != time():
        return None
    return ends_on(until, zone)


def ends_on(until: datetime, zone: ZoneInfo) -> date:
    """The day on which a window ends, as clocks in ``zone`` show it: an end at midnight belongs to the day before."""
    return (until - timedelta(microseconds=1)).astimezone(zone).date()


def end_in_words(until: datetime, zone: ZoneInfo) -> str:
    """An end as one reads it."""
    day = last_day(until, zone)
    return f"to the end of {day:%-d %B %Y}" if day else f"until {until.astimezone(zone):%-d %B %Y %H:%M}"


def day_in_words(at: date, zone: ZoneInfo) -> str:
    """A day as one reads it: that of an instant, as clocks in ``zone`` show it; one that bounds a window from above
    goes through ``ends_on`` first.
    """
    local = at.astimezone(zone) if isinstance(at, datetime) else at
    return f"{local:%-d %B %Y}"


def is_far_away(day: date) -> bool:
    """Whether a date (or instant) is so far off that whoever wrote it meant "no end"."""
    return day.year >= FAR_AWAY_YEAR
