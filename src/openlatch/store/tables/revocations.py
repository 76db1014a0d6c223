"""Revocations and their steps."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Owned, Proved


class Revocation(Owned, Base):
    """Ending or trimming access: who asked for it, why, what was shown before, and how far it is.

    ``settled_at``: nothing is left to do. ``confirmed_at`` is set only when each of its ends is confirmed.
    ``leaver_id`` is whoever leaves, when it ends all that they had.
    """

    __tablename__ = "revocations"
    __table_args__ = (
        CheckConstraint("cause in ('asked', 'review', 'expired', 'given_up', 'replaced', 'left')", name="cause"),
        Index("ix_revocations_created_at", "organisation_id", "created_at", "id"),
        Index("ix_revocations_leaver_id", "leaver_id", postgresql_where=text("leaver_id is not null")),
    )

    cause: Mapped[str]
    reason: Mapped[str]
    asked_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    preview: Mapped[JsonObject]
    settled_at: Mapped[datetime | None]
    confirmed_at: Mapped[datetime | None]
    leaver_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    undone_at: Mapped[datetime | None]
    undone_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))


class RevocationTarget(Proved, Owned, Base):
    """A grant or a session that a revocation ends, the trim that it makes, a part that it closes to the public, or an
    access rule that it takes away (whose row goes with it).

    ``was`` is the grant as it was before, so that it can be put back; ``trim_terms`` are those that a trim leaves.
    """

    __tablename__ = "revocation_targets"
    __table_args__ = (
        CheckConstraint("num_nonnulls(grant_id, session_id, resource_id, rule_id) = 1", name="one_subject"),
        Index("ix_revocation_targets_revocation_id", "revocation_id"),
        Index("ix_revocation_targets_grant_id", "grant_id"),
        Index("ix_revocation_targets_account_id", "account_id"),
    )

    revocation_id: Mapped[UUID] = mapped_column(ForeignKey("revocations.id"))
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    session_id: Mapped[UUID | None] = mapped_column(ForeignKey("sessions.id"))
    resource_id: Mapped[UUID | None] = mapped_column(ForeignKey("resources.id"))
    rule_id: Mapped[UUID | None]
    trim_level_id: Mapped[UUID | None] = mapped_column(ForeignKey("levels.id"))
    trim_until: Mapped[datetime | None]
    trim_terms: Mapped[JsonList | None] = mapped_column(JSONB(none_as_null=True))
    was: Mapped[JsonObject | None] = mapped_column(JSONB(none_as_null=True))


class Step(Owned, Base):
    """One step of a revocation. ``done_by`` is the person who did or skipped it, or the system that answered.

    Steps that lock or drop a login are ends of their own, and have a ``proof``.
    """

    __tablename__ = "steps"
    __table_args__ = (
        UniqueConstraint("revocation_id", "position"),
        CheckConstraint("state in ('open', 'waiting', 'by_hand', 'done', 'skipped')", name="state"),
        Index("ix_steps_unfinished", "next_try_at", postgresql_where=text("state in ('open', 'waiting')")),
    )

    revocation_id: Mapped[UUID] = mapped_column(ForeignKey("revocations.id"))
    position: Mapped[int]
    kind: Mapped[str]
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    session_id: Mapped[UUID | None] = mapped_column(ForeignKey("sessions.id"))
    sentence: Mapped[str]
    detail: Mapped[JsonObject] = mapped_column(server_default="{}")
    state: Mapped[str] = mapped_column(server_default="open")
    tries: Mapped[int] = mapped_column(server_default="0")
    answer: Mapped[str] = mapped_column(server_default="")
    done_by: Mapped[str] = mapped_column(server_default="")
    proof: Mapped[str | None]
    next_try_at: Mapped[datetime | None]
    done_at: Mapped[datetime | None]
