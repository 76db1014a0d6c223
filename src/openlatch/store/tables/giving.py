"""Giving access: resources, offers, requests, latches, visits, notices, and the mail that goes out."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, SmallInteger, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.store.tables.base import Base, Keyed, Owned, Proved, Recorded


class Resource(Recorded, Proved, Keyed, Base):
    """A part of an account that can be shared alone. ``public`` when anyone at all can reach it, as its rules say.

    ``path`` is how access rules name it; ``above`` are the keys of groups above it in its system, from the nearest, and
    without ``inherits`` it has rules of its own only. Its proof says how it is known that it was closed.
    """

    __tablename__ = "resources"
    __table_args__ = (
        UniqueConstraint("organisation_id", "account_id", "key"),
        Index("ix_resources_account_id_recorded_at", "account_id", "recorded_at"),
        Index("ix_resources_account_id_path", "account_id", "path", postgresql_ops={"path": "text_pattern_ops"}),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    kind: Mapped[str] = mapped_column(server_default="part")
    public: Mapped[bool] = mapped_column(server_default="false")
    path: Mapped[str] = mapped_column(server_default="")
    attributes: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    above: Mapped[list[Any]] = mapped_column(server_default="[]")
    inherits: Mapped[bool] = mapped_column(server_default="true")
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class ResourceGroup(Recorded, Keyed, Base):
    """Some resources of one account, given as one."""

    __tablename__ = "resource_groups"
    __table_args__ = (
        UniqueConstraint("organisation_id", "account_id", "key"),
        Index("ix_resource_groups_account_id", "account_id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    name: Mapped[str]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class ResourceInGroup(Recorded, Owned, Base):
    """That a resource belongs to a group."""

    __tablename__ = "resources_in_groups"
    __table_args__ = (
        UniqueConstraint("group_id", "resource_id"),
        Index("ix_resources_in_groups_resource_id", "resource_id"),
    )

    group_id: Mapped[UUID] = mapped_column(ForeignKey("resource_groups.id"))
    resource_id: Mapped[UUID] = mapped_column(ForeignKey("resources.id"))


class Latch(Recorded, Owned, Base):
    """A guard on an account, or on all accounts of a kind."""

    __tablename__ = "latches"
    __table_args__ = (
        CheckConstraint("num_nonnulls(account_id, account_kind) = 1", name="one_subject"),
        CheckConstraint("mode in ('off', 'warn', 'hold')", name="mode"),
        Index("uq_latches_account", "account_id", "kind", unique=True, postgresql_where=text("account_id is not null")),
        Index(
            "uq_latches_kind",
            "organisation_id",
            "account_kind",
            "kind",
            unique=True,
            postgresql_where=text("account_kind is not null"),
        ),
    )

    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    account_kind: Mapped[str | None]
    kind: Mapped[str]
    mode: Mapped[str]
    number: Mapped[int | None]
    pair: Mapped[list[Any]] = mapped_column(server_default="[]")


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
    resources: Mapped[list[Any]] = mapped_column(server_default="[]")
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


class HandTask(Owned, Base):
    """Something that a person has to do in a system that nobody here can change: give access, change it, or take it
    away for a while. ``sentence`` says what, ``words`` are of whoever says that it is done. One that is ``dropped`` has
    not to be done any more.
    """

    __tablename__ = "hand_tasks"
    __table_args__ = (
        CheckConstraint("kind in ('give', 'change', 'take')", name="kind"),
        Index("ix_hand_tasks_grant_id", "grant_id"),
        Index(
            "ix_hand_tasks_open",
            "organisation_id",
            "asked_at",
            postgresql_where=text("done_at is null and dropped_at is null"),
        ),
    )

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    kind: Mapped[str]
    sentence: Mapped[str]
    assigned_to_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    asked_at: Mapped[datetime]
    reminded_at: Mapped[datetime | None]
    done_at: Mapped[datetime | None]
    done_by: Mapped[str] = mapped_column(server_default="")
    words: Mapped[str] = mapped_column(server_default="")
    dropped_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class EndReminder(Owned, Base):
    """That those whom it concerns were told, so many days before, that a grant ends at an instant."""

    __tablename__ = "end_reminders"
    __table_args__ = (UniqueConstraint("grant_id", "until", "days"),)

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    until: Mapped[datetime]
    days: Mapped[int] = mapped_column(SmallInteger)


class Visit(Owned, Base):
    """That somebody switched into an account: from when to when, and by which sign-in."""

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


class Notice(Owned, Base):
    """Something that a person is told in the console."""

    __tablename__ = "notices"
    __table_args__ = (Index("ix_notices_person_id", "person_id", "at"),)

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    kind: Mapped[str]
    sentence: Mapped[str]
    page: Mapped[str] = mapped_column(server_default="")
    at: Mapped[datetime]
    read_at: Mapped[datetime | None]


class Mail(Owned, Base):
    """A message on its way. Its content is encrypted, since it can hold a link, and is gone once it is sent."""

    __tablename__ = "mails"
    __table_args__ = (Index("ix_mails_due", "next_try_at", postgresql_where=text("state = 'waiting'")),)

    recipient: Mapped[str]
    subject: Mapped[str]
    content: Mapped[bytes | None]
    state: Mapped[str] = mapped_column(server_default="waiting")
    tries: Mapped[int] = mapped_column(SmallInteger, server_default="0")
    answer: Mapped[str] = mapped_column(server_default="")
    next_try_at: Mapped[datetime]
    sent_at: Mapped[datetime | None]


class AddressProof(Owned, Base):
    """A link by which a person proves that an address is theirs. Only its token's hash is kept."""

    __tablename__ = "address_proofs"

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    address: Mapped[str]
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    runs_out_at: Mapped[datetime]
