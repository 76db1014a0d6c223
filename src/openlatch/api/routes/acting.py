"""The calls for acting on behalf of an account."""

from __future__ import annotations

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service.acting import visits
from openlatch.service.identity import authentication
from openlatch.service.unit import Unit


@api.add("POST", "/me/switch", "Switch into an account", schemas.Me, body=schemas.Switch, inside=True)
def switch_in(unit: Unit, body: schemas.Switch) -> schemas.Me:
    """From then on your actions are recorded as done on behalf of its owner."""
    return authentication.describe(visits.enter(unit, body.account))


@api.add("DELETE", "/me/switch", "Switch out again", schemas.Done, inside=True)
def switch_out(unit: Unit) -> schemas.Done:
    """Nothing happens to somebody who is not inside."""
    visits.leave(unit)
    return schemas.Done(done=True)
