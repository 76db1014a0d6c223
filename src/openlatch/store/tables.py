"""The tables. Every row belongs to one organisation, and row-level security keeps it there."""

from __future__ import annotations

from datetime import datetime
from typing import Any, ClassVar
from uuid import UUID

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Computed,
    DateTime,
    ForeignKey,
    Index,
    LargeBinary,
    MetaData,
    SmallInteger,
    Text,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column
from sqlalchemy.types import Uuid

from openlatch.core.ids import new_id


class Base(DeclarativeBase):
    """All tables, with constraints named so that a database error can be told by its name."""

    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(column_0_N_label)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "ck": "ck_%(table_name)s_%(constraint_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map: ClassVar = {
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB,
        list[Any]: JSONB,
        str: Text,
        bytes: LargeBinary,
        UUID: Uuid,
    }


class _Row:
    """What every record has."""

    id: Mapped[UUID] = mapped_column(primary_key=True, default=new_id)
    created_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class Organisation(_Row, Base):
    """The tenant."""

    __tablename__ = "organisations"

    name: Mapped[str]
    slug: Mapped[str] = mapped_column(unique=True)
    time_zone: Mapped[str] = mapped_column(server_default="UTC")
    settings: Mapped[dict[str, Any]] = mapped_column(server_default="{}")


class _Owned(_Row):
    """A record of an organisation."""

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))


class _Keyed(_Owned):
    """A record that files and programs name by a key of their own."""

    key: Mapped[str | None]


class Person(_Keyed, Base):
    """A human being known to the organisation. ``recognised`` is false for one met only in a system."""

    __tablename__ = "people"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("standing in ('current', 'leaving', 'left')", name="standing"),
        Index("ix_people_name", "organisation_id", "name", "id"),
    )

    name: Mapped[str]
    address: Mapped[str | None]
    job: Mapped[str] = mapped_column(server_default="")
    inside: Mapped[bool]
    standing: Mapped[str] = mapped_column(server_default="current")
    leaves_at: Mapped[datetime | None]
    recognised: Mapped[bool] = mapped_column(server_default="true")


class Team(_Keyed, Base):
    """People and teams, or a partner organisation, treated as one holder."""

    __tablename__ = "teams"
    __table_args__ = (UniqueConstraint("organisation_id", "key"),)

    name: Mapped[str]
    partner: Mapped[bool] = mapped_column(server_default="false")
    purpose: Mapped[str] = mapped_column(server_default="")


class Membership(_Owned, Base):
    """That a person or a team belongs to a team, for a while."""

    __tablename__ = "memberships"
    __table_args__ = (
        UniqueConstraint("organisation_id", "team_id", "member_id"),
        CheckConstraint("num_nonnulls(person_id, member_team_id) = 1", name="one_member"),
        CheckConstraint("member_team_id is null or member_team_id <> team_id", name="not_in_itself"),
        Index("ix_memberships_member_id", "member_id"),
    )

    team_id: Mapped[UUID] = mapped_column(ForeignKey("teams.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    member_team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    member_id: Mapped[UUID] = mapped_column(Computed("coalesce(person_id, member_team_id)", persisted=True))
    since: Mapped[datetime | None]
    until: Mapped[datetime | None]


class System(_Keyed, Base):
    """Where accounts really live. ``secret`` is encrypted with a key that is not in the database."""

    __tablename__ = "systems"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("kind in ('by_hand', 'postgresql')", name="kind"),
    )

    name: Mapped[str]
    kind: Mapped[str] = mapped_column(server_default="by_hand")
    settings: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    secret: Mapped[bytes | None]
    read_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    down_since: Mapped[datetime | None]


class Account(_Keyed, Base):
    """A shared account in a system."""

    __tablename__ = "accounts"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("sensitivity between 1 and 4", name="sensitivity"),
        Index("ix_accounts_name", "organisation_id", "name", "id"),
        Index("ix_accounts_owner_id", "owner_id"),
    )

    name: Mapped[str]
    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    kind: Mapped[str] = mapped_column(server_default="account")
    sensitivity: Mapped[int] = mapped_column(SmallInteger)
    owner_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    time_zone: Mapped[str] = mapped_column(server_default="UTC")
    purpose: Mapped[str] = mapped_column(server_default="")
    handle: Mapped[str | None]


