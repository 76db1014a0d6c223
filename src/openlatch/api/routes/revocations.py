"""The calls about revocations and their steps."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service import undo
from openlatch.service.revocations import prepare, steps
from openlatch.service.revocations import revoke as revoke_access
from openlatch.service.unit import Unit

STEP = "/revocations/<uuid:ident>/steps/<uuid:step>"


def _wish(body: schemas.RevokeWish) -> prepare.Wish:
    return prepare.Wish(
        tuple(body.grants), tuple(body.sessions), body.trim_level, body.trim_until, trim_last_day=body.trim_last_day
    )


@api.add(
    "POST", "/revocations/preview", "What a revocation would do", schemas.Preview, body=schemas.RevokeWish, inside=True
)
def preview_revocation(unit: Unit, body: schemas.RevokeWish) -> schemas.Preview:
    """Nothing happens yet."""
    return revoke_access.preview(unit, _wish(body))


@api.add(
    "POST", "/revocations", "End or trim access", schemas.RevocationPage, body=schemas.Revoke, status=201, inside=True
)
def revoke(unit: Unit, body: schemas.Revoke) -> schemas.RevocationPage:
    """Its steps are carried out in the background until a read of the system confirms them."""
    ident = revoke_access.start(unit, _wish(body), body.reason, fingerprint=body.fingerprint)
    return steps.page(unit, ident)


@api.add("GET", "/revocations/<uuid:ident>", "A revocation with its steps", schemas.RevocationPage, inside=True)
def get_revocation(unit: Unit, ident: UUID) -> schemas.RevocationPage:
    """With the preview that was shown."""
    return steps.page(unit, ident)


@api.add("POST", "/revocations/<uuid:ident>/retry", "Try waiting steps now", schemas.RevocationPage, inside=True)
def retry_revocation(unit: Unit, ident: UUID) -> schemas.RevocationPage:
    """Instead of when they are due."""
    steps.retry(unit, ident)
    return steps.page(unit, ident)


@api.add(
    "POST",
    "/revocations/<uuid:ident>/steps/<uuid:step>/done",
    "Say that a step was done by hand",
    schemas.RevocationPage,
    body=schemas.DoneByHand,
    inside=True,
)
def step_done(unit: Unit, ident: UUID, step: UUID, body: schemas.DoneByHand) -> schemas.RevocationPage:
    """With what was seen."""
    steps.done_by_hand(unit, ident, step, body.proof)
    return steps.page(unit, ident)


@api.add(
    "POST",
    f"{STEP}/skip",
    "Say that a step will not be done",
    schemas.RevocationPage,
    body=schemas.SkipStep,
    inside=True,
)
def skip_step(unit: Unit, ident: UUID, step: UUID, body: schemas.SkipStep) -> schemas.RevocationPage:
    """What it would have ended is then not proved to be gone."""
    steps.skip(unit, ident, step, body.reason)
    return steps.page(unit, ident)


@api.add(
    "GET", "/revocations/<uuid:ident>/undo", "What undoing a revocation would put back", schemas.Undone, inside=True
)
def preview_undo(unit: Unit, ident: UUID) -> schemas.Undone:
    """Nothing happens yet."""
    return undo.preview(unit, ident)


@api.add("POST", "/revocations/<uuid:ident>/undo", "Undo a revocation", schemas.Undone, body=schemas.Undo, inside=True)
def undo_revocation(unit: Unit, ident: UUID, body: schemas.Undo) -> schemas.Undone:
    """Restores what was there. Where the other side has to agree again, an offer is sent."""
    return undo.undo(unit, ident, body.reason)
