"""People, teams, memberships."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import (
    CheckConstraint,
    Computed,
    ForeignKey,
    Index,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base, Keyed, Owned, Recorded, trigrams


class Merge(Owned, Base):
    """That two records were made one. ``moved`` are the rows that refer to the kept one now, by table and column;
    ``dropped`` the rows that went, among them the record itself; ``filled`` what the kept one lacked and has now, as it
    was.
    """

    __tablename__ = "merges"

    kind: Mapped[str]
    kept_id: Mapped[UUID]
    kept_name: Mapped[str]
    gone_id: Mapped[UUID]
    gone_name: Mapped[str]
    merged_at: Mapped[datetime]
    merged_by: Mapped[str]
    undone_at: Mapped[datetime | None]
    moved: Mapped[JsonObject]
    dropped: Mapped[JsonObject]
    filled: Mapped[JsonObject]


class Person(Recorded, Keyed, Base):
    """A human being known to the organisation. ``recognised`` is false for one met only in a system; a record that was
    merged into another stays for what names it for ever, and is shown nowhere.
    """

    __tablename__ = "people"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("standing in ('current', 'leaving', 'left')", name="standing"),
        CheckConstraint("manager_id <> id and deputy_id <> id", name="somebody_else"),
        Index("ix_people_name", "organisation_id", "name", "id"),
        trigrams("people", "name"),
        trigrams("people", "address"),
        # One person for each address: whoever has left may have had one that somebody else has by now.
        Index(
            "uq_people_address",
            "organisation_id",
            text("lower(address)"),
            unique=True,
            postgresql_where=text("address is not null and standing <> 'left'"),
        ),
        Index("ix_people_same_name", "organisation_id", text("lower(name)")),
        Index("ix_people_deputy_id", "deputy_id", postgresql_where=text("deputy_id is not null")),
    )

    name: Mapped[str]
    address: Mapped[str | None]
    job: Mapped[str] = mapped_column(server_default="")
    inside: Mapped[bool]
    standing: Mapped[str] = mapped_column(server_default="current")
    leaves_at: Mapped[datetime | None]
    recognised: Mapped[bool] = mapped_column(server_default="true")
    address_confirmed_at: Mapped[datetime | None]
    second_factor: Mapped[bool] = mapped_column(server_default="false")
    refuses_offers: Mapped[bool] = mapped_column(server_default="false")
    manager_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    deputy_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    away_since: Mapped[datetime | None]
    away_until: Mapped[datetime | None]
    wants_digest: Mapped[bool] = mapped_column(server_default="true")
    wants_trends: Mapped[bool] = mapped_column(server_default="false")
    reported_at: Mapped[datetime | None]
    reported: Mapped[str] = mapped_column(server_default="")
    erased_at: Mapped[datetime | None]
    merged_into_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    version: Mapped[int] = mapped_column(server_default="1")


class PersonAddress(Owned, Base):
    """Another address of a person, besides the one that mail goes to. It belongs to one person."""

    __tablename__ = "person_addresses"
    __table_args__ = (
        Index("uq_person_addresses_address", "organisation_id", text("lower(address)"), unique=True),
        Index("ix_person_addresses_person_id", "person_id"),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    address: Mapped[str]
    confirmed_at: Mapped[datetime | None]


class Team(Recorded, Keyed, Base):
    """People and teams, or a partner organisation, treated as one holder."""

    __tablename__ = "teams"
    __table_args__ = (UniqueConstraint("organisation_id", "key"), trigrams("teams", "name"))

    name: Mapped[str]
    partner: Mapped[bool] = mapped_column(server_default="false")
    purpose: Mapped[str] = mapped_column(server_default="")
    speaker_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Membership(Recorded, Owned, Base):
    """That a person or a team belongs to a team, for a while."""

    __tablename__ = "memberships"
    __table_args__ = (
        UniqueConstraint("organisation_id", "team_id", "member_id"),
        CheckConstraint("num_nonnulls(person_id, member_team_id) = 1", name="one_member"),
        CheckConstraint("member_team_id is null or member_team_id <> team_id", name="not_in_itself"),
        Index("ix_memberships_member_id", "member_id"),
        Index("ix_memberships_nested", "team_id", postgresql_where=text("member_team_id is not null")),
    )

    team_id: Mapped[UUID] = mapped_column(ForeignKey("teams.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    member_team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    member_id: Mapped[UUID] = mapped_column(Computed("coalesce(person_id, member_team_id)", persisted=True))
    since: Mapped[datetime | None]
    until: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Roster(Base):
    """The version of a team's members. A trigger changes it whenever the members, or what matters about them, change;
    so members can be cached.
    """

    __tablename__ = "rosters"

    team_id: Mapped[UUID] = mapped_column(primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    version: Mapped[UUID]
