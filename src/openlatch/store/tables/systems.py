"""Systems and what they show: logins, places, differences from the register."""

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
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import CIDR
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Keyed, Owned


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


class SystemTrial(Owned, Base):
    """How a system is to be reached, for the worker to try before it is kept. ``secret`` is sealed for the worker."""

    __tablename__ = "system_trials"
    __table_args__ = (CheckConstraint("state in ('waiting', 'good', 'refused')", name="state"),)

    system_id: Mapped[UUID | None] = mapped_column(ForeignKey("systems.id"))
    kind: Mapped[str]
    settings: Mapped[JsonObject]
    secret: Mapped[bytes | None] = mapped_column(deferred=True)
    state: Mapped[str] = mapped_column(server_default="waiting")
    answer: Mapped[str] = mapped_column(server_default="")
    found: Mapped[JsonObject] = mapped_column(server_default="{}")
    tried_at: Mapped[datetime | None]


class System(Keyed, Base):
    """Where accounts really live. ``secret`` is encrypted with a key that is not in the database; the web process may
    not read it, and is told that there is one (``has_secret``). It is loaded when it is used.

    It is read every ``read_every`` minutes. ``stamps`` are what accounts looked like at the last read, by the system's
    own marks; ``matching`` says by what people are told there (core.people.login_matching). While it is read,
    ``reading_seen``
    counts.
    """

    __tablename__ = "systems"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("read_every between 1 and 10080", name="read_every"),
    )

    name: Mapped[str]
    kind: Mapped[str] = mapped_column(server_default="by_hand")
    settings: Mapped[JsonObject] = mapped_column(server_default="{}")
    secret: Mapped[bytes | None] = mapped_column(deferred=True)
    has_secret: Mapped[bool] = mapped_column(Computed("secret is not null"))
    read_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    down_since: Mapped[datetime | None]
    read_every: Mapped[int] = mapped_column(server_default="10")
    next_read_at: Mapped[datetime | None]
    read_fully_at: Mapped[datetime | None]
    reading_since: Mapped[datetime | None]
    reading_seen: Mapped[int] = mapped_column(server_default="0")
    stamps: Mapped[JsonObject] = mapped_column(server_default="{}", deferred=True)
    coverage: Mapped[JsonObject] = mapped_column(server_default="{}")
    matching: Mapped[JsonList] = mapped_column(server_default="[]")
    paused_at: Mapped[datetime | None]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Handle(Owned, Base):
    """The name by which a system knows a person or an app.

    ``marks`` are what it tells of them, ``hangs`` what hangs on this login there. ``candidates`` are people who may be
    meant; somebody has to say, and has when ``settled``.
    """

    __tablename__ = "handles"
    __table_args__ = (
        UniqueConstraint("organisation_id", "system_id", "name"),
        CheckConstraint("num_nonnulls(person_id, app_id) = 1", name="one_holder"),
    )

    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    name: Mapped[str]
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    marks: Mapped[JsonObject] = mapped_column(server_default="{}")
    locked: Mapped[bool] = mapped_column(server_default="false")
    hangs: Mapped[JsonList] = mapped_column(server_default="[]")
    candidates: Mapped[JsonList] = mapped_column(server_default="[]")
    settled: Mapped[bool] = mapped_column(server_default="false")


class Mark(Owned, Base):
    """Something besides their address by which systems tell a person: a uid, a key's fingerprint, a staff number."""

    __tablename__ = "marks"
    __table_args__ = (
        UniqueConstraint("organisation_id", "kind", "value", "person_id"),
        CheckConstraint("kind in ('uid', 'fingerprint', 'employee')", name="kind"),
        Index("ix_marks_person_id", "person_id"),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    kind: Mapped[str]
    value: Mapped[str]


class Place(Owned, Base):
    """Where the addresses of a network are, as far as known."""

    __tablename__ = "places"
    __table_args__ = (
        UniqueConstraint("organisation_id", "network"),
        CheckConstraint("latitude between -90 and 90 and longitude between -180 and 180", name="on_earth"),
        Index("ix_places_network", "network", postgresql_using="gist", postgresql_ops={"network": "inet_ops"}),
    )

    network: Mapped[Any] = mapped_column(CIDR)
    place: Mapped[str]
    country: Mapped[str]
    latitude: Mapped[float] = mapped_column(Double)
    longitude: Mapped[float] = mapped_column(Double)
