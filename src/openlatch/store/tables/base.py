"""What every table shares."""

from __future__ import annotations

from datetime import datetime
from typing import ClassVar
from uuid import UUID

from sqlalchemy import DateTime, ForeignKey, Index, LargeBinary, MetaData, Text, func, literal_column, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column
from sqlalchemy.types import Uuid

from openlatch.core.ids import new_id
from openlatch.json_values import JsonList, JsonObject


class Base(DeclarativeBase):
    """All tables, with named constraints, so that database errors can be identified."""

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
        JsonObject: JSONB,
        JsonList: JSONB,
        str: Text,
        bytes: LargeBinary,
        UUID: Uuid,
    }


def trigrams(table: str, column: str) -> Index:
    """An index for finding words anywhere in a text, ignoring case (pg_trgm)."""
    lowered = func.lower(literal_column(column)).label("lowered")
    return Index(
        f"ix_{table}_{column}_trigrams", lowered, postgresql_using="gin", postgresql_ops={"lowered": "gin_trgm_ops"}
    )


class Row:
    """The columns of every table."""

    id: Mapped[UUID] = mapped_column(primary_key=True, default=new_id)
    created_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class Organisation(Row, Base):
    """The tenant."""

    __tablename__ = "organisations"

    name: Mapped[str]
    slug: Mapped[str] = mapped_column(unique=True)
    time_zone: Mapped[str] = mapped_column(server_default="UTC")
    settings: Mapped[JsonObject] = mapped_column(server_default="{}")
    digest_at: Mapped[datetime | None]
    trends_at: Mapped[datetime | None]
    ruling_version: Mapped[int] = mapped_column(server_default="1")


class Owned(Row):
    """A record of an organisation."""

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))


class Recorded:
    """A record whose earlier versions are stored (``Version``). ``recorded_at`` is set at every change."""

    recorded_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class Proved:
    """How the end of something is known (``core.vocabulary.Proof``): since when, by whom or which system, and in which
    words.

    Empty while it has not ended.
    """

    proof: Mapped[str | None]
    proved_at: Mapped[datetime | None]
    proved_by: Mapped[str] = mapped_column(server_default="")
    proof_words: Mapped[str] = mapped_column(server_default="")


class Keyed(Owned):
    """A record that files and programs identify by a key of their own."""

    key: Mapped[str | None]
