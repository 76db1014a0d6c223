"""Days as people type them: "31 Mar", "31.3.", "tomorrow", "friday", "in 6 weeks", "3 weeks ago", "end of April"; in
German, too: "31. März", "in 6 Wochen", "vor 3 Wochen", "Ende April".

A day without a year is the next one, or the last one where days of the past are asked for. Where day and month are
numbers, the order is that of the language (day first, except in American English).
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, timedelta

from openlatch.errors import BadInput

EXAMPLES = "31 Mar, 2026-03-31, in 6 weeks, friday, end of June"
EXAMPLES_OF_PAST = "31 Mar, 2026-03-31, 6 weeks ago, friday, end of June"
_MONTHS = ["january", "february", "march", "april", "may", "june"]
_MONTHS += ["july", "august", "september", "october", "november", "december"]
_WEEKDAYS = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
# Enough letters of a name to know it by.
_LETTERS = 3
_DAYS = {"day": 1, "week": 7, "fortnight": 14}
_NUMBERS = {"a": 1, "an": 1, "one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6}
_FIRST_YEAR, _LAST_YEAR = 1000, 9000


@dataclass(frozen=True, slots=True)
class _Seen:
    """From which day words are read, in which direction, and in which order numbers stand."""

    today: date
    is_past: bool
    is_month_first: bool

    def fits(self, day: date) -> bool:
        """Whether it is not on the wrong side of today."""
        return day <= self.today if self.is_past else day >= self.today

    @property
    def years(self) -> list[int]:
        """The present year and those in the direction, far enough for a 29th of February."""
        return [self.today.year + (-ahead if self.is_past else ahead) for ahead in range(9)]


def read_day(words: str, today: date, *, is_past: bool = False, is_month_first: bool = False) -> date:
    """The day that is meant, as seen from ``today``. BadInput with examples when it is none."""
    told = _in_english(re.sub(r"[\s,]+", " ", words.strip().lower())).removeprefix("on ").removeprefix("until ")
    told = told.removesuffix(".") if re.fullmatch(r".*[a-z]\.", told) else told
    seen = _Seen(today, is_past, is_month_first)
    for pattern, read in _FORMS:
        if found := re.fullmatch(pattern, told):
            try:
                day = read(found, seen)
            except (ValueError, OverflowError):
                break
            if day is not None and _FIRST_YEAR <= day.year <= _LAST_YEAR:
                return day
    examples = EXAMPLES_OF_PAST if is_past else EXAMPLES
    raise BadInput(f"{words.strip()[:60]!r} is not a day.", f"Write it like: {examples}.", {"words": "is not a day"})


# German words by the English ones that they are read as; names of months and weekdays are known by their beginnings.
_GERMAN = (
    {"heute": "today", "morgen": "tomorrow", "gestern": "yesterday", "ende": "end of", "am": "", "den": "", "bis": ""}
    | {"übermorgen": "in 2 days", "vorgestern": "2 days ago"}
    | dict.fromkeys(("des", "der"), "the")
    | dict.fromkeys(("dieser", "dieses"), "this")
    | dict.fromkeys(("ein", "eine", "einem", "einer"), "a")
    | {"zwei": "two", "drei": "three", "vier": "four", "fünf": "five", "sechs": "six"}
    | {"tag": "day", "woche": "week", "wochen": "weeks"}
    | dict.fromkeys(("tage", "tagen"), "days")
    | dict.fromkeys(("monat", "monats"), "month")
    | dict.fromkeys(("monate", "monaten"), "months")
    | dict.fromkeys(("jahr", "jahres"), "year")
    | dict.fromkeys(("jahre", "jahren"), "years")
    | dict.fromkeys(("nächster", "nächste", "nächsten", "nächstes"), "next")
    | dict.fromkeys(("letzter", "letzte", "letzten", "letztes"), "last")
    | dict.fromkeys(("januar", "jän", "jänner"), "january")
    | dict.fromkeys(("mär", "mrz", "märz"), "march")
    | {"februar": "february", "mai": "may", "juni": "june", "juli": "july"}
    | {"okt": "october", "oktober": "october", "dez": "december", "dezember": "december"}
    | {"montag": "monday", "dienstag": "tuesday", "mittwoch": "wednesday", "donnerstag": "thursday"}
    | {"freitag": "friday", "samstag": "saturday", "sonnabend": "saturday", "sonntag": "sunday"}
)


def _in_english(told: str) -> str:
    """Words as they are read. In German a day may have a dot before its month, and "ago" stands in front."""
    said = re.sub(r"[^\W\d_]+", lambda word: _GERMAN.get(word[0], word[0]), told)
    if said == told and not told.startswith("vor "):
        return told
    said = re.sub(r"^vor (.*)$", r"\1 ago", re.sub(r"(\d)\. ", r"\1 ", said))
    return re.sub(r" +", " ", said).strip()


Read = Callable[[re.Match[str], _Seen], date | None]


def _iso(found: re.Match[str], seen: _Seen) -> date:
    return date(int(found[1]), int(found[2]), int(found[3]))


def _relative(found: re.Match[str], seen: _Seen) -> date:
    return seen.today + timedelta(days={"today": 0, "tomorrow": 1, "yesterday": -1}[found[0]])


def _in_some(found: re.Match[str], seen: _Seen) -> date:
    """Some days, weeks, months or years on; back where it says "ago"."""
    count = _NUMBERS.get(found[1]) or int(found[1])
    count = -count if found[3] else count
    unit = found[2].removesuffix("s")
    if unit in _DAYS:
        return seen.today + timedelta(days=count * _DAYS[unit])
    return _months_on(seen.today, count * (12 if unit == "year" else 1))


def _months_on(day: date, months: int) -> date:
    """The same day some months on; the last of the month where that is shorter."""
    year, month = divmod(day.year * 12 + day.month - 1 + months, 12)
    return date(year, month + 1, min(day.day, calendar.monthrange(year, month + 1)[1]))


def _weekday(found: re.Match[str], seen: _Seen) -> date | None:
    """The next such day after today, or the last one before it."""
    weekday = _place(found[2], _WEEKDAYS)
    if weekday is None:
        return None
    is_past = found[1] == "last " or (seen.is_past and found[1] != "next ")
    if is_past:
        return seen.today - timedelta(days=(seen.today.weekday() - weekday - 1) % 7 + 1)
    return seen.today + timedelta(days=(weekday - seen.today.weekday() - 1) % 7 + 1)


def _end(found: re.Match[str], seen: _Seen) -> date | None:
    """The end of this, the next or the last week, month or year, or of a month by its name."""
    what, ahead = found[2], {"next ": 1, "last ": -1}.get(found[1] or "", 0)
    match what:
        case "week":
            return seen.today + timedelta(days=6 - seen.today.weekday() + 7 * ahead)
        case "month":
            return _month_end(_months_on(seen.today.replace(day=1), ahead))
        case "year":
            return date(seen.today.year + ahead, 12, 31)
    month = _month(what)
    if month is None:
        return None
    if found[3]:
        return _month_end(date(int(found[3]), month, 1))
    return next(end for year in seen.years if seen.fits(end := _month_end(date(year, month, 1))))


def _month_end(day: date) -> date:
    return day.replace(day=calendar.monthrange(day.year, day.month)[1])


def _place(name: str, names: list[str]) -> int | None:
    """Which of the names begins so; None when none does."""
    return next((at for at, full in enumerate(names) if len(name) >= _LETTERS and full.startswith(name)), None)


def _month(name: str) -> int | None:
    place = _place(name, _MONTHS)
    return None if place is None else place + 1


def _named(found: re.Match[str], seen: _Seen) -> date | None:
    """A day with its month by name, in either order."""
    groups = found.groupdict()
    month = _month(groups["month"])
    return _dated(seen, month, int(groups["day"]), groups["year"]) if month else None


def _numbered(found: re.Match[str], seen: _Seen) -> date:
    """A day and a month by numbers: with dots always the day first."""
    one, other = int(found[1]), int(found[3])
    day, month = (other, one) if seen.is_month_first and found[2] != "." else (one, other)
    return _dated(seen, month, day, found[4])


def _dated(seen: _Seen, month: int, day: int, year: str | None) -> date:
    """The day of that year, or without one the nearest in the direction. ValueError when there is none."""
    if year:
        return date(int(year) + (2000 if len(year) == len("26") else 0), month, day)
    for each in seen.years:
        if day <= calendar.monthrange(each, month)[1] and seen.fits(found := date(each, month, day)):
            return found
    raise ValueError


_DAY, _NAME, _YEAR = r"(?P<day>\d{1,2})(?:st|nd|rd|th|\.)?", r"(?P<month>[a-z]{3,9})", r"(?: (?P<year>\d{4}|\d{2}))?"
_FORMS: tuple[tuple[str, Read], ...] = (
    (r"(\d{4})-(\d{2})-(\d{2})", _iso),
    (r"today|tomorrow|yesterday", _relative),
    (r"(?:in )?(\d{1,4}|a|an|one|two|three|four|five|six) (days?|weeks?|fortnights?|months?|years?)( ago)?", _in_some),
    (r"(next |last )?([a-z]{3,9})", _weekday),
    (r"(?:the )?end of (the |this |next |last )?([a-z]{3,9})(?: (\d{4}))?", _end),
    (rf"{_DAY} ?(?:of )?{_NAME}{_YEAR}", _named),
    (rf"{_NAME} {_DAY}{_YEAR}", _named),
    (r"(\d{1,2})([./])(\d{1,2})(?:[./](\d{4}|\d{2})?)?", _numbered),
)
