"""Webhooks, and what is on its way to their receivers."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import BigInteger, CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Owned


class Webhook(Owned, Base):
    """A receiver: of what is journalled, or of security events (``kind``), where ``signal_streams`` has the rest.

    A receiver of security events that fetches them has no ``url``; none of them has a secret of its own.
    ``position``: up to which entry deliveries were made. Secrets are encrypted; the one before signs as well until
    ``secret_before_until``. ``busy_until``: a process delivers until then at the latest. ``tries``: how many calls
    have failed since the last that did not.
    """

    __tablename__ = "webhooks"
    __table_args__ = (
        UniqueConstraint("organisation_id", "name"),
        CheckConstraint("kind in ('journal', 'signals')", name="kind"),
    )

    kind: Mapped[str] = mapped_column(server_default="journal")
    name: Mapped[str]
    url: Mapped[str]
    actions: Mapped[JsonList] = mapped_column(server_default="[]")
    position: Mapped[int] = mapped_column(BigInteger)
    secret: Mapped[bytes] = mapped_column(deferred=True)
    secret_before: Mapped[bytes | None] = mapped_column(deferred=True)
    secret_before_until: Mapped[datetime | None]
    secret_number: Mapped[int] = mapped_column(server_default="1")
    paused_at: Mapped[datetime | None]
    busy_until: Mapped[datetime | None]
    tries: Mapped[int] = mapped_column(server_default="0")
    next_try_at: Mapped[datetime | None]
    failing_since: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Delivery(Owned, Base):
    """One event for one receiver: an entry of the journal by its position, or a test without one.

    What it says is read from the journal each time that it is sent: what was erased there meanwhile is not sent. A
    security event is stored without whom it is about, which is looked up when it is sent; an entry may become several
    (``part``). What is about one ``subject_id`` is sent in order.
    """

    __tablename__ = "deliveries"
    __table_args__ = (
        UniqueConstraint("webhook_id", "position", "part"),
        CheckConstraint("state in ('waiting', 'delivered', 'given_up')", name="state"),
        Index(
            "ix_deliveries_waiting",
            "webhook_id",
            text("position nulls first"),
            "id",
            postgresql_where=text("state = 'waiting'"),
        ),
        Index("ix_deliveries_due", "webhook_id", "next_try_at", postgresql_where=text("state = 'waiting'")),
        Index(
            "ix_deliveries_subject",
            "webhook_id",
            "subject_id",
            "position",
            postgresql_where=text("state = 'waiting' and subject_id is not null"),
        ),
        Index("ix_deliveries_created_at", "created_at"),
    )

    webhook_id: Mapped[UUID] = mapped_column(ForeignKey("webhooks.id"))
    position: Mapped[int | None] = mapped_column(BigInteger)
    part: Mapped[int] = mapped_column(server_default="0")
    subject_id: Mapped[UUID | None]
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    event: Mapped[JsonObject | None]
    state: Mapped[str] = mapped_column(server_default="waiting")
    tries: Mapped[int] = mapped_column(server_default="0")
    next_try_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    ended_at: Mapped[datetime | None]
