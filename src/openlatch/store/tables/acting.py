"""Visits to accounts."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import ForeignKey, Index, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.store.tables.base import Base, Owned


class Visit(Owned, Base):
    """Somebody switched into an account: from when to when, and by which sign-in."""

    __tablename__ = "visits"
    __table_args__ = (
        Index("ix_visits_account_id", "account_id", "began_at"),
        Index("ix_visits_going_on", "sign_in_id", postgresql_where=text("ended_at is null")),
    )

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    owner_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    by_token: Mapped[bool] = mapped_column(server_default="false")
    scope: Mapped[str | None]
    began_at: Mapped[datetime]
    runs_out_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    ended_as: Mapped[str | None]
