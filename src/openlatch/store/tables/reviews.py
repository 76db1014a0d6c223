"""Schedules, rounds, items, evidence."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    Index,
    SmallInteger,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Owned, Proved


class EvidenceBundle(Owned, Base):
    """The evidence of a round as the worker signed it; ``addenda`` counts what it tells that came to light later."""

    __tablename__ = "evidence_bundles"

    round_id: Mapped[UUID] = mapped_column(ForeignKey("rounds.id"), unique=True)
    name: Mapped[str]
    addenda: Mapped[int]
    content: Mapped[bytes]


class Review:
    """How a review goes: what a schedule says, and what a round keeps of it when it opens.

    ``reviewers`` is the line of those who are asked (core.reviews.assignment), ``undecided`` what becomes of items by
    reach, ``reminders`` are days before it is due, ``closes_after`` days after that (None: somebody closes it).
    """

    name: Mapped[str]
    scope: Mapped[str]
    covers: Mapped[JsonList] = mapped_column(server_default='["grant", "link"]')
    acts: Mapped[str] = mapped_column(server_default="when_decided")
    reviewers: Mapped[JsonList] = mapped_column(server_default="[]")
    undecided: Mapped[JsonObject] = mapped_column(server_default="{}")
    second_from: Mapped[int | None] = mapped_column(SmallInteger)
    reminders: Mapped[JsonList] = mapped_column(server_default="[]")
    closes_after: Mapped[int | None]


class Schedule(Review, Owned, Base):
    """When a review recurs: by an RFC 5545 rule in a time zone, by what happens (``events``), or both.

    ``starts`` is the first time as clocks in that zone show it; ``due_at`` is what the last round was opened for.
    """

    __tablename__ = "schedules"
    __table_args__ = (CheckConstraint("acts in ('when_decided', 'at_close')", name="acts"),)

    recurrence: Mapped[str]
    time_zone: Mapped[str]
    days_to_decide: Mapped[int]
    starts: Mapped[str] = mapped_column(server_default="")
    events: Mapped[JsonList] = mapped_column(server_default="[]")
    paused: Mapped[bool] = mapped_column(server_default="false")
    due_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    version: Mapped[int] = mapped_column(server_default="1")


class Occurrence(Owned, Base):
    """Something that happened which can open a round. Written by triggers of the database, whoever made the change."""

    __tablename__ = "occurrences"
    __table_args__ = (Index("ix_occurrences_unhandled", "at", postgresql_where=text("handled_at is null")),)

    kind: Mapped[str]
    subject_id: Mapped[UUID]
    sentence: Mapped[str]
    at: Mapped[datetime] = mapped_column(server_default=text("now()"))
    handled_at: Mapped[datetime | None]


class Round(Review, Owned, Base):
    """One run of a review. Opened by hand, it has no schedule.

    ``population`` says how its items were taken, ``items_hash`` is the hash over them as they were frozen. Between
    ``closed_at`` and ``ended_at`` its decisions are being carried out; then the database refuses any change.
    ``fates_by`` says who or what set the fate of undecided items: the schedule, whoever opened, or whoever closed it.
    """

    __tablename__ = "rounds"
    __table_args__ = (
        CheckConstraint("acts in ('when_decided', 'at_close')", name="acts"),
        Index("ix_rounds_unended", "organisation_id", postgresql_where=text("ended_at is null")),
    )

    schedule_id: Mapped[UUID | None] = mapped_column(ForeignKey("schedules.id"))
    event: Mapped[str] = mapped_column(server_default="")
    population: Mapped[JsonList] = mapped_column(server_default="[]")
    items_hash: Mapped[bytes | None]
    reminded: Mapped[JsonList] = mapped_column(server_default="[]")
    opened_at: Mapped[datetime]
    opened_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    due_at: Mapped[datetime]
    closed_at: Mapped[datetime | None]
    closed_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    fates_by: Mapped[str] = mapped_column(server_default="")
    coverage: Mapped[JsonList] = mapped_column(server_default="[]")
    ended_at: Mapped[datetime | None]


class Item(Proved, Owned, Base):
    """One line of a round, with the facts as they were when it opened; what lists go by has columns of its own.

    ``assigned_as`` says why it is this reviewer's; ``by_default`` when only an administrator was left to take it.
    ``done_at``: nothing is left to do for it. ``nothing_done``: there was nothing that could be ended. ``explained``
    says why, where access could not be shown to have ended.
    """

    __tablename__ = "items"
    __table_args__ = (
        UniqueConstraint("round_id", "kind", "subject_id"),
        CheckConstraint("verdict in ('keep', 'trim', 'revoke')", name="verdict"),
        CheckConstraint("state in ('undecided', 'seconding', 'decided')", name="state"),
        CheckConstraint("(verdict is null) = (state = 'undecided')", name="decided"),
        Index("ix_items_round_id", "round_id", "position"),
        Index("ix_items_reviewer_id", "reviewer_id", "state"),
        Index("ix_items_subject_id", "subject_id"),
        Index("ix_items_revocation_id", "revocation_id", postgresql_where=text("revocation_id is not null")),
        Index("ix_items_draft_id", "draft_id", postgresql_where=text("draft_id is not null")),
    )

    round_id: Mapped[UUID] = mapped_column(ForeignKey("rounds.id"))
    position: Mapped[int]
    kind: Mapped[str]
    subject_id: Mapped[UUID]
    grant_id: Mapped[UUID | None] = mapped_column(ForeignKey("grants.id"))
    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    account: Mapped[str]
    holder: Mapped[str]
    level: Mapped[str]
    reach: Mapped[int | None] = mapped_column(SmallInteger)
    recommended: Mapped[str]
    flagged: Mapped[int] = mapped_column(SmallInteger)
    severity: Mapped[int] = mapped_column(SmallInteger)
    reviewer_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    reviewer_team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    assigned_as: Mapped[str] = mapped_column(server_default="")
    by_default: Mapped[bool] = mapped_column(server_default="false")
    needs_second: Mapped[bool] = mapped_column(server_default="false")
    second_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    facts: Mapped[JsonObject]
    state: Mapped[str] = mapped_column(server_default="undecided")
    verdict: Mapped[str | None]
    reason: Mapped[str] = mapped_column(server_default="")
    trim_level_id: Mapped[UUID | None] = mapped_column(ForeignKey("levels.id"))
    trim_until: Mapped[datetime | None]
    trim_to_use: Mapped[bool] = mapped_column(server_default="false")
    successor_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    decided_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    decided_at: Mapped[datetime | None]
    seconded_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    seconded_at: Mapped[datetime | None]
    fate: Mapped[str | None]
    revocation_id: Mapped[UUID | None] = mapped_column(ForeignKey("revocations.id"))
    offer_id: Mapped[UUID | None] = mapped_column(ForeignKey("offers.id"))
    draft_id: Mapped[UUID | None] = mapped_column(ForeignKey("rule_drafts.id"))
    outcome: Mapped[str] = mapped_column(server_default="")
    explained: Mapped[str] = mapped_column(server_default="")
    done_at: Mapped[datetime | None]
    nothing_done: Mapped[bool] = mapped_column(server_default="false")
    version: Mapped[int] = mapped_column(server_default="1")


class Question(Owned, Base):
    """What a reviewer asks a holder about an item, and what they answer."""

    __tablename__ = "questions"
    __table_args__ = (
        Index("ix_questions_item_id", "item_id"),
        Index("ix_questions_person_id", "person_id", postgresql_where=text("answered_at is null")),
    )

    item_id: Mapped[UUID] = mapped_column(ForeignKey("items.id"))
    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    asked_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    asked_at: Mapped[datetime]
    question: Mapped[str]
    answer: Mapped[str] = mapped_column(server_default="")
    answered_at: Mapped[datetime | None]


class Calendar(Owned, Base):
    """An address at which a person's calendar program finds due dates and ends. Only its token's hash is kept."""

    __tablename__ = "calendars"

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"), unique=True)
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    made_at: Mapped[datetime]
    read_at: Mapped[datetime | None]
