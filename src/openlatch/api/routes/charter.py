"""The calls about the charter: how an organisation wants its register to be, as files."""

from __future__ import annotations

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service.charter import adopt
from openlatch.service.unit import Unit


@api.add("GET", "/charter", "The register's own charter, and what differs from the adopted one", schemas.CharterPage)
def get_charter(unit: Unit) -> schemas.CharterPage:
    """For administrators and auditors."""
    return adopt.page(unit)


@api.add(
    "POST",
    "/charter/comparison",
    "Compare a charter with the register",
    schemas.CharterComparison,
    body=schemas.Charter,
)
def compare_charter(unit: Unit, body: schemas.Charter) -> schemas.CharterComparison:
    """What adopting it would change, and whether the register would refuse that. Nothing happens yet."""
    return adopt.comparison(unit, body)


@api.add("PUT", "/charter", "Adopt a charter", schemas.CharterAdoption, body=schemas.AdoptCharter)
def adopt_charter(unit: Unit, body: schemas.AdoptCharter) -> schemas.CharterAdoption:
    """In one transaction, if it still changes what the comparison showed."""
    return adopt.adopt(unit, body.charter, body.fingerprint, body.source)
