"""Offers."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, SmallInteger, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.store.tables.base import Base, Owned


class Offer(Owned, Base):
    """An offer made to a holder: of access (a pending grant), or of an account's ownership.

    Only the hash of its link's token is kept. ``person_id`` is who has to answer: the holder, or who speaks for a team.
    """

    __tablename__ = "offers"
    __table_args__ = (
        CheckConstraint("(kind = 'access') = (grant_id is not null)", name="grant"),
        CheckConstraint(
            "state in ('pending', 'accepted', 'declined', 'unknown_sender', 'withdrawn', 'run_out')", name="state"
        ),
        Index("ix_offers_account_id", "account_id", "state"),
        Index("ix_offers_person_id", "person_id", "state"),
        Index("ix_offers_grant_id", "grant_id"),
        Index("ix_offers_pending", "runs_out_at", postgresql_where=text("state = 'pending'")),
        Index("ix_offers_token_hash", "token_hash", unique=True),
    )

    kind: Mapped[str] = mapped_column(server_default="access")
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    address: Mapped[str]
    sender_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    keeps_level_id: Mapped[UUID | None] = mapped_column(ForeignKey("levels.id"))
    reason: Mapped[str] = mapped_column(server_default="")
    state: Mapped[str] = mapped_column(server_default="pending")
    token_hash: Mapped[bytes]
    sent_at: Mapped[datetime]
    times_sent: Mapped[int] = mapped_column(SmallInteger, server_default="1")
    runs_out_at: Mapped[datetime]
    opened_at: Mapped[datetime | None]
    answered_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    version: Mapped[int] = mapped_column(server_default="1")
