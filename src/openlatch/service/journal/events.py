"""The journal as events for other programs (OCSF): the next ones after a position."""

from __future__ import annotations

from importlib.metadata import version
from itertools import islice
from uuid import UUID

from sqlalchemy.orm import Session as Db

from openlatch.core.journal import ocsf
from openlatch.json_values import JsonObject
from openlatch.service.journal import entries
from openlatch.service.unit import Service
from openlatch.store import journal
from openlatch.store.archive import Which

MOST = 1000
NOBODY = str(UUID(int=0))


def after(service: Service, db: Db, organisation: UUID, position: int, limit: int = MOST) -> list[JsonObject]:
    """Up to ``limit`` events after a position of the journal, in order; their positions are ``metadata.sequence``."""
    found = list(islice(entries.every(service, db, organisation, Which(after=position), limit), limit))
    held = journal.holders(db, _named(found, "grant")) | journal.people_of(db, _named(found, "sign_in"))
    product = version("openlatch")
    return [ocsf.event(one, product, held.get(UUID(one["subject"]["id"] or NOBODY))) for one in found]


def _named(found: list[JsonObject], kind: str) -> set[UUID]:
    subjects = [one["subject"] for one in found]
    return {UUID(subject["id"]) for subject in subjects if subject["kind"] == kind and subject["id"]}
