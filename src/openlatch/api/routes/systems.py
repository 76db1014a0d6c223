"""The calls by which systems are connected and kept."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.service.grants import hand_tasks, levels
from openlatch.service.lists import register
from openlatch.service.systems import login_matching, readings, setup
from openlatch.service.unit import Unit

ONE = "/systems/<uuid:ident>"


SYSTEM = "/systems/<uuid:ident>"


@api.add("GET", "/adapters", "What each kind of system has to be told", schemas.Adapters)
def list_adapters(unit: Unit) -> schemas.Adapters:
    """As its adapter says, with what is usual."""
    unit.sight.require_administrator()
    return schemas.Adapters(adapters=setup.adapters())


@api.add(
    "POST", "/systems/trials", "Try how a system is reached", schemas.SystemTrial, body=schemas.TrySystem, status=202
)
def try_system(unit: Unit, body: schemas.TrySystem) -> schemas.SystemTrial:
    """The worker does; nothing is kept but the trial, for an hour."""
    return setup.try_out(unit, body.kind, body.settings, body.secret, body.system)


@api.add("GET", "/systems/trials/<uuid:ident>", "What came of a trial", schemas.SystemTrial)
def get_system_trial(unit: Unit, ident: UUID) -> schemas.SystemTrial:
    """While it is waiting, ask again."""
    return setup.trial(unit, ident)


@api.add("POST", "/systems", "Add a system", schemas.SystemRecord, body=schemas.MakeSystem, status=201)
def make_system(unit: Unit, body: schemas.MakeSystem) -> schemas.SystemRecord:
    """One that was tried and answered is read soon; one without a trial is looked after by hand."""
    return setup.make(unit, body.name, body.trial)


@api.add("GET", f"{ONE}/record", "Show a system as it is kept", schemas.SystemRecord)
def get_record_of_system(unit: Unit, ident: UUID) -> schemas.SystemRecord:
    """How it is reached, without its secret."""
    return setup.shown(unit, ident)


@api.add("PATCH", ONE, "Edit a system, or rotate its secret", schemas.SystemRecord, body=schemas.ChangeSystem)
def edit_system(unit: Unit, ident: UUID, body: schemas.ChangeSystem) -> schemas.SystemRecord:
    """Another name, or another way to reach it that a trial has shown to work."""
    return setup.change(unit, ident, body.name, body.trial, if_match())


@api.add("PUT", f"{ONE}/paused", "Pause the readings of a system", schemas.SystemRecord)
def pause_system(unit: Unit, ident: UUID) -> schemas.SystemRecord:
    """Until somebody lets it be read again."""
    return setup.set_paused(unit, ident, True)


@api.add("DELETE", f"{ONE}/paused", "Let a system be read again", schemas.SystemRecord)
def resume_system(unit: Unit, ident: UUID) -> schemas.SystemRecord:
    """At once, and then by its schedule."""
    return setup.set_paused(unit, ident, False)


@api.add("DELETE", ONE, "Remove a system", schemas.Done)
def remove_system(unit: Unit, ident: UUID) -> schemas.Done:
    """Only while no account is in it; its levels and its secret go with it."""
    setup.remove(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", "/systems/<uuid:ident>/permissions", "Every permission of a system", schemas.PermissionRow, inside=True)
def get_permissions(unit: Unit, ident: UUID) -> schemas.PermissionRow:
    """The furthest reaching first."""
    return schemas.PermissionRow(permissions=levels.permissions(unit, ident))


@api.add(
    "POST",
    "/tasks/<uuid:ident>/done",
    "Say that something was done by hand",
    schemas.TaskRow,
    body=schemas.TaskDone,
    inside=True,
)
def task_done(unit: Unit, ident: UUID, body: schemas.TaskDone) -> schemas.TaskRow:
    """In your own words; the register says whose word it is."""
    return hand_tasks.done(unit, ident, body.words, if_match())


@api.add(
    "POST",
    "/tasks/<uuid:ident>/assign",
    "Say who does something by hand",
    schemas.TaskRow,
    body=schemas.TaskAssign,
    inside=True,
)
def assign_task(unit: Unit, ident: UUID, body: schemas.TaskAssign) -> schemas.TaskRow:
    """The person is notified."""
    return hand_tasks.assign(unit, ident, body.person, if_match())


@api.add("POST", f"{SYSTEM}/read", "Read a system soon", schemas.Done, query=schemas.ReadOptions, status=202)
def read_system(unit: Unit, ident: UUID, query: schemas.ReadOptions) -> schemas.Done:
    """The worker reads it; the event stream tells how far it has come."""
    readings.ask_to_read(unit, ident, query.fully)
    return schemas.Done(done=True)


@api.add("PUT", f"{SYSTEM}/reading", "Say how often a system is read", schemas.SystemRow, body=schemas.SetReading)
def set_reading(unit: Unit, ident: UUID, body: schemas.SetReading) -> schemas.SystemRow:
    """Besides when somebody asks for it."""
    readings.set_schedule(unit, ident, body.read_every)
    unit.db.flush()
    return register.one(unit, "systems", ident, schemas.SystemRow)


@api.add("PUT", f"{SYSTEM}/matching", "Say by what people are told", schemas.SystemRow, body=schemas.SetMatching)
def set_matching(unit: Unit, ident: UUID, body: schemas.SetMatching) -> schemas.SystemRow:
    """Applies from the next read on, also to logins not yet matched to a person."""
    login_matching.set_rules(unit, ident, body.matching)
    unit.db.flush()
    return register.one(unit, "systems", ident, schemas.SystemRow)


@api.add("GET", "/doubts", "Logins that may be somebody's", schemas.Doubts)
def get_doubts(unit: Unit) -> schemas.Doubts:
    """Each with who, and by which mark, for a person to decide."""
    return schemas.Doubts(doubts=login_matching.doubts(unit))


@api.add("POST", "/doubts/<uuid:ident>/decide", "Say whose a login is", schemas.Done, body=schemas.DecideDoubt)
def decide_doubt(unit: Unit, ident: UUID, body: schemas.DecideDoubt) -> schemas.Done:
    """Access found under the login is theirs from then on."""
    login_matching.decide(unit, ident, body.person)
    return schemas.Done(done=True)
