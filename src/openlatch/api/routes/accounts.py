"""The calls about accounts and apps."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.service.accounts import settings
from openlatch.service.accounts.app_page import app_page
from openlatch.service.accounts.page import account_page
from openlatch.service.unit import Unit


@api.add(
    "GET",
    "/accounts/<uuid:ident>",
    "An account, with everyone and everything that can reach it",
    schemas.AccountPage,
    inside=True,
)
def get_account(unit: Unit, ident: UUID) -> schemas.AccountPage:
    """Owners and administrators see all paths; others their own."""
    return account_page(unit, ident)


@api.add("GET", "/apps/<uuid:ident>", "An app, with its links", schemas.AppPage, inside=True)
def get_app(unit: Unit, ident: UUID) -> schemas.AppPage:
    """Each link is a grant on an account."""
    return app_page(unit, ident)


@api.add(
    "PUT",
    "/accounts/<uuid:ident>/giving",
    "How access to an account is given",
    schemas.AccountRow,
    body=schemas.SetAccount,
    inside=True,
)
def set_account(unit: Unit, ident: UUID, body: schemas.SetAccount) -> schemas.AccountRow:
    """In an emergency, and what people need before they can accept."""
    return settings.set_account(unit, ident, body.emergency_hours, list(body.prerequisites), if_match())
