"""The facts that rules know about somebody, for themselves and for those who may see them."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.errors import NotFound
from openlatch.service.flags import rule_settings
from openlatch.service.unit import Unit
from openlatch.store.lists.register import LIVE
from openlatch.store.tables import Grant, Person, Session

MOST = 200


def about(unit: Unit, person: UUID | None) -> list[schemas.FactsOf]:
    """The facts about a person, their grants and their sessions, with every rule that looks at them.

    Of oneself, or of somebody whom the viewer may see, as far as they may see it. NotFound for anybody else.
    """
    who = person or unit.viewer.person
    if who is None:
        raise NotFound("Nobody is named.", "Name a person.")
    seen = unit.db.scalar(select(Person.id).where(Person.id == who, unit.sight.people()))
    if seen is None:
        raise NotFound("There is no such person, or you may not see them.")
    grants = unit.db.scalars(
        select(Grant.id).where(Grant.holder_id == who, Grant.state.in_(LIVE), unit.sight.grants()).limit(MOST)
    ).all()
    sessions = unit.db.scalars(
        select(Session.id)
        .where(Session.holder_id == who, Session.ended_at.is_(None), unit.sight.sessions())
        .limit(MOST)
    ).all()
    whole = unit.sight.everything or who == unit.viewer.person
    return [
        *(rule_settings.about(unit, "person", [who]) if whole else []),
        *rule_settings.about(unit, "grant", grants),
        *rule_settings.about(unit, "session", sessions),
    ]
