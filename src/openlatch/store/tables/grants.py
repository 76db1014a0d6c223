"""Grants, levels, terms, use, sessions."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import (
    CheckConstraint,
    Computed,
    Double,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    UniqueConstraint,
    Uuid,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, DATEMULTIRANGE, JSONB
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Keyed, Owned, Proved, Recorded


class EndReminder(Owned, Base):
    """Marks that people were told, so many days before, that a grant ends at an instant."""

    __tablename__ = "end_reminders"
    __table_args__ = (UniqueConstraint("grant_id", "until", "days"),)

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    until: Mapped[datetime]
    days: Mapped[int] = mapped_column(SmallInteger)


class Level(Recorded, Keyed, Base):
    """A named set of permissions in one system. ``reach`` is the highest of theirs.

    A single permission is a level of one, with ``single``. The database sets ``grown_at`` when permissions are added.
    """

    __tablename__ = "levels"
    __table_args__ = (UniqueConstraint("organisation_id", "system_id", "key"),)

    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    name: Mapped[str]
    sentence: Mapped[str]
    reach: Mapped[int] = mapped_column(SmallInteger)
    permissions: Mapped[JsonList] = mapped_column(server_default="[]")
    single: Mapped[bool] = mapped_column(server_default="false")
    grown_at: Mapped[datetime | None]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Grant(Recorded, Proved, Keyed, Base):
    """The fact that a holder may act in an account.

    ``owed`` is pending provisioning: ``give`` or ``take``; None when the system is up to date. ``shown`` is a digest of
    what the last read showed; the database clears it when the grant changes. ``differs`` is what the system has instead
    of what is recorded. ``contradicted_at``: a read still showed it after the system had said it was gone.
    ``ends_here``: the register set its end and keeps it. ``by_system``: everybody who signs in there has it; nobody
    gave it. ``recorded_by_id`` is who recorded by hand that it exists, with their ``evidence``; they did not give it.
    """

    __tablename__ = "grants"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("num_nonnulls(person_id, team_id, app_id, holder_account_id) = 1", name="one_holder"),
        CheckConstraint("state in ('pending', 'active', 'suspended', 'revoking', 'ended')", name="state"),
        CheckConstraint("(state = 'ended') = (ended_as is not null)", name="ended_as"),
        # With all that comparing a reading needs, so that it reads no grant that is as it was.
        Index(
            "ix_grants_account_id",
            "account_id",
            "state",
            postgresql_include=["organisation_id", "holder_kind", "shown", "id"],
        ),
        Index("ix_grants_holder_id", "holder_id"),
        Index("ix_grants_held_by_many", "account_id", postgresql_where=text("holder_kind in ('team', 'account')")),
        Index("ix_grants_given_by_id", "given_by_id"),
        Index("ix_grants_given_at", "organisation_id", "given_at", "id"),
        Index("ix_grants_last_used_at", "organisation_id", "last_used_at", "id"),
        Index("ix_grants_owed", "owed_next_try_at", postgresql_where=text("owed is not null")),
        Index(
            "ix_grants_drift",
            "account_id",
            postgresql_where=text(
                "state in ('active', 'suspended', 'revoking') "
                "and (not recorded or missing_since is not null or differs is not null)"
            ),
        ),
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
    recorded_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    evidence: Mapped[str] = mapped_column(server_default="")
    last_used_at: Mapped[datetime | None]
    credential_since: Mapped[datetime | None]
    recorded: Mapped[bool] = mapped_column(server_default="true")
    ends_here: Mapped[bool] = mapped_column(server_default="true")
    by_system: Mapped[bool] = mapped_column(server_default="false")
    seen_at: Mapped[datetime | None]
    missing_since: Mapped[datetime | None]
    shown: Mapped[UUID | None]
    differs: Mapped[JsonObject | None] = mapped_column(JSONB(none_as_null=True))
    contradicted_at: Mapped[datetime | None]
    emergency: Mapped[bool] = mapped_column(server_default="false")
    for_review: Mapped[bool] = mapped_column(server_default="false")
    left_undecided_at: Mapped[datetime | None]
    owed: Mapped[str | None]
    owed_since: Mapped[datetime | None]
    owed_answer: Mapped[str] = mapped_column(server_default="")
    owed_next_try_at: Mapped[datetime | None]
    handle: Mapped[JsonObject] = mapped_column(server_default="{}")
    version: Mapped[int] = mapped_column(server_default="1")


class Term(Recorded, Owned, Base):
    """One level on the whole account, a group or a resource, within one window, perhaps only in certain hours."""

    __tablename__ = "terms"
    __table_args__ = (
        CheckConstraint("num_nonnulls(resource_id, group_id) <= 1", name="one_part"),
        Index("ix_terms_grant_id", "grant_id"),
        Index("ix_terms_level_id", "level_id"),
        Index("ix_terms_until", "organisation_id", "until"),
        Index("ix_terms_steward_of", "steward_of", postgresql_where=text("steward_of is not null")),
    )

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    level_id: Mapped[UUID] = mapped_column(ForeignKey("levels.id"))
    resource_id: Mapped[UUID | None] = mapped_column(ForeignKey("resources.id"))
    group_id: Mapped[UUID | None] = mapped_column(ForeignKey("resource_groups.id"))
    since: Mapped[datetime | None]
    until: Mapped[datetime | None]
    hours: Mapped[JsonObject | None]
    # The account, where the level decides who else gets in. The database sees to it.
    steward_of: Mapped[UUID | None]


class Use(Owned, Base):
    """On which days a permission of a grant was used, as one compact set of days; with an empty permission, any of
    them.

    The database keeps its two longest pauses, in days.
    """

    __tablename__ = "uses"
    __table_args__ = (UniqueConstraint("grant_id", "permission"),)

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    permission: Mapped[str]
    days: Mapped[Any] = mapped_column(DATEMULTIRANGE)
    pauses: Mapped[list[int]] = mapped_column(ARRAY(Integer), Computed("longest_pauses(days)", persisted=True))


class Session(Proved, Keyed, Base):
    """A signed-in presence of a person or an app in an account. The database finds where its address is."""

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
    country: Mapped[str | None]
    latitude: Mapped[float | None] = mapped_column(Double)
    longitude: Mapped[float | None] = mapped_column(Double)
    started_at: Mapped[datetime]
    last_seen_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_as: Mapped[str | None]
    handle: Mapped[JsonObject] = mapped_column(server_default="{}")


class LargeChange(Owned, Base):
    """A change of many grants, which the worker makes: who asked for what, of which grants, and how far it is.

    ``versions`` are those that the grants had when it was asked for. ``lines`` are some of what came of it.
    """

    __tablename__ = "large_changes"
    __table_args__ = (
        CheckConstraint("state in ('waiting', 'under_way', 'done', 'stopped', 'failed')", name="state"),
        Index("ix_large_changes_going_on", "id", postgresql_where=text("state in ('waiting', 'under_way')")),
    )

    asked_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    asked_by_name: Mapped[str]
    only_preview: Mapped[bool]
    wish: Mapped[JsonObject]
    grants: Mapped[list[UUID]] = mapped_column(ARRAY(Uuid))
    versions: Mapped[JsonObject]
    state: Mapped[str]
    done: Mapped[int] = mapped_column(server_default="0")
    changed: Mapped[int] = mapped_column(server_default="0")
    lines: Mapped[JsonList] = mapped_column(server_default="[]")
    problem: Mapped[str] = mapped_column(server_default="")
    ended_at: Mapped[datetime | None]
