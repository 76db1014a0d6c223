"""Latches."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    Index,
    SmallInteger,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList
from openlatch.store.tables.base import Base, Owned, Recorded


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
    pair: Mapped[JsonList] = mapped_column(server_default="[]")


class Breach(Base):
    """What breaks the latches of an account, as it was when somebody last looked: how much, and the first in words."""

    __tablename__ = "breaches"

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    broken: Mapped[int]
    firm: Mapped[bool]
    reach: Mapped[int] = mapped_column(SmallInteger)
    words: Mapped[str]
