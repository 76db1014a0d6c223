"""What other services report about people: which services, and which events."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base, Owned


class SignalSource(Owned, Base):
    """A transmitter of security events (OpenID Shared Signals Framework), and what each kind of event makes happen.

    Of the token that it shows only the hash is kept. ``system_id``: names of its own are logins there.
    """

    __tablename__ = "signal_sources"
    __table_args__ = (UniqueConstraint("organisation_id", "name"),)

    name: Mapped[str]
    issuer: Mapped[str]
    audience: Mapped[str]
    token_hash: Mapped[bytes]
    system_id: Mapped[UUID | None] = mapped_column(ForeignKey("systems.id"))
    reactions: Mapped[JsonObject] = mapped_column(server_default="{}")
    heard_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class ReceivedSignal(Owned, Base):
    """An event that was reported. It counts once, by the token's id; of whom it tells only a person of the register is
    kept.
    """

    __tablename__ = "received_signals"
    __table_args__ = (
        UniqueConstraint("source_id", "ident"),
        Index("ix_received_signals_received_at", "organisation_id", "received_at"),
    )

    source_id: Mapped[UUID] = mapped_column(ForeignKey("signal_sources.id", ondelete="CASCADE"))
    ident: Mapped[str]
    event: Mapped[str]
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    at: Mapped[datetime]
    received_at: Mapped[datetime]
    reason: Mapped[str] = mapped_column(server_default="")
    reaction: Mapped[str]
    outcome: Mapped[str] = mapped_column(server_default="")
