"""The answer to what needs a person today."""

from __future__ import annotations

from datetime import date

from pydantic import Field

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Request
from openlatch.schemas.flags import FlagRow
from openlatch.schemas.grants import LargeChangePage
from openlatch.schemas.reviews import RoundRow
from openlatch.schemas.revocations import RevocationRow
from openlatch.schemas.systems import SystemRow

__all__ = [
    "DayRead",
    "DayWords",
    "Glossary",
    "GlossaryWord",
    "RuleCount",
    "Today",
    "TodayExposures",
    "TodayFlags",
    "WeekOfEnds",
]


class RuleCount(Answer):
    """How many flags a rule has open."""

    rule: str
    title: Said
    count: int


class TodayFlags(Answer):
    """The worst open flags, and how many there are."""

    worst: list[FlagRow]
    by_severity: dict[str, int]
    by_rule: list[RuleCount]


class WeekOfEnds(Answer):
    """How many grants end in a week."""

    week_begins: str
    count: int


class TodayExposures(Answer):
    """How much is open to outsiders of what one answers for."""

    open: int
    unjudged: int = Field(description="Of which nobody has said yet whether it is intended.")
    anyone_changes: int = Field(description="By which anyone, whoever signs in, or has a link can change something.")


class Today(Answer):
    """What needs a person today."""

    flags: TodayFlags
    items_to_decide: int
    questions_to_answer: int
    offers_pending: int
    requests_pending: int
    rounds: list[RoundRow]
    revocations: list[RevocationRow]
    revocations_going_on: int
    ends: list[WeekOfEnds]
    exposures: TodayExposures
    changes: list[LargeChangePage] = Field(
        description="Changes of many grants that go on, or ended within a day; without their lines."
    )
    systems_down: list[SystemRow]
    counts: dict[str, int]


class DayWords(Request):
    """A day as somebody typed it."""

    words: str = Field(min_length=1, max_length=60)
    past: bool = Field(False, description="Whether a day without a year is the last one, and not the next.")
    month_first: bool = Field(False, description="Whether 3/4 is the fourth of March.")


class GlossaryWord(Answer):
    """A word of the register, and what it means."""

    word: str
    meaning: Said


class Glossary(Answer):
    """The glossary, by word."""

    words: list[GlossaryWord]


class DayRead(Answer):
    """The day that was meant."""

    day: date
