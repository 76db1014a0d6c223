"""Flags, own rules, breaches."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Double,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    UniqueConstraint,
    Uuid,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base, Owned


class Finding(Base):
    """What the rules found on a subject: a number for each finding, and a hash of their sentences.

    Only subjects with findings have a row. Evaluating everything means comparing with these.
    """

    __tablename__ = "findings"

    subject_id: Mapped[UUID] = mapped_column(primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    kind: Mapped[str]
    found: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    words: Mapped[int] = mapped_column(BigInteger)


class OwnRule(Owned, Base):
    """An organisation's own rule, as imported from a file. ``number`` never changes."""

    __tablename__ = "own_rules"
    __table_args__ = (UniqueConstraint("organisation_id", "key"), UniqueConstraint("organisation_id", "number"))

    number: Mapped[int]
    key: Mapped[str]
    subject: Mapped[str]
    title: Mapped[str]
    about: Mapped[str]
    filter: Mapped[str]
    says: Mapped[str]
    remedy: Mapped[str]
    urgency: Mapped[int] = mapped_column(SmallInteger)
    source: Mapped[str]
    live: Mapped[bool] = mapped_column(server_default="true")
    made_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))


class Flag(Owned, Base):
    """A concern raised by a rule; one about a person has no account. ``worse_at``: when its severity rose.

    An accepted flag keeps the accepted severity: with a higher one it is open again.
    """

    __tablename__ = "flags"
    __table_args__ = (
        CheckConstraint("state in ('open', 'accepted', 'cleared')", name="state"),
        Index(
            "uq_flags_live",
            "organisation_id",
            "rule",
            "subject_id",
            unique=True,
            postgresql_where=text("state <> 'cleared'"),
        ),
        Index("ix_flags_score", "organisation_id", "state", "score", "id"),
        Index("ix_flags_subject_id_state", "subject_id", "organisation_id", "state"),
        Index("ix_flags_account_id_state", "account_id", "organisation_id", "state"),
        Index("ix_flags_holder_id_state", "holder_id", "organisation_id", "state"),
    )

    rule: Mapped[str]
    subject_kind: Mapped[str]
    subject_id: Mapped[UUID]
    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID]
    state: Mapped[str] = mapped_column(server_default="open")
    assigned_to_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    severity: Mapped[int] = mapped_column(SmallInteger)
    score: Mapped[int] = mapped_column(SmallInteger)
    parts: Mapped[JsonObject]
    facts: Mapped[JsonObject]
    sentence: Mapped[str]
    raised_at: Mapped[datetime]
    worse_at: Mapped[datetime | None]
    cleared_at: Mapped[datetime | None]
    accepted_severity: Mapped[int | None] = mapped_column(SmallInteger)
    accepted_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    accepted_reason: Mapped[str | None]
    accepted_until: Mapped[datetime | None]


class ActionEffect(Owned, Base):
    """An action on flags as the worker worked it out: what it needs, and the open flags that it would clear.

    ``raises`` is the risk of flags that it would raise. ``worked_out_at`` is when that was found, ``at`` when it was
    last known to hold, and ``seconds`` how long it took to find that out for all actions.
    """

    __tablename__ = "action_effects"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        Index("ix_action_effects_organisation_id", "organisation_id"),
    )

    key: Mapped[str]
    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID | None]
    proposal: Mapped[JsonObject]
    clears: Mapped[list[UUID]] = mapped_column(ARRAY(Uuid))
    raises: Mapped[int]
    loses_path: Mapped[bool]
    worked_out_at: Mapped[datetime]
    at: Mapped[datetime]
    seconds: Mapped[float] = mapped_column(Double)


class Postponement(Owned, Base):
    """An action on flags that somebody puts off, for themselves, until an instant. ``key`` names the action."""

    __tablename__ = "postponements"
    __table_args__ = (
        UniqueConstraint("person_id", "key"),
        Index("ix_postponements_organisation_id", "organisation_id"),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    key: Mapped[str]
    until: Mapped[datetime]
    reason: Mapped[str]


class Comment(Owned, Base):
    """What somebody wrote about a matter: the flags of one holder in one account."""

    __tablename__ = "comments"
    __table_args__ = (
        Index("ix_comments_matter", "organisation_id", "holder_id", "account_id", "at"),
        Index("ix_comments_organisation_id", "organisation_id"),
    )

    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID]
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    by_name: Mapped[str]
    text: Mapped[str]
    at: Mapped[datetime]
