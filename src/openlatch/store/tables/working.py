"""Reviews and revocations."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.store.tables.base import Base, Owned


class Schedule(Owned, Base):
    """When a review recurs: an RFC 5545 recurrence rule in a time zone.

    ``starts`` is the first time as clocks in that zone show it; ``due_at`` is what the last round was opened for.
    """

    __tablename__ = "schedules"

    name: Mapped[str]
    scope: Mapped[str]
    recurrence: Mapped[str]
    time_zone: Mapped[str]
    days_to_decide: Mapped[int]
    acts: Mapped[str] = mapped_column(server_default="when_decided")
    undecided: Mapped[str] = mapped_column(server_default="keep")
    starts: Mapped[str] = mapped_column(server_default="")
    reviewer_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    paused: Mapped[bool] = mapped_column(server_default="false")
    due_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    version: Mapped[int] = mapped_column(server_default="1")


class Round(Owned, Base):
    """One run of a review. Opened by hand, it has no schedule."""

    __tablename__ = "rounds"
    __table_args__ = (CheckConstraint("acts in ('when_decided', 'at_close')", name="acts"),)

    schedule_id: Mapped[UUID | None] = mapped_column(ForeignKey("schedules.id"))
    name: Mapped[str]
    scope: Mapped[str]
    acts: Mapped[str] = mapped_column(server_default="when_decided")
    opened_at: Mapped[datetime]
    opened_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    due_at: Mapped[datetime]
    closed_at: Mapped[datetime | None]
    closed_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))


class Item(Owned, Base):
    """One line of a round, with the facts as they were when it opened."""

    __tablename__ = "items"
    __table_args__ = (
        UniqueConstraint("round_id", "grant_id"),
        CheckConstraint("verdict in ('keep', 'trim', 'revoke')", name="verdict"),
        Index("ix_items_round_id", "round_id", "position"),
        Index("ix_items_reviewer_id", "reviewer_id"),
    )

    round_id: Mapped[UUID] = mapped_column(ForeignKey("rounds.id"))
    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    position: Mapped[int]
    reviewer_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    facts: Mapped[dict[str, Any]]
    verdict: Mapped[str | None]
    reason: Mapped[str] = mapped_column(server_default="")
    trim_level_id: Mapped[UUID | None] = mapped_column(ForeignKey("levels.id"))
    trim_until: Mapped[datetime | None]
    decided_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    decided_at: Mapped[datetime | None]
    revocation_id: Mapped[UUID | None] = mapped_column(ForeignKey("revocations.id"))
    version: Mapped[int] = mapped_column(server_default="1")


class Revocation(Owned, Base):
    """Ending or trimming access: who asked for it, why, what was shown before, and whether it is confirmed."""

    __tablename__ = "revocations"
    __table_args__ = (
        CheckConstraint("cause in ('asked', 'review', 'expired', 'given_up', 'replaced')", name="cause"),
        Index("ix_revocations_created_at", "organisation_id", "created_at", "id"),
    )

    cause: Mapped[str]
    reason: Mapped[str]
    asked_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    preview: Mapped[dict[str, Any]]
    confirmed_at: Mapped[datetime | None]


class RevocationTarget(Owned, Base):
    """A grant or a session that a revocation ends, or the trim that it makes."""

    __tablename__ = "revocation_targets"
    __table_args__ = (
        CheckConstraint("num_nonnulls(grant_id, session_id) = 1", name="one_subject"),
        Index("ix_revocation_targets_revocation_id", "revocation_id"),
        Index("ix_revocation_targets_grant_id", "grant_id"),
        Index("ix_revocation_targets_account_id", "account_id"),
    )

    revocation_id: Mapped[UUID] = mapped_column(ForeignKey("revocations.id"))
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    session_id: Mapped[UUID | None] = mapped_column(ForeignKey("sessions.id"))
    trim_level_id: Mapped[UUID | None] = mapped_column(ForeignKey("levels.id"))
    trim_until: Mapped[datetime | None]


class Step(Owned, Base):
    """One step of a revocation."""

    __tablename__ = "steps"
    __table_args__ = (
        UniqueConstraint("revocation_id", "position"),
        CheckConstraint("state in ('open', 'waiting', 'by_hand', 'done')", name="state"),
        Index("ix_steps_unfinished", "next_try_at", postgresql_where=text("state in ('open', 'waiting')")),
    )

    revocation_id: Mapped[UUID] = mapped_column(ForeignKey("revocations.id"))
    position: Mapped[int]
    kind: Mapped[str]
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    session_id: Mapped[UUID | None] = mapped_column(ForeignKey("sessions.id"))
    sentence: Mapped[str]
    detail: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    state: Mapped[str] = mapped_column(server_default="open")
    tries: Mapped[int] = mapped_column(server_default="0")
    answer: Mapped[str] = mapped_column(server_default="")
    next_try_at: Mapped[datetime | None]
    done_at: Mapped[datetime | None]
