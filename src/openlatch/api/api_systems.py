"""The calls about systems, leavers and undoing. They go into the same table as the others."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from openlatch import schemas
from openlatch.api.api import api
from openlatch.service.lists import register
from openlatch.service.people import leavers
from openlatch.service.revocations import steps, undo
from openlatch.service.systems import login_matching, systems
from openlatch.service.unit import Unit

__all__ = ["api"]

SYSTEM = "/systems/<uuid:ident>"
STEP = "/revocations/<uuid:ident>/steps/<uuid:step>"
LEAVING = "/people/<uuid:ident>/leaving"


@api.add("POST", f"{SYSTEM}/read", "Read a system soon", schemas.Done, query=schemas.ReadOptions, status=202)
def read_system(unit: Unit, ident: UUID, query: schemas.ReadOptions) -> dict[str, Any]:
    """The worker reads it; the event stream tells how far it has come."""
    systems.ask_to_read(unit, ident, query.fully)
    return {"done": True}


@api.add("PUT", f"{SYSTEM}/reading", "Say how often a system is read", schemas.SystemRow, body=schemas.SetReading)
def set_reading(unit: Unit, ident: UUID, body: schemas.SetReading) -> dict[str, Any]:
    """Besides when somebody asks for it."""
    systems.set_schedule(unit, ident, body.read_every)
    unit.db.flush()
    return register.one(unit, "systems", ident)


@api.add("PUT", f"{SYSTEM}/matching", "Say by what people are told", schemas.SystemRow, body=schemas.SetMatching)
def set_matching(unit: Unit, ident: UUID, body: schemas.SetMatching) -> dict[str, Any]:
    """It counts from the next read on, also for those met before whom nobody has named."""
    login_matching.set_rules(unit, ident, body.matching)
    unit.db.flush()
    return register.one(unit, "systems", ident)


@api.add("GET", "/doubts", "Logins that may be somebody's", schemas.Doubts)
def get_doubts(unit: Unit) -> dict[str, Any]:
    """Each with who, and by which mark, for a person to decide."""
    return {"doubts": login_matching.doubts(unit)}


@api.add("POST", "/doubts/<uuid:ident>/decide", "Say whose a login is", schemas.Done, body=schemas.DecideDoubt)
def decide_doubt(unit: Unit, ident: UUID, body: schemas.DecideDoubt) -> dict[str, Any]:
    """What was found under it is theirs from then on."""
    login_matching.decide(unit, ident, body.person)
    return {"done": True}


@api.add(
    "POST",
    f"{STEP}/skip",
    "Say that a step will not be done",
    schemas.RevocationPage,
    body=schemas.SkipStep,
    inside=True,
)
def skip_step(unit: Unit, ident: UUID, step: UUID, body: schemas.SkipStep) -> dict[str, Any]:
    """What it would have ended is then not proved to be gone."""
    steps.skip(unit, ident, step, body.reason)
    return steps.page(unit, ident)


@api.add(
    "GET", "/revocations/<uuid:ident>/undo", "What undoing a revocation would put back", schemas.Undone, inside=True
)
def preview_undo(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Nothing happens yet."""
    return undo.preview(unit, ident)


@api.add("POST", "/revocations/<uuid:ident>/undo", "Undo a revocation", schemas.Undone, body=schemas.Undo, inside=True)
def undo_revocation(unit: Unit, ident: UUID, body: schemas.Undo) -> dict[str, Any]:
    """What was there is put back just as it was; where the other side has to agree, it is offered."""
    return undo.undo(unit, ident, body.reason)


def _plan(ident: UUID, body: schemas.LeaveWish) -> leavers.Plan:
    return leavers.Plan(ident, dict(body.successors), body.lock, body.drop)


@api.add(
    "POST", f"{LEAVING}/preview", "What somebody's leaving would do", schemas.LeavingPreview, body=schemas.LeaveWish
)
def preview_leaving(unit: Unit, ident: UUID, body: schemas.LeaveWish) -> dict[str, Any]:
    """All that they reach, and what needs a successor first. Nothing happens yet."""
    return leavers.preview(unit, _plan(ident, body))


@api.add("POST", LEAVING, "Let somebody leave", schemas.LeavingPage, body=schemas.Leave, status=201)
def let_leave(unit: Unit, ident: UUID, body: schemas.Leave) -> dict[str, Any]:
    """Successors first; then everything ends, each thing where it lives."""
    return leavers.start(unit, _plan(ident, body), body.reason, body.fingerprint)


@api.add("GET", LEAVING, "How far somebody's leaving has come", schemas.LeavingPage)
def get_leaving(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Counted in the register now, down to nothing left."""
    return leavers.page(unit, ident)


@api.add("GET", f"{LEAVING}/report", "What came of somebody's leaving", schemas.LeavingReport)
def report_leaving(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Once nothing is left."""
    return leavers.report(unit, ident)
