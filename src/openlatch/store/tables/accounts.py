"""Accounts, their resources, and apps."""

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
from openlatch.store.tables.base import Base, Keyed, Owned, Proved, Recorded, trigrams


class Resource(Recorded, Proved, Keyed, Base):
    """A part of an account that can be shared separately. ``public`` if anyone can reach it by its access rules.

    ``path`` is how access rules name it; ``above`` are the keys of groups above it in its system, from the nearest;
    without ``inherits`` only its own rules apply. Its proof says how it is known that it was closed.
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
    attributes: Mapped[JsonObject] = mapped_column(server_default="{}")
    above: Mapped[JsonList] = mapped_column(server_default="[]")
    inherits: Mapped[bool] = mapped_column(server_default="true")
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class ResourceGroup(Recorded, Keyed, Base):
    """Resources of one account that are given together."""

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


class Account(Recorded, Keyed, Base):
    """A shared account in a system.

    ``coverage`` is what the last reading covered and what not; ``partial_since``: since when readings could not
    understand all of it. ``is_closed``: it is not shared, and nobody can be given anything on it.
    """

    __tablename__ = "accounts"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("sensitivity between 1 and 4", name="sensitivity"),
        CheckConstraint("num_nonnulls(payer_person_id, payer_team_id, payer_account_id) <= 1", name="one_payer"),
        *(
            Index(f"ix_accounts_{column}", column, postgresql_where=text(f"{column} is not null"))
            for column in ("payer_person_id", "payer_team_id", "payer_account_id")
        ),
        Index("ix_accounts_name", "organisation_id", "name", "id"),
        trigrams("accounts", "name"),
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
    coverage: Mapped[JsonObject] = mapped_column(server_default="{}")
    partial_since: Mapped[datetime | None]
    emergency_hours: Mapped[int | None]
    prerequisites: Mapped[JsonList] = mapped_column(server_default="[]")
    is_closed: Mapped[bool] = mapped_column(server_default="false")
    payer_person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    payer_team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    payer_account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    paid_until: Mapped[datetime | None]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class App(Recorded, Keyed, Base):
    """Software that holds grants."""

    __tablename__ = "apps"
    __table_args__ = (UniqueConstraint("organisation_id", "key"), trigrams("apps", "name"))

    name: Mapped[str]
    publisher: Mapped[str] = mapped_column(server_default="")
    home_page: Mapped[str] = mapped_column(server_default="")
    purpose: Mapped[str] = mapped_column(server_default="")
    merged_into_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")
