"""The periods that figures over time are counted in: days, weeks from Monday, or calendar months of one time zone."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from enum import StrEnum
from zoneinfo import ZoneInfo

from openlatch.errors import BadInput

MOST_PERIODS = 120
FIRST_YEAR = 2000


class Span(StrEnum):
    """How long a period is."""

    DAY = "day"
    WEEK = "week"
    MONTH = "month"


# How far back figures go unless a day is named: in days, about a dozen periods.
USUAL_DAYS = {Span.DAY: 13, Span.WEEK: 83, Span.MONTH: 330}


@dataclass(frozen=True, slots=True)
class Period:
    """A period from ``begins`` (included) to ``ends`` (excluded), with its first and last day."""

    begins: datetime
    ends: datetime
    first: date
    last: date


def first_day(day: date, span: Span) -> date:
    """The first day of the period that a day belongs to."""
    match span:
        case Span.DAY:
            return day
        case Span.WEEK:
            return day - timedelta(days=day.weekday())
        case Span.MONTH:
            return day.replace(day=1)


def _next(first: date, span: Span) -> date:
    match span:
        case Span.DAY:
            return first + timedelta(days=1)
        case Span.WEEK:
            return first + timedelta(days=7)
        case Span.MONTH:
            return (first + timedelta(days=32)).replace(day=1)


def periods(since: date | None, until: date | None, span: Span, zone: ZoneInfo, now: datetime) -> list[Period]:
    """Whole periods from the one with the day ``since`` to the one with the day ``until``, the last one up to ``now``.

    Without ``until`` to the present one, without ``since`` about a dozen. BadInput when the days are in the wrong
    order, in the future, or too many.
    """
    today = now.astimezone(zone).date()
    last = until or today
    if min(since or last, last).year < FIRST_YEAR:
        raise BadInput("Nothing is known of that time.", f"Name a day from {FIRST_YEAR} on.", {"since": "is too early"})
    first = first_day(since or last - timedelta(days=USUAL_DAYS[span]), span)
    if first > today:
        raise BadInput("These days are in the future.", "Name days up to today.", {"since": "is in the future"})
    if since is not None and since > last:
        raise BadInput(f"{since} is after {last}.", "Name the earlier day first.", {"since": "is after until"})
    found: list[Period] = []
    while first <= min(last, today):
        if len(found) == MOST_PERIODS:
            raise BadInput(
                f"That is more than {MOST_PERIODS} periods.",
                "Name fewer days, or longer periods.",
                {"span": "is too short for these days"},
            )
        after = _next(first, span)
        # What happens at the very instant of the question belongs to the answer.
        ends = min(_midnight(after, zone), now + timedelta(microseconds=1))
        found.append(Period(_midnight(first, zone), ends, first, min(after - timedelta(days=1), today)))
        first = after
    return found


def _midnight(day: date, zone: ZoneInfo) -> datetime:
    return datetime.combine(day, time(), zone).astimezone(UTC)
