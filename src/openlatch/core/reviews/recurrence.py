"""When reviews recur: recurrence rules by RFC 5545 section 3.3.10, in the time zone of those who review.

A rule speaks of clocks on the wall: what is due at 09:00 is due at 09:00 there, whatever the clocks do. A time that
the clocks jump over is taken as if they had not jumped (section 3.3.5); one that comes twice is the first of the two.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from dateutil.rrule import rrule, rrulestr

from openlatch.errors import BadInput

# What people choose from, before they write a rule of their own.
PLAIN = {
    "month": "FREQ=MONTHLY",
    "quarter": "FREQ=MONTHLY;INTERVAL=3",
    "half-year": "FREQ=MONTHLY;INTERVAL=6",
    "year": "FREQ=YEARLY",
}
# The more sensitive an account, the more often it is reviewed.
BY_SENSITIVITY = {4: "month", 3: "quarter", 2: "half-year", 1: "year"}
_TOO_OFTEN = ("SECONDLY", "MINUTELY", "HOURLY")
# A review more often than this is not one.
LEAST_APART = timedelta(days=1)
LONGEST_LOOK = timedelta(days=366 * 10)


@dataclass(frozen=True, slots=True)
class Recurrence:
    """A rule, the zone of its clocks, and the first time as clocks there show it (no zone of its own)."""

    rule: str
    zone: ZoneInfo
    starts: datetime

    def between(self, after: datetime, until: datetime) -> Iterator[datetime]:
        """Every time it is due, in UTC: later than ``after``, and not later than ``until``."""
        # A day more on either side, since the rule counts by the clocks on the wall.
        first = after.astimezone(self.zone).replace(tzinfo=None) - timedelta(days=1)
        last = until.astimezone(self.zone).replace(tzinfo=None) + timedelta(days=1)
        for local in self._parsed().xafter(first, inc=True):
            if local > last:
                return
            at = local.replace(tzinfo=self.zone).astimezone(UTC)
            if after < at <= until:
                yield at

    def following(self, after: datetime, count: int) -> list[datetime]:
        """The next times it is due, in UTC, at most ``count`` and within ten years; fewer when the rule ends."""
        found = []
        for at in self.between(after, after + LONGEST_LOOK):
            found.append(at)
            if len(found) == count:
                break
        return found

    def due(self, opened: datetime | None, now: datetime) -> datetime | None:
        """The time for which a round is to be opened now, or None: the latest that has come since the last one.

        Times that were missed come to one round, late, not to one each.
        """
        start = self.starts.replace(tzinfo=self.zone).astimezone(UTC)
        missed = list(self.between(opened or start - timedelta(microseconds=1), now))
        return missed[-1] if missed else None

    def _parsed(self) -> rrule:
        found = rrulestr(self.rule, dtstart=self.starts)
        assert isinstance(found, rrule)
        return found


def checked(rule: str, zone: ZoneInfo, starts: datetime) -> Recurrence:
    """A recurrence that can be used; ``rule`` may be one of the plain choices. BadInput says what is wrong with it."""
    plain = PLAIN.get(rule.strip().lower())
    written = rule.strip().upper().removeprefix("RRULE:") if plain is None else plain + _last_days(plain, starts)
    recurrence = Recurrence(written, zone, starts.replace(second=0, microsecond=0))
    if "\n" in written or any(f"FREQ={word}" in written for word in _TOO_OFTEN):
        raise _bad("A review recurs daily at most.")
    try:
        first = recurrence.following(starts.replace(tzinfo=zone) - timedelta(days=1), 2)
    except (ValueError, AssertionError, OverflowError, TypeError) as error:
        raise _bad(f"The rule {rule!r} can't be read: {error}.") from None
    if not first:
        raise _bad("By this rule no review would ever be due.")
    if len(first) == 2 and first[1] - first[0] < LEAST_APART - timedelta(hours=2):
        raise _bad("A review recurs daily at most.")
    return recurrence


def words(rule: str) -> str:
    """A rule as people say it: one of the plain choices, else the rule itself; empty for none."""
    bare = re.sub(r"(;BYMONTH=\d+)?;BYMONTHDAY=28[,\d]*;BYSETPOS=-1$", "", rule)
    return next((f"every {name}" for name, plain in PLAIN.items() if plain == bare), rule)


def _last_days(plain: str, starts: datetime) -> str:
    """For plain choices that start on a day which not every month has: the last day that there is, instead of none.

    RFC 5545 leaves such months out, which is not what somebody means who says every quarter.
    """
    if starts.day <= 28:
        return ""
    days = ",".join(str(day) for day in range(28, starts.day + 1))
    month = f";BYMONTH={starts.month}" if plain == PLAIN["year"] else ""
    return f"{month};BYMONTHDAY={days};BYSETPOS=-1"


def _bad(detail: str) -> BadInput:
    plain = ", ".join(PLAIN)
    return BadInput(detail, f"Choose {plain}, or write a rule like FREQ=MONTHLY;BYDAY=1MO.", {"recurrence": "unfit"})
