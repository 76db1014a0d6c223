"""The calls about latches."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.errors import BadInput
from openlatch.service.latches import guard
from openlatch.service.unit import Unit


def latch_setting(body: schemas.SetLatch) -> guard.Setting:
    """A latch as it was sent. BadInput for a pair that is none."""
    if body.pair and len(body.pair) != 2:
        raise BadInput("A pair has two keys.", "Give two permissions.", {"pair": "not two"})
    pair = (body.pair[0], body.pair[1]) if body.pair else ("", "")
    return guard.Setting(LatchKind(body.kind), LatchMode(body.mode), body.account, body.account_kind, body.number, pair)


@api.add(
    "POST",
    "/latches/preview",
    "What breaks a latch as things are",
    schemas.LatchPreview,
    body=schemas.SetLatch,
    inside=True,
)
def preview_latch(unit: Unit, body: schemas.SetLatch) -> schemas.LatchPreview:
    """Before it is switched on."""
    return guard.preview(unit, latch_setting(body))


@api.add("PUT", "/latches", "Set a latch", schemas.LatchPreview, body=schemas.SetLatch)
def set_latch(unit: Unit, body: schemas.SetLatch) -> schemas.LatchPreview:
    """To off, warn or hold. What breaks it already stays, and is flagged."""
    return guard.switch(unit, latch_setting(body))


@api.add(
    "GET", "/accounts/<uuid:ident>/latches", "Every latch of an account", schemas.Rows[schemas.LatchState], inside=True
)
def get_latches(unit: Unit, ident: UUID) -> schemas.Rows[schemas.LatchState]:
    """How each is set, and what breaks it."""
    return schemas.Rows[schemas.LatchState](rows=guard.of_account(unit, ident))
