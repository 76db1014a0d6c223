"""Setting the organisation's guards in a system, by the worker."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from openlatch.core.vocabulary import ToldGuardState
from openlatch.errors import NotFound, SystemDown, SystemRefused
from openlatch.service import connections
from openlatch.service.exposure.system_guards import AGAIN, PREFIX, as_told, fail, rows_of
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import System


def carry_out(service: Service, organisation: UUID, ident: UUID) -> datetime | None:
    """Set the guards in a system, and read it; returns when to try again."""
    viewer = Viewer.itself(organisation)
    with service.unit(viewer) as unit:
        system = unit.db.get(System, ident)
        if system is None:
            return None
        rows = rows_of(unit, ident)
        wanted = [as_told(unit, row) for row in rows if row.state != ToldGuardState.OFF]
        try:
            adapter = connections.adapter_for(service, system)
        except (NotFound, SystemRefused) as error:
            fail(rows, error.detail)
            return None
    with service.rooms.enter(ident) as has_room:
        if not has_room:
            return service.clock() + AGAIN
        try:
            adapter.set_guards(wanted, PREFIX)
        except SystemDown:
            return service.clock() + AGAIN
        except SystemRefused as error:
            with service.unit(viewer) as unit:
                fail(rows_of(unit, ident), error.detail)
                unit.announce("exposure_guards")
            return None
    return None if readings.read(service, organisation, ident) is not None else service.clock() + AGAIN
