"""The call for what needs a person today."""

from __future__ import annotations

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service import today
from openlatch.service.unit import Unit


@api.add("GET", "/today", "What needs a person today", schemas.Today)
def get_today(unit: Unit) -> schemas.Today:
    """Of what you may see."""
    return today.page(unit)
