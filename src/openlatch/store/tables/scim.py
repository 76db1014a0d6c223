"""What directories keep for us by SCIM."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base, Owned


class ScimRecord(Owned, Base):
    """How a directory names a person or a team, and what it says of them that the register has no other place for.

    ``given`` has the parts of names and the kinds of addresses. Of somebody whom the directory has switched off,
    ``inactive_since`` says since when; what it has deleted is not shown to it any more.
    """

    __tablename__ = "scim_records"
    __table_args__ = (
        CheckConstraint("num_nonnulls(person_id, team_id) = 1", name="one_subject"),
        Index(
            "uq_scim_records_user_name",
            "organisation_id",
            text("lower(user_name)"),
            unique=True,
            postgresql_where=text("removed_at is null"),
        ),
        Index("ix_scim_records_external_id", "organisation_id", "external_id"),
    )

    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"), unique=True)
    team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"), unique=True)
    user_name: Mapped[str | None]
    external_id: Mapped[str | None]
    given: Mapped[JsonObject] = mapped_column(server_default="{}")
    inactive_since: Mapped[datetime | None]
    removed_at: Mapped[datetime | None]
    changed_at: Mapped[datetime] = mapped_column(server_default=text("now()"))
