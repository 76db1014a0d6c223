"""Notices and mail that waits."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import ForeignKey, Index, SmallInteger, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.store.tables.base import Base, Owned


class Notice(Owned, Base):
    """Something that a person is told in the console."""

    __tablename__ = "notices"
    __table_args__ = (Index("ix_notices_person_id", "person_id", "at"),)

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    kind: Mapped[str]
    sentence: Mapped[str]
    page: Mapped[str] = mapped_column(server_default="")
    at: Mapped[datetime]
    read_at: Mapped[datetime | None]


class Mail(Owned, Base):
    """A message on its way. Its content is encrypted, since it can hold a link, and is gone once it is sent."""

    __tablename__ = "mails"
    __table_args__ = (Index("ix_mails_due", "next_try_at", postgresql_where=text("state = 'waiting'")),)

    recipient: Mapped[str]
    subject: Mapped[str]
    content: Mapped[bytes | None]
    state: Mapped[str] = mapped_column(server_default="waiting")
    tries: Mapped[int] = mapped_column(SmallInteger, server_default="0")
    answer: Mapped[str] = mapped_column(server_default="")
    next_try_at: Mapped[datetime]
    sent_at: Mapped[datetime | None]