class Level(_Keyed, Base):
    """A named set of permissions in one system. ``reach`` is kept beside them: the highest of theirs."""

    __tablename__ = "levels"
    __table_args__ = (UniqueConstraint("organisation_id", "system_id", "key"),)

    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    name: Mapped[str]
    sentence: Mapped[str]
    reach: Mapped[int] = mapped_column(SmallInteger)
    permissions: Mapped[list[Any]] = mapped_column(server_default="[]")


class App(_Keyed, Base):
    """Software that holds grants."""

    __tablename__ = "apps"
    __table_args__ = (UniqueConstraint("organisation_id", "key"),)

    name: Mapped[str]
    publisher: Mapped[str] = mapped_column(server_default="")
    home_page: Mapped[str] = mapped_column(server_default="")
    purpose: Mapped[str] = mapped_column(server_default="")


class Handle(_Owned, Base):
    """The name by which a system knows a person or an app."""

    __tablename__ = "handles"
    __table_args__ = (
        UniqueConstraint("organisation_id", "system_id", "name"),
        CheckConstraint("num_nonnulls(person_id, app_id) = 1", name="one_holder"),
    )

    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    name: Mapped[str]
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))


class Grant(_Keyed, Base):
    """The fact that a holder may act in an account."""

    __tablename__ = "grants"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("num_nonnulls(person_id, team_id, app_id, holder_account_id) = 1", name="one_holder"),
        CheckConstraint("state in ('pending', 'active', 'suspended', 'revoking', 'ended')", name="state"),
        CheckConstraint("(state = 'ended') = (ended_as is not null)", name="ended_as"),
        Index("ix_grants_account_id", "account_id", "state"),
        Index("ix_grants_holder_id", "holder_id"),
        Index("ix_grants_given_by_id", "given_by_id"),
        Index("ix_grants_given_at", "organisation_id", "given_at", "id"),
        Index("ix_grants_last_used_at", "organisation_id", "last_used_at", "id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    holder_account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID] = mapped_column(
        Computed("coalesce(person_id, team_id, app_id, holder_account_id)", persisted=True)
    )
    holder_kind: Mapped[str] = mapped_column(
        Computed(
            "case when person_id is not null then 'person' when team_id is not null then 'team' "
            "when app_id is not null then 'app' else 'account' end",
            persisted=True,
        )
    )
    state: Mapped[str] = mapped_column(server_default="active")
    ended_as: Mapped[str | None]
    ended_at: Mapped[datetime | None]
    given_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    given_at: Mapped[datetime]
    reason: Mapped[str] = mapped_column(server_default="")
    last_used_at: Mapped[datetime | None]
    recorded: Mapped[bool] = mapped_column(server_default="true")
    seen_at: Mapped[datetime | None]
    missing_since: Mapped[datetime | None]
    handle: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    version: Mapped[int] = mapped_column(server_default="1")


class Term(_Owned, Base):
    """One level within one window, perhaps only in certain hours of the week."""

    __tablename__ = "terms"
    __table_args__ = (Index("ix_terms_grant_id", "grant_id"), Index("ix_terms_until", "organisation_id", "until"))

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    level_id: Mapped[UUID] = mapped_column(ForeignKey("levels.id"))
    since: Mapped[datetime | None]
    until: Mapped[datetime | None]
    hours: Mapped[dict[str, Any] | None]


class Session(_Keyed, Base):
    """A signed-in presence of a person or an app in an account."""

    __tablename__ = "sessions"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("num_nonnulls(person_id, app_id) = 1", name="one_holder"),
        Index("ix_sessions_account_id", "account_id"),
        Index("ix_sessions_holder_id", "holder_id"),
        Index("ix_sessions_last_seen_at", "organisation_id", "last_seen_at", "id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    holder_id: Mapped[UUID] = mapped_column(Computed("coalesce(person_id, app_id)", persisted=True))
    holder_kind: Mapped[str] = mapped_column(
        Computed("case when person_id is not null then 'person' else 'app' end", persisted=True)
    )
    device: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str] = mapped_column(server_default="")
    place: Mapped[str] = mapped_column(server_default="")
    started_at: Mapped[datetime]
    last_seen_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_as: Mapped[str | None]
    handle: Mapped[dict[str, Any]] = mapped_column(server_default="{}")


