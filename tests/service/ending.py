"""Connecting a system of the tests with the service, and ending access in it as the worker does."""

from __future__ import annotations

from datetime import timedelta
from uuid import UUID

from sqlalchemy import select

from openlatch.service import connections
from openlatch.service.revocations import execute, prepare, revoke, steps
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Account, Grant, Handle
from tests.adapters.worlds import World
from tests.conftest import Clock


def connect(service: Service, viewer: Viewer, world: World) -> UUID:
    ident = connections.connect(service, viewer, world.kind, world.kind, world.kind, world.settings, world.secret)
    assert readings.read(service, viewer.organisation, ident) is not None
    return ident


def grant_of(unit: Unit, world: World, who: str) -> Grant:
    found = (
        select(Grant)
        .join(Account, Account.id == Grant.account_id)
        .join(Handle, Handle.person_id == Grant.person_id)
        .where(Account.handle == world.account, Handle.name == who, Grant.state != "ended")
    )
    return unit.db.scalars(found).one()


def start_ending(service: Service, viewer: Viewer, world: World, who: str) -> tuple[UUID, UUID]:
    with service.unit(viewer) as unit:
        grant = grant_of(unit, world, who).id
        return grant, revoke.start(unit, prepare.Wish(grants=(grant,)), "The season is over.")


def carry_on(service: Service, viewer: Viewer, clock: Clock, revocation: UUID, turns: int = 12) -> str:
    """Carry it out as the worker does, letting time pass; gives its state."""
    for _ in range(turns):
        execute.carry_out(service, viewer.organisation, revocation)
        with service.unit(viewer) as unit:
            state = str(steps.page(unit, revocation).state)
        if state in ("confirmed", "done"):
            break
        clock.now += timedelta(minutes=1)
    return state
