"""Acting on behalf of an account."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from openlatch.schemas.base import Answer, Named, Request

__all__ = [
    "Switch",
    "VisitRow",
]


class Switch(Request):
    """The account to switch into."""

    account: UUID


class VisitRow(Answer):
    """That somebody switched into an account."""

    id: UUID
    person: Named
    account: Named
    owner: Named | None
    by_token: bool
    began_at: datetime
    runs_out_at: datetime | None
    ended_at: datetime | None
    ended_as: str | None
