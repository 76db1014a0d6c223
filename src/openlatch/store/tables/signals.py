"""What other services report about people: which services, and which events."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Owned


class SignalSource(Owned, Base):
    """A transmitter of security events (OpenID Shared Signals Framework), and what each kind of event makes happen.

    Of the token that it shows only the hash is kept. ``system_id``: names of its own are logins there. A stream that
    was made here at the transmitter has a ``stream_id``, and our token there, encrypted; one that is fetched has a
    ``poll_address``, and what ``failed`` when it was fetched last.
    """

    __tablename__ = "signal_sources"
    __table_args__ = (UniqueConstraint("organisation_id", "name"),)

    name: Mapped[str]
    issuer: Mapped[str]
    audience: Mapped[str]
    token_hash: Mapped[bytes]
    system_id: Mapped[UUID | None] = mapped_column(ForeignKey("systems.id"))
    reactions: Mapped[JsonObject] = mapped_column(server_default="{}")
    stream_id: Mapped[str] = mapped_column(server_default="")
    stream_token: Mapped[bytes | None] = mapped_column(deferred=True)
    poll_address: Mapped[str] = mapped_column(server_default="")
    failed: Mapped[str] = mapped_column(server_default="")
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


class SignalStream(Base):
    """The stream of security events to a receiver, whose row in ``webhooks`` has the same id.

    Of the token that the receiver shows only the hash is kept. ``set_up_at``: when the receiver made the stream; until
    then nothing is sent. ``requested``: the types that it asked for, None for all. ``authorization`` is the header that
    it wants to be shown, encrypted. ``left_out``: people of whom it wants to hear nothing. ``is_held``: an
    administrator has paused it, so that the receiver can't resume it.
    """

    __tablename__ = "signal_streams"

    id: Mapped[UUID] = mapped_column(ForeignKey("webhooks.id", ondelete="CASCADE"), primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    audience: Mapped[str]
    set_up_at: Mapped[datetime | None]
    requested: Mapped[JsonList | None]
    description: Mapped[str] = mapped_column(server_default="")
    authorization: Mapped[bytes | None] = mapped_column(deferred=True)
    left_out: Mapped[JsonList] = mapped_column(server_default="[]")
    is_disabled: Mapped[bool] = mapped_column(server_default="false")
    is_held: Mapped[bool] = mapped_column(server_default="false")
    reason: Mapped[str] = mapped_column(server_default="")
    verified_at: Mapped[datetime | None]
    heard_at: Mapped[datetime | None]
