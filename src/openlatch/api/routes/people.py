"""The calls about people and teams: pages, moves, leavers, erasure."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.service.accounts import settings
from openlatch.service.people import erasure, held_data, leavers, moves
from openlatch.service.people.page import person_page
from openlatch.service.records import teams
from openlatch.service.unit import Unit

LEAVING = "/people/<uuid:ident>/leaving"


@api.add(
    "GET", "/people/<uuid:ident>", "A person, with everything that they can reach", schemas.PersonPage, inside=True
)
def get_person(unit: Unit, ident: UUID) -> schemas.PersonPage:
    """Among the accounts that you may see."""
    return person_page(unit, ident)


@api.add("PUT", "/teams/<uuid:ident>/speaker", "Say who speaks for a team", schemas.TeamRow, body=schemas.SetSpeaker)
def set_speaker(unit: Unit, ident: UUID, body: schemas.SetSpeaker) -> schemas.TeamRow:
    """They answer offers to it."""
    return settings.set_speaker(unit, ident, body.speaker)


def _leave_plan(ident: UUID, body: schemas.LeaveWish) -> leavers.Plan:
    return leavers.Plan(ident, dict(body.successors), body.lock, body.drop)


@api.add(
    "POST", f"{LEAVING}/preview", "What somebody's leaving would do", schemas.LeavingPreview, body=schemas.LeaveWish
)
def preview_leaving(unit: Unit, ident: UUID, body: schemas.LeaveWish) -> schemas.LeavingPreview:
    """All that they reach, and what needs a successor first. Nothing happens yet."""
    return leavers.preview(unit, _leave_plan(ident, body))


@api.add("POST", LEAVING, "Let somebody leave", schemas.LeavingPage, body=schemas.Leave, status=201)
def let_leave(unit: Unit, ident: UUID, body: schemas.Leave) -> schemas.LeavingPage:
    """Successors first; then everything ends, each thing where it lives."""
    return leavers.start(unit, _leave_plan(ident, body), body.reason, body.fingerprint)


@api.add("GET", LEAVING, "How far somebody's leaving has come", schemas.LeavingPage)
def get_leaving(unit: Unit, ident: UUID) -> schemas.LeavingPage:
    """Counted in the register now, down to nothing left."""
    return leavers.page(unit, ident)


@api.add("GET", f"{LEAVING}/report", "What came of somebody's leaving", schemas.LeavingReport)
def report_leaving(unit: Unit, ident: UUID) -> schemas.LeavingReport:
    """Once nothing is left."""
    return leavers.report(unit, ident)


@api.add(
    "POST",
    "/people/<uuid:ident>/move/preview",
    "What a move of somebody comes to",
    schemas.MovePlan,
    body=schemas.MoveWish,
)
def preview_move(unit: Unit, ident: UUID, body: schemas.MoveWish) -> schemas.MovePlan:
    """What they keep, lose and get, and what others in the same job hold. Nothing happens."""
    return moves.plan(unit, ident, body.job, body.joins, body.leaves)


@api.add("POST", "/people/<uuid:ident>/erase/preview", "What erasing somebody would take away", schemas.Erased)
def preview_erasing(unit: Unit, ident: UUID) -> schemas.Erased:
    """Counted, with what is kept and why. Nothing happens."""
    return erasure.preview(unit, ident)


@api.add("POST", "/people/<uuid:ident>/erase", "Erase what identifies somebody who left", schemas.Erased)
def erase_person(unit: Unit, ident: UUID) -> schemas.Erased:
    """A stable pseudonym takes its place everywhere; it can't be undone. After a fresh proof."""
    return erasure.erase(unit, ident)


@api.add("POST", "/people/<uuid:ident>/held-data", "All that is held about somebody", schemas.HeldData)
def take_held_data(unit: Unit, ident: UUID) -> schemas.HeldData:
    """For themselves, and for administrators, as a file to give away. The journal says that it was taken."""
    return held_data.of_person(unit, ident)


@api.add("GET", "/teams/<uuid:ident>", "Show a team with its members", schemas.TeamPage)
def get_team(unit: Unit, ident: UUID) -> schemas.TeamPage:
    """And what it belongs to."""
    return teams.page(unit, ident)
