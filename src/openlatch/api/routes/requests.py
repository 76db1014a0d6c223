"""The calls about requests for access."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routes.offers import choice
from openlatch.api.routing import api, if_match
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_for
from openlatch.service.requests import page as request_page
from openlatch.service.unit import Unit


@api.add("POST", "/requests", "Ask for access", schemas.RequestRow, body=schemas.AskAccess, status=201)
def ask_access(unit: Unit, body: schemas.AskAccess) -> schemas.RequestRow:
    """The same again, while it waits for an answer, changes the request that is there."""
    given = body.model_dump()
    return ask_for.ask(unit, ask_for.Wish(**{**given, "parts": tuple(body.parts)}))


@api.add("GET", "/requests/<uuid:ident>", "A request for access", schemas.RequestRow, inside=True)
def get_request(unit: Unit, ident: UUID) -> schemas.RequestRow:
    """Yours, or one that you may answer."""
    return request_page.one(unit, ident)


@api.add(
    "POST",
    "/requests/<uuid:ident>/grant",
    "Grant a request",
    schemas.RequestRow,
    body=schemas.GrantRequest,
    inside=True,
)
def grant_request(unit: Unit, ident: UUID, body: schemas.GrantRequest) -> schemas.RequestRow:
    """As it was asked, or less, or for a shorter time."""
    return answer_request.grant(unit, ident, choice(body), body.words, body.account, if_match())


@api.add(
    "POST", "/requests/<uuid:ident>/decline", "Decline a request", schemas.RequestRow, body=schemas.Words, inside=True
)
def decline_request(unit: Unit, ident: UUID, body: schemas.Words) -> schemas.RequestRow:
    """With a word about why."""
    return answer_request.decline(unit, ident, body.words, if_match())


@api.add("POST", "/requests/<uuid:ident>/withdraw", "Withdraw your request", schemas.RequestRow)
def withdraw_request(unit: Unit, ident: UUID) -> schemas.RequestRow:
    """Before it is answered."""
    return answer_request.withdraw(unit, ident, if_match())
