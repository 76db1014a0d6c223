"""Recurrence with a moved clock over five years: against dateutil, by hand, and over changes of the clocks."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from dateutil.rrule import rrulestr
from dateutil.tz import gettz

from openlatch.core.reviews.recurrence import PLAIN, Recurrence, checked, words
from openlatch.errors import BadInput

LONDON = ZoneInfo("Europe/London")
START = datetime(2026, 1, 31, 9)
RULES = [*PLAIN.values(), "FREQ=WEEKLY;BYDAY=MO,TH", "FREQ=MONTHLY;BYDAY=-1FR", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29"]


@pytest.mark.parametrize("rule", RULES)
def test_five_years_of_each_rule_are_what_dateutil_says_in_that_zone(rule: str) -> None:
    """Every instant of them, asked for in steps as a clock goes on."""
    zone = gettz("Europe/London")
    end = datetime(2031, 1, 31, tzinfo=UTC)
    wanted = []
    for at in rrulestr(rule, dtstart=START.replace(tzinfo=zone)).xafter(datetime(2025, 1, 1, tzinfo=zone)):
        if at.astimezone(UTC) > end:
            break
        wanted.append(at.astimezone(UTC))
    recurrence, found, opened = checked(rule, LONDON, START), [], None
    now = datetime(2026, 1, 1, tzinfo=UTC)
    while now <= end:
        due = recurrence.due(opened, now)
        if due is not None:
            found.append(due)
            opened = due
        now += timedelta(hours=11)
    assert found == [at for at in wanted if at <= now - timedelta(hours=11)]
    assert {at.astimezone(LONDON).hour for at in found} == {9}


def test_by_hand_the_end_of_the_month_and_the_leap_day() -> None:
    """A month without a 31st has none; a year without a 29th of February has none."""
    monthly = checked("FREQ=MONTHLY", LONDON, START)
    assert [at.date() for at in monthly.following(datetime(2026, 1, 1, tzinfo=UTC), 4)] == [
        date(2026, 1, 31),
        date(2026, 3, 31),
        date(2026, 5, 31),
        date(2026, 7, 31),
    ]
    leap = checked("FREQ=YEARLY", LONDON, datetime(2028, 2, 29, 9))
    assert [at.year for at in leap.following(datetime(2027, 1, 1, tzinfo=UTC), 2)] == [2028, 2032]


def test_clocks_that_jump_and_go_back_shift_nothing_and_double_nothing() -> None:
    """09:00 stays 09:00; a time that is jumped over is due all the same, one that comes twice is due once."""
    weekly = checked("FREQ=WEEKLY", LONDON, datetime(2026, 3, 22, 9))
    assert [at.hour for at in weekly.following(datetime(2026, 3, 1, tzinfo=UTC), 3)] == [9, 8, 8]
    jumped = checked("FREQ=DAILY;COUNT=3", LONDON, datetime(2026, 3, 28, 1, 30))
    assert [at.isoformat() for at in jumped.following(datetime(2026, 3, 1, tzinfo=UTC), 9)] == [
        "2026-03-28T01:30:00+00:00",
        "2026-03-29T01:30:00+00:00",
        "2026-03-30T00:30:00+00:00",
    ]
    twice = checked("FREQ=DAILY;COUNT=3", LONDON, datetime(2026, 10, 24, 1, 30))
    assert [at.isoformat() for at in twice.following(datetime(2026, 10, 1, tzinfo=UTC), 9)] == [
        "2026-10-24T00:30:00+00:00",
        "2026-10-25T00:30:00+00:00",
        "2026-10-26T01:30:00+00:00",
    ]


def test_what_was_missed_is_due_once_and_late() -> None:
    """The latest of it; and nothing before the first time."""
    monthly = Recurrence("FREQ=MONTHLY", LONDON, datetime(2026, 1, 1, 9))
    assert monthly.due(None, datetime(2025, 12, 31, tzinfo=UTC)) is None
    late = monthly.due(datetime(2026, 1, 1, 9, tzinfo=UTC), datetime(2026, 4, 20, tzinfo=UTC))
    assert late == datetime(2026, 4, 1, 8, tzinfo=UTC)
    assert monthly.due(late, datetime(2026, 4, 30, tzinfo=UTC)) is None


@pytest.mark.parametrize(
    ("rule", "said"),
    [
        ("FREQ=HOURLY", "daily at most"),
        ("FREQ=DAILY;BYHOUR=9,12", "daily at most"),
        ("FREQ=SOMETIMES", "can't be read"),
        ("every now and then", "can't be read"),
        ("", "can't be read"),
        ("FREQ=YEARLY;UNTIL=20200101", "would ever be due"),
        ("DTSTART:20260101T090000\nRRULE:FREQ=DAILY", "daily at most"),
    ],
)
def test_rules_that_are_refused(rule: str, said: str) -> None:
    """With what to write instead."""
    with pytest.raises(BadInput, match=said) as error:
        checked(rule, LONDON, START)
    assert "FREQ=MONTHLY;BYDAY=1MO" in error.value.remedy


def test_a_plain_choice_never_skips_a_month_that_is_too_short() -> None:
    """Every quarter from 30 November is in February, too; a rule of one's own means what it says."""
    start, zone = datetime(2026, 11, 30, 9), ZoneInfo("Europe/London")
    after = datetime(2026, 11, 1, tzinfo=UTC)
    quarterly = checked("quarter", zone, start).following(after, 3)
    assert [at.date().isoformat() for at in quarterly] == ["2026-11-30", "2027-02-28", "2027-05-30"]
    leap = checked("year", zone, datetime(2028, 2, 29, 9)).following(datetime(2028, 1, 1, tzinfo=UTC), 3)
    assert [at.date().isoformat() for at in leap] == ["2028-02-29", "2029-02-28", "2030-02-28"]
    assert words(checked("quarter", zone, start).rule) == words(PLAIN["quarter"]) == "every quarter"
    assert words(checked("year", zone, datetime(2028, 2, 29, 9)).rule) == "every year"
    assert words("FREQ=MONTHLY;BYDAY=1MO") == "FREQ=MONTHLY;BYDAY=1MO"
    written = checked("FREQ=MONTHLY;INTERVAL=3", zone, start).following(after, 2)
    assert [at.date().isoformat() for at in written] == ["2026-11-30", "2027-05-30"]
