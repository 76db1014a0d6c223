"""The page of a connected app: the accounts that it is linked to, and what it may do there."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.service.lists import register
from openlatch.service.unit import Unit
from openlatch.store.lists import register as register_lists
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Grant


def app_page(unit: Unit, ident: UUID) -> schemas.AppPage:
    """An app with its links: the accounts, what it may do there in plain words, who linked it, when it was used."""
    app = register.row(unit, "apps", ident)
    links = register_lists.GRANTS.page(
        unit.db,
        ListQuery(limit=200),
        [unit.sight.grants(), Grant.holder_id == ident, Grant.state.in_(register_lists.LIVE)],
    )
    return schemas.AppPage.model_validate({**app, "grants": links.rows})
