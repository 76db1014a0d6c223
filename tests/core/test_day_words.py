"""Days as people type them."""

from __future__ import annotations

from contextlib import suppress
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.day_words import read_day
from openlatch.errors import BadInput

TODAY = date(2026, 11, 29)


@pytest.mark.parametrize(
    ("words", "day"),
    [
        ("2027-03-31", "2027-03-31"),
        ("31 Mar", "2027-03-31"),
        ("31st of March", "2027-03-31"),
        ("Mar 31, 2028", "2028-03-31"),
        ("Sept 3", "2027-09-03"),
        ("29 nov", "2026-11-29"),
        ("28 nov", "2027-11-28"),
        ("29 Feb", "2028-02-29"),
        ("31.3.", "2027-03-31"),
        ("3/4/27", "2027-04-03"),
        ("tomorrow", "2026-11-30"),
        ("in 6 weeks", "2027-01-10"),
        ("a month", "2026-12-29"),
        ("3 months", "2027-02-28"),
        ("Friday", "2026-12-04"),
        ("next sun", "2026-12-06"),
        ("end of the week", "2026-11-29"),
        ("end of month", "2026-11-30"),
        ("end of next month", "2026-12-31"),
        ("the end of June", "2027-06-30"),
        ("end of february 2028", "2028-02-29"),
        ("end of next year", "2027-12-31"),
        ("31. März", "2027-03-31"),
        ("am 3. Dez 2027", "2027-12-03"),
        ("in 6 Wochen", "2027-01-10"),
        ("übermorgen", "2026-12-01"),
        ("nächsten Freitag", "2026-12-04"),
        ("Ende des Jahres", "2026-12-31"),
    ],
)
def test_a_day_is_read_as_it_is_typed(words: str, day: str) -> None:
    """Without a year, the next one."""
    assert read_day(words, TODAY) == date.fromisoformat(day)


@pytest.mark.parametrize(
    ("words", "day"),
    [
        ("31 Mar", "2026-03-31"),
        ("29 Nov", "2026-11-29"),
        ("30 Nov", "2025-11-30"),
        ("29 Feb", "2024-02-29"),
        ("1.1.", "2026-01-01"),
        ("6 weeks ago", "2026-10-18"),
        ("a month ago", "2026-10-29"),
        ("Friday", "2026-11-27"),
        ("sunday", "2026-11-22"),
        ("next friday", "2026-12-04"),
        ("end of June", "2026-06-30"),
        ("end of last month", "2026-10-31"),
        ("vor 6 Wochen", "2026-10-18"),
        ("gestern", "2026-11-28"),
    ],
)
def test_where_days_of_the_past_are_asked_for_it_is_the_last_one(words: str, day: str) -> None:
    assert read_day(words, TODAY, is_past=True) == date.fromisoformat(day)


def test_numbers_are_in_the_order_of_the_language() -> None:
    """Except with dots, which nobody writes with the month first."""
    assert read_day("3/4/2027", TODAY, is_month_first=True) == date(2027, 3, 4)
    assert read_day("3.4.2027", TODAY, is_month_first=True) == date(2027, 4, 3)


@pytest.mark.parametrize(
    "words",
    [
        "",
        "31 Feb",
        "soon",
        "mayhem 3",
        "fry",
        "2026-13-01",
        "99999 years",
        "9999 years ago",
        "0001-01-01",
        "32.1.",
        "end of days",
        "9999 years",
    ],
)
def test_what_is_no_day_is_refused_with_examples(words: str) -> None:
    with pytest.raises(BadInput, match="is not a day"):
        read_day(words, TODAY)


@given(st.dates(TODAY, date(2027, 11, 28)), st.sampled_from(["%d %B", "%B %d", "%d %b %Y", "%d.%m.%Y", "%Y-%m-%d"]))
def test_every_day_of_the_coming_year_is_read_back(day: date, form: str) -> None:
    assert read_day(day.strftime(form), TODAY) == day


@given(st.text(max_size=30))
def test_nothing_typed_breaks_it(words: str) -> None:
    with suppress(BadInput):
        assert isinstance(read_day(words, TODAY), date)
