"""Windows, last days over clock changes, weekly hours."""

from __future__ import annotations

from datetime import UTC, date, datetime, time
from zoneinfo import ZoneInfo

import pytest

from openlatch.core.time_windows import WeeklyHours, Window, end_of_last_day, open_at

LONDON = ZoneInfo("Europe/London")


def test_a_window_is_half_open() -> None:
    """Its first instant is in it, its end is not."""
    since, until = datetime(2026, 1, 1, tzinfo=UTC), datetime(2026, 2, 1, tzinfo=UTC)
    window = Window(since, until)
    assert window.contains(since)
    assert not window.contains(until)
    assert Window(until, since).is_empty


@pytest.mark.parametrize(
    ("day", "end"),
    [
        ("2026-01-15", "2026-01-16T00:00:00+00:00"),
        ("2026-07-15", "2026-07-15T23:00:00+00:00"),
        ("2026-03-29", "2026-03-29T23:00:00+00:00"),  # clocks go forward: 23 hours
        ("2026-10-25", "2026-10-26T00:00:00+00:00"),  # clocks go back: 25 hours
        ("2028-02-29", "2028-03-01T00:00:00+00:00"),
    ],
)
def test_a_last_day_counts_to_its_end(day: str, end: str) -> None:
    """As clocks in the account's time zone show it, on long and short days too."""
    assert end_of_last_day(date.fromisoformat(day), LONDON) == datetime.fromisoformat(end)


def test_a_far_away_day_is_no_end() -> None:
    """Year 9999 is how programs write "never"."""
    assert end_of_last_day(date(9999, 12, 31), LONDON) is None


def test_weekly_hours_follow_the_clocks_on_the_wall() -> None:
    """09:00 stays 09:00 when the clocks change, and a night belongs to the day on which it begins."""
    office = WeeklyHours(frozenset(range(5)), time(9), time(17))
    assert open_at([office], datetime(2026, 3, 27, 9, 30, tzinfo=UTC), LONDON)
    assert open_at([office], datetime(2026, 3, 30, 8, 30, tzinfo=UTC), LONDON)
    assert not open_at([office], datetime(2026, 3, 30, 7, 30, tzinfo=UTC), LONDON)
    night = WeeklyHours(frozenset({4}), time(22), time(6))
    assert open_at([night], datetime(2026, 1, 3, 5, tzinfo=UTC), LONDON)
    assert not open_at([night], datetime(2026, 1, 2, 5, tzinfo=UTC), LONDON)
