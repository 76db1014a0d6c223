"""Requests for access."""

from __future__ import annotations

from datetime import date, datetime
from uuid import UUID

from pydantic import Field

from openlatch.json_values import JsonObject
from openlatch.schemas.base import Answer, Day, Instant, Named, Request, Sentence, ShortText
from openlatch.schemas.latches import Breach
from openlatch.schemas.offers import Choice

__all__ = [
    "AskAccess",
    "GrantRequest",
    "RequestRow",
]


class AskAccess(Request):
    """A wish for access: to an account by id or exact name, or put to its owner by address."""

    account: UUID | None = None
    account_name: ShortText = ""
    owner_address: ShortText = ""
    level: UUID | None = None
    parts: list[UUID] = Field(default_factory=list, max_length=200)
    until: Instant | None = None
    last_day: Day | None = Field(None, description="Counts to its end, where the account is.")
    reason: Sentence
    emergency: bool = False
    extends: UUID | None = Field(None, description="A grant of your own on which you ask for more time.")


class RequestRow(Answer):
    """A request for access."""

    id: UUID
    state: str
    emergency: bool
    extends: UUID | None = Field(description="The grant on which more time is asked for; absent for new access.")
    person: JsonObject
    account: Named | None
    owner_address: str
    wanted: str
    level: Named | None
    reach: int | None
    resources: list[str]
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    reason: str
    asked_at: datetime
    times_asked: int
    runs_out_at: datetime
    answered_at: datetime | None
    answered_by: Named | None
    answer: str
    grant_id: UUID | None
    version: int
    warnings: list[Breach] = Field(default_factory=list)


class GrantRequest(Choice):
    """How a request is granted: as it was asked where nothing is said, else less or for a shorter time."""

    account: UUID | None = None
    words: Sentence = ""
