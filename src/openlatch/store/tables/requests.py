"""Requests for access."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, SmallInteger, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList
from openlatch.store.tables.base import Base, Owned


class AccessRequest(Owned, Base):
    """A wish for access put to an account's owner. Without an account it was put to an owner by address.

    One that ``extends`` a grant asks for more time on it.
    """

    __tablename__ = "requests"
    __table_args__ = (
        CheckConstraint("state in ('pending', 'granted', 'declined', 'withdrawn', 'run_out')", name="state"),
        Index("ix_requests_account_id", "account_id", "state"),
        Index("ix_requests_person_id", "person_id", "state"),
        Index(
            "uq_requests_pending",
            "person_id",
            text("coalesce(extends_id::text, account_id::text, owner_address)"),
            unique=True,
            postgresql_where=text("state = 'pending'"),
        ),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    owner_address: Mapped[str] = mapped_column(server_default="")
    wanted: Mapped[str] = mapped_column(server_default="")
    extends_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    level_id: Mapped[UUID | None] = mapped_column(ForeignKey("levels.id"))
    resources: Mapped[JsonList] = mapped_column(server_default="[]")
    until: Mapped[datetime | None]
    reason: Mapped[str]
    emergency: Mapped[bool] = mapped_column(server_default="false")
    state: Mapped[str] = mapped_column(server_default="pending")
    asked_at: Mapped[datetime]
    times_asked: Mapped[int] = mapped_column(SmallInteger, server_default="1")
    runs_out_at: Mapped[datetime]
    answered_at: Mapped[datetime | None]
    answered_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    answer: Mapped[str] = mapped_column(server_default="")
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    version: Mapped[int] = mapped_column(server_default="1")
