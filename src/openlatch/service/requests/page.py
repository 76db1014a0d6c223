"""One request, and where its state changes."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.states import REQUESTS, RequestState, move
from openlatch.errors import Conflict, NotFound
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.lists import offers
from openlatch.store.tables import AccessRequest, Account, Grant, Person


def end_of(unit: Unit, grant: Grant) -> datetime | None:
    """When a grant ends; None when it has no end."""
    ends = {term.window.until for term in mapping.terms_of(unit.db, [grant.id]).get(grant.id, [])}
    return None if None in ends or not ends else max(end for end in ends if end is not None)


def one(unit: Unit, ident: UUID) -> schemas.RequestRow:
    """A request. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = offers.REQUESTS.one(unit.db, ident, [unit.sight.requests()])
    if row is None:
        raise NotFound("There is no such request, or you may not see it.")
    return schemas.RequestRow.model_validate(row)


def locked(unit: Unit, ident: UUID, version: int | None) -> AccessRequest:
    """A request that the viewer may see, locked. Conflict when it was changed since ``version``."""
    one(unit, ident)
    row = unit.db.get_one(AccessRequest, ident, with_for_update=True, populate_existing=True)
    if version is not None and version != row.version:
        raise Conflict(f"The request was changed meanwhile; it is {row.state} now.", "Look at it again.")
    return row


def write_answer(unit: Unit, row: AccessRequest, then: RequestState, words: str) -> None:
    """Write how a request was answered, and journal it. Conflict when it was answered before."""
    row.state = move(REQUESTS, "request", RequestState(row.state), then)
    row.answered_at, row.answered_by_id, row.answer = unit.now, unit.viewer.person, words.strip()
    row.version += 1
    name = unit.db.get_one(Account, row.account_id).name if row.account_id else row.wanted
    unit.record(f"request.{then}", "request", row.id, name, row.account_id, answer=row.answer)


def answerers(unit: Unit, row: AccessRequest) -> set[UUID]:
    """Who is told of a request, and may answer it."""
    if row.account_id is None:
        owner = unit.db.scalar(
            select(Person.id)
            .join(Account, Account.owner_id == Person.id)
            .where(Person.address == row.owner_address)
            .limit(1)
        )
        return {owner} if owner else notices.administrators(unit)
    return notices.answerers(unit, row.account_id)
