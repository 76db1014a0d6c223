"""The calls by which systems are connected and kept."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from openlatch import schemas
from openlatch.api.api import api
from openlatch.api.routing import if_match
from openlatch.service.systems import setup
from openlatch.service.unit import Unit

__all__ = ["api"]

ONE = "/systems/<uuid:ident>"


@api.add("GET", "/adapters", "What each kind of system has to be told", schemas.Adapters)
def list_adapters(unit: Unit) -> dict[str, Any]:
    """As its adapter says, with what is usual."""
    unit.sight.require_administrator()
    return {"adapters": setup.adapters()}


@api.add(
    "POST", "/systems/trials", "Try how a system is reached", schemas.SystemTrial, body=schemas.TrySystem, status=202
)
def try_system(unit: Unit, body: schemas.TrySystem) -> dict[str, Any]:
    """The worker does; nothing is kept but the trial, for an hour."""
    return setup.try_out(unit, body.kind, body.settings, body.secret, body.system)


@api.add("GET", "/systems/trials/<uuid:ident>", "What came of a trial", schemas.SystemTrial)
def get_system_trial(unit: Unit, ident: UUID) -> dict[str, Any]:
    """While it is waiting, ask again."""
    return setup.trial(unit, ident)


@api.add("POST", "/systems", "Add a system", schemas.SystemRecord, body=schemas.MakeSystem, status=201)
def make_system(unit: Unit, body: schemas.MakeSystem) -> dict[str, Any]:
    """One that was tried and answered is read soon; one without a trial is looked after by hand."""
    return setup.make(unit, body.name, body.trial)


@api.add("GET", f"{ONE}/record", "Show a system as it is kept", schemas.SystemRecord)
def get_record_of_system(unit: Unit, ident: UUID) -> dict[str, Any]:
    """How it is reached, without its secret."""
    return setup.shown(unit, ident)


@api.add("PATCH", ONE, "Edit a system, or rotate its secret", schemas.SystemRecord, body=schemas.ChangeSystem)
def edit_system(unit: Unit, ident: UUID, body: schemas.ChangeSystem) -> dict[str, Any]:
    """Another name, or another way to reach it that a trial has shown to work."""
    return setup.change(unit, ident, body.name, body.trial, if_match())


@api.add("PUT", f"{ONE}/paused", "Pause the readings of a system", schemas.SystemRecord)
def pause_system(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Until somebody lets it be read again."""
    return setup.set_paused(unit, ident, True)


@api.add("DELETE", f"{ONE}/paused", "Let a system be read again", schemas.SystemRecord)
def resume_system(unit: Unit, ident: UUID) -> dict[str, Any]:
    """At once, and then by its schedule."""
    return setup.set_paused(unit, ident, False)


@api.add("DELETE", ONE, "Remove a system", schemas.Done)
def remove_system(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Only while no account is in it; its levels and its secret go with it."""
    setup.remove(unit, ident)
    return {"done": True}
