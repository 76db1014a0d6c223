"""Figures over time."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import Literal

from pydantic import Field

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Named, Request

__all__ = ["Measure", "Move", "TrendPoint", "TrendSpan", "Trends", "TrendsQuery", "UnrecordedIn", "WantLetter"]


# How long a period is.
TrendSpan = Literal["day", "week", "month"]


class Measure(StrEnum):
    """What is counted."""

    RISK = "risk"
    DEPARTURES = "departures"
    CONFIRMED = "confirmed"
    REVIEWED = "reviewed"
    EXPOSURES = "exposures"
    UNRECORDED = "unrecorded"


class TrendsQuery(Request):
    """Which days, and how long a period is."""

    since: date | None = Field(None, description="A day of the first period; about a dozen periods when left out.")
    until: date | None = Field(None, description="A day of the last period; today when left out.")
    span: TrendSpan = Field("week", description="How long a period is. Weeks begin on Monday.")


class Move(Answer):
    """What moved a figure within a period, with the page about it."""

    measure: Measure
    sentence: Said
    page: str = ""


class UnrecordedIn(Answer):
    """How much access in a system nobody has recorded."""

    system: Named
    count: int


class TrendPoint(Answer):
    """The figures of a period. Counts are of its end; null where nothing is known of that time."""

    first: date
    last: date
    begins: datetime
    ends: datetime
    risk: int | None = Field(description="The scores of all open flags together, as they were when they last changed.")
    flags: int | None = Field(description="Open flags.")
    exposures: int | None = Field(description="What is open to outsiders, without what guards of systems keep shut.")
    unrecorded: list[UnrecordedIn] | None = Field(description="Live access in systems that nobody has recorded.")
    departures: int = Field(description="How many people left with access to end.")
    departures_over: int = Field(
        description="Of how many all was confirmed as gone by the systems in the period, and no live grant is known."
    )
    departure_days: float | None = Field(description="Days from departure until all is confirmed as gone; the median.")
    departures_open: int = Field(description="Of how many not all was confirmed as gone at the end.")
    confirmed: int = Field(description="Revocations that the systems confirmed within the period.")
    confirm_hours: float | None = Field(description="Hours until confirmed; the median.")
    confirm_hours_slow: float | None = Field(description="Hours until confirmed; the ninth decile.")
    waiting: int = Field(description="Revocations begun and not over at the end.")
    due_items: int = Field(description="Items of the reviews that were due.")
    decided_in_time: int = Field(description="How many of these somebody had decided by then.")
    moves: list[Move]


class Trends(Answer):
    """Figures over time, the earliest period first."""

    span: TrendSpan
    time_zone: str
    known_since: datetime | None = Field(description="When the journal begins; of the time before nothing is known.")
    points: list[TrendPoint]


class WantLetter(Request):
    """Whether one gets the monthly letter about figures over time."""

    wants: bool
