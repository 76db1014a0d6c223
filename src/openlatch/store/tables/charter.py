"""The charter that an organisation adopted last."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base


class AdoptedCharter(Base):
    """The charter as it was adopted. It names people by their ids, so that it holds no address of anybody."""

    __tablename__ = "adopted_charters"

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"), primary_key=True)
    document: Mapped[JsonObject]
    source: Mapped[str]
    adopted_at: Mapped[datetime]
    adopted_by: Mapped[str]