class Flag(_Owned, Base):
    """A concern raised by a rule."""

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
        Index("ix_flags_subject_id", "subject_id"),
        Index("ix_flags_account_id", "account_id"),
    )

    rule: Mapped[str]
    subject_kind: Mapped[str]
    subject_id: Mapped[UUID]
    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID]
    state: Mapped[str] = mapped_column(server_default="open")
    severity: Mapped[int] = mapped_column(SmallInteger)
    score: Mapped[int] = mapped_column(SmallInteger)
    parts: Mapped[dict[str, Any]]
    facts: Mapped[dict[str, Any]]
    sentence: Mapped[str]
    raised_at: Mapped[datetime]
    cleared_at: Mapped[datetime | None]
    accepted_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    accepted_reason: Mapped[str | None]
    accepted_until: Mapped[datetime | None]


class Schedule(_Owned, Base):
    """When a review recurs: an RFC 5545 recurrence rule in a time zone."""

    __tablename__ = "schedules"

    name: Mapped[str]
    scope: Mapped[str]
    recurrence: Mapped[str]
    time_zone: Mapped[str]
    days_to_decide: Mapped[int]
    acts: Mapped[str] = mapped_column(server_default="when_decided")
    undecided: Mapped[str] = mapped_column(server_default="keep")


class Round(_Owned, Base):
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


class Item(_Owned, Base):
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


class Revocation(_Owned, Base):
    """Ending or trimming access: who asked for it, why, what was shown before, and whether it is confirmed."""

    __tablename__ = "revocations"
    __table_args__ = (
        CheckConstraint("cause in ('asked', 'review', 'expired')", name="cause"),
        Index("ix_revocations_created_at", "organisation_id", "created_at", "id"),
    )

    cause: Mapped[str]
    reason: Mapped[str]
    asked_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    preview: Mapped[dict[str, Any]]
    confirmed_at: Mapped[datetime | None]


class RevocationTarget(_Owned, Base):
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


class Step(_Owned, Base):
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


class JournalEntry(Base):
    """One entry of the journal. The database refuses to change or delete it."""

    __tablename__ = "journal"
    __table_args__ = (
        Index("ix_journal_account_id", "account_id", postgresql_where=text("account_id is not null")),
        Index("ix_journal_subject_id", "subject_id", postgresql_where=text("subject_id is not null")),
    )

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"), primary_key=True)
    position: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    at: Mapped[datetime]
    actor_id: Mapped[UUID | None]
    actor_name: Mapped[str]
    action: Mapped[str]
    subject_kind: Mapped[str]
    subject_id: Mapped[UUID | None]
    subject_name: Mapped[str]
    account_id: Mapped[UUID | None]
    facts: Mapped[dict[str, Any]]
    previous: Mapped[bytes]
    hash: Mapped[bytes]


class JournalHead(Base):
    """The position and hash of the last entry; locked by whoever writes the next one."""

    __tablename__ = "journal_heads"

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"), primary_key=True)
    position: Mapped[int] = mapped_column(BigInteger)
    hash: Mapped[bytes]


class SignIn(_Owned, Base):
    """What a person signs in with."""

    __tablename__ = "sign_ins"

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"), unique=True)
    address: Mapped[str] = mapped_column(unique=True)
    password_hash: Mapped[str]
    administrator: Mapped[bool] = mapped_column(server_default="false")


class WebSession(_Owned, Base):
    """A signed-in browser. Only its token's hash is kept."""

    __tablename__ = "web_sessions"

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    expires_at: Mapped[datetime]
    device: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str] = mapped_column(server_default="")


class ApiToken(_Owned, Base):
    """A token for programs. Only its hash is kept. ``scope`` is ``read`` or ``write``."""

    __tablename__ = "api_tokens"
    __table_args__ = (CheckConstraint("scope in ('read', 'write')", name="scope"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    name: Mapped[str]
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    scope: Mapped[str]
    expires_at: Mapped[datetime]


class SignInAttempt(Base):
    """A try to sign in that failed, by hashed address or origin, for the rate limit."""

    __tablename__ = "sign_in_attempts"
    __table_args__ = (Index("ix_sign_in_attempts_source", "source", "at"),)

    id: Mapped[UUID] = mapped_column(primary_key=True, default=new_id)
    source: Mapped[bytes]
    at: Mapped[datetime]


class IdempotencyKey(_Owned, Base):
    """The answer to a POST that carried an Idempotency-Key, given again when it comes again."""

    __tablename__ = "idempotency_keys"
    __table_args__ = (UniqueConstraint("organisation_id", "sign_in_id", "key"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    key: Mapped[str]
    request_hash: Mapped[bytes]
    status: Mapped[int]
    body: Mapped[bytes]
