"""Requests and answers about schedules of reviews."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import Field, NaiveDatetime

from openlatch.wire.answers import Answer, Named
from openlatch.wire.requests import Request, Sentence

__all__ = ["ScheduleDates", "SchedulePage", "SchedulePlan", "ScheduleRow"]


class SchedulePlan(Request):
    """A schedule as it is to be."""

    name: Sentence = Field(examples=["Sensitive accounts"])
    scope: str = Field("", description="A filter over grants.", examples=["account.sensitivity ge 3"])
    recurrence: str = Field(
        max_length=500,
        description="month, quarter, half-year, year, or a rule by RFC 5545.",
        examples=["quarter", "FREQ=MONTHLY;BYDAY=1MO"],
    )
    starts: NaiveDatetime = Field(description="The first time, as clocks in time_zone show it.")
    time_zone: str = Field("", description="Left out, the organisation's.")
    days_to_decide: int = 14
    reviewer: UUID | None = Field(None, description="Who decides; left out, each account's owner.")
    acts: Literal["when_decided", "at_close"] = "when_decided"
    undecided: Literal["keep", "revoke"] = "keep"
    paused: bool = False


class ScheduleDates(Answer):
    """The next times that a schedule would be due."""

    next: list[datetime]


class ScheduleRow(Named):
    """A schedule in a list."""

    scope: str
    recurrence: str
    time_zone: str
    starts: str
    days_to_decide: int
    acts: str
    undecided: str
    reviewer: Named | None
    paused: bool
    due_at: datetime | None
    answer: str
    version: int


class SchedulePage(ScheduleRow):
    """A schedule with the next times that it is due, and how many rounds came of it."""

    next: list[datetime]
    rounds: int
