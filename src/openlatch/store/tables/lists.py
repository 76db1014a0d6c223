"""Saved filters."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Owned


class SavedFilter(Owned, Base):
    """A filter over a list (``of``), which somebody has kept by a name; with ``is_shared`` everybody may use it."""

    __tablename__ = "saved_filters"
    __table_args__ = (UniqueConstraint("person_id", "of", "name"),)

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    name: Mapped[str]
    of: Mapped[str]
    filter: Mapped[str] = mapped_column(server_default="")
    search: Mapped[str] = mapped_column(server_default="")
    sort: Mapped[str] = mapped_column(server_default="")
    is_shared: Mapped[bool] = mapped_column(server_default="false")
    version: Mapped[int] = mapped_column(server_default="1")


class FileMatching(Owned, Base):
    """Which columns of files of a kind are which fields, for files with just these ``columns``, in order of letters."""

    __tablename__ = "file_matchings"
    __table_args__ = (UniqueConstraint("organisation_id", "kind", "columns"),)

    kind: Mapped[str]
    columns: Mapped[JsonList]
    matching: Mapped[JsonObject]
    used_at: Mapped[datetime]


class FilterMail(Owned, Base):
    """That somebody gets mail of what matches a filter, every day or every week."""

    __tablename__ = "filter_mails"
    __table_args__ = (
        UniqueConstraint("filter_id", "person_id"),
        CheckConstraint("every in ('day', 'week')", name="every"),
    )

    filter_id: Mapped[UUID] = mapped_column(ForeignKey("saved_filters.id"))
    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    every: Mapped[str]
    sent_at: Mapped[datetime]
