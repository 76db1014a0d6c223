"""The calls about notices."""

from __future__ import annotations

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service.own import my_access
from openlatch.service.unit import Unit


@api.add("POST", "/notices/read", "Mark notices as read", schemas.Done, body=schemas.ReadNotices)
def read_notices(unit: Unit, body: schemas.ReadNotices) -> schemas.Done:
    """Your own; all of them when none is named."""
    my_access.read_notices(unit, body.notices)
    return schemas.Done(done=True)
