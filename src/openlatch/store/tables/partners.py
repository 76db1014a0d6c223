"""Links between organisations."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList
from openlatch.store.tables.base import Base, Row


class PartnerLink(Row, Base):
    """A partner organisation, linked with a client on the same server once that has accepted it.

    ``people`` are the partner's people who act for the client, with who they are ``there``; ``leaving`` are those who
    do no more, and are still to be put out there. ``team_id`` is the client's team that they are in.
    """

    __tablename__ = "partner_links"

    partner_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    partner_name: Mapped[str]
    client_id: Mapped[UUID | None] = mapped_column(ForeignKey("organisations.id"))
    client_slug: Mapped[str]
    client_name: Mapped[str]
    words: Mapped[str] = mapped_column(server_default="")
    people: Mapped[JsonList]
    leaving: Mapped[JsonList] = mapped_column(server_default="[]")
    people_at_end: Mapped[int | None]
    team_id: Mapped[UUID | None]
    offered_at: Mapped[datetime]
    offered_by: Mapped[str]
    accepted_at: Mapped[datetime | None]
    declined_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    ended_by: Mapped[str] = mapped_column(server_default="")
