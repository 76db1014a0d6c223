"""Notices."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from pydantic import Field

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Request

__all__ = [
    "NoticeRow",
    "ReadNotices",
]


class ReadNotices(Request):
    """The notices that were read; all of them when none is named."""

    notices: list[UUID] = Field(default_factory=list, max_length=500)


class NoticeRow(Answer):
    """Something that one is told."""

    id: UUID
    kind: str
    sentence: Said
    page: str
    at: datetime
    read_at: datetime | None
