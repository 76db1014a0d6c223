"""Schedules: reviews that open by themselves. A round that is open keeps to what its schedule said when it opened."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from sqlalchemy import select

from openlatch.core import schedules as core
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError
from openlatch.service import rounds, telling
from openlatch.service.context import Service, Unit, Viewer
from openlatch.store import lists
from openlatch.store.tables import Organisation, Person, Round, Schedule

NEXT_SHOWN = 6


@dataclass(frozen=True, slots=True)
class Plan:
    """A schedule as it is to be. ``starts`` has no zone of its own: it is what clocks in ``time_zone`` show."""

    name: str
    scope: str
    recurrence: str
    starts: datetime
    time_zone: str = ""
    days_to_decide: int = 14
    reviewer: UUID | None = None
    acts: str = "when_decided"
    undecided: str = "keep"
    paused: bool = False


def _recurrence(unit: Unit, plan: Plan) -> core.Recurrence:
    name = plan.time_zone or unit.db.get_one(Organisation, unit.viewer.organisation).time_zone
    try:
        zone = ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise BadInput(
            f"There is no time zone {name!r}.", "Write one like Europe/London.", {"time_zone": "unknown"}
        ) from None
    if plan.starts.tzinfo is not None:
        raise BadInput(
            "The start has a zone of its own.", "Write it as clocks show it: 2026-12-01T09:00.", {"starts": "zoned"}
        )
    return core.checked(plan.recurrence, zone, plan.starts)


def upcoming(unit: Unit, plan: Plan) -> list[datetime]:
    """The next times that a schedule would be due, in UTC, before it is kept."""
    unit.sight.require_administrator()
    return _recurrence(unit, plan).following(unit.now, NEXT_SHOWN)


def keep(unit: Unit, plan: Plan, ident: UUID | None = None, version: int | None = None) -> dict[str, Any]:
    """Make a schedule, or change the one with that id; rounds that are open stay as they are."""
    unit.sight.require_administrator()
    row = _row(unit, ident, version)
    recurrence = _recurrence(unit, plan)
    if not plan.name.strip():
        raise BadInput("The schedule has no name.", "Give it one.", {"name": "is missing"})
    if not 1 <= plan.days_to_decide <= 365:
        raise BadInput(
            f"{plan.days_to_decide} days to decide is out of range.", "Use 1 to 365.", {"days_to_decide": "bad"}
        )
    lists.GRANTS.checked(plan.scope)
    if plan.reviewer is not None and unit.db.get(Person, plan.reviewer) is None:
        raise BadInput("There is no such person to review.", "Choose a person.", {"reviewer": "unknown"})
    row.name, row.scope, row.recurrence = plan.name.strip(), plan.scope, recurrence.rule
    row.time_zone, row.starts = recurrence.zone.key, recurrence.starts.isoformat(timespec="minutes")
    row.days_to_decide, row.reviewer_id = plan.days_to_decide, plan.reviewer
    row.acts, row.undecided, row.paused = plan.acts, plan.undecided, plan.paused
    # What was due before it was made or changed is not caught up on.
    row.due_at = unit.now
    unit.db.add(row)
    unit.db.flush()
    action = "schedule.changed" if ident else "schedule.made"
    unit.record(action, "schedule", row.id, row.name, recurrence=row.recurrence, scope=row.scope, paused=row.paused)
    return one(unit, row.id)


def _row(unit: Unit, ident: UUID | None, version: int | None) -> Schedule:
    if ident is None:
        return Schedule(organisation_id=unit.viewer.organisation)
    row = unit.db.get(Schedule, ident, with_for_update=True, populate_existing=True)
    if row is None:
        raise NotFound("There is no such schedule.")
    if version is not None and version != row.version:
        raise Conflict("Somebody changed the schedule meanwhile.", "Look at it again.")
    row.version += 1
    return row


def one(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A schedule with the next times that it is due. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = lists.SCHEDULES.one(unit.db, ident, [unit.sight.schedules()])
    if row is None:
        raise NotFound("There is no such schedule, or you may not see it.")
    stored = unit.db.get_one(Schedule, ident)
    following = [] if stored.paused else _of(stored).following(unit.now, NEXT_SHOWN)
    count = unit.db.scalars(select(Round.id).where(Round.schedule_id == ident)).all()
    return {**row, "next": following, "rounds": len(count)}


def _of(row: Schedule) -> core.Recurrence:
    return core.Recurrence(row.recurrence, ZoneInfo(row.time_zone), datetime.fromisoformat(row.starts))


def due(service: Service, viewer: Viewer) -> list[UUID]:
    """The schedules for which a round is to be opened now."""
    with service.unit(viewer) as unit:
        rows = unit.db.scalars(select(Schedule).where(~Schedule.paused, Schedule.starts != "")).all()
        return [row.id for row in rows if _of(row).due(row.due_at, unit.now) is not None]


def open_round(service: Service, viewer: Viewer, ident: UUID) -> UUID | None:
    """Open the round that a schedule is due for, once, however many look at the same time.

    None when another has opened it, or when it can't be opened (nothing matches): that is put down on the schedule and
    told to the administrators, and the next time it is tried again.
    """
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Schedule, ident, with_for_update=True, populate_existing=True)
        at = _of(row).due(row.due_at, unit.now)
        if at is None or row.paused:
            return None
        row.due_at = at
        local = at.astimezone(ZoneInfo(row.time_zone))
        opening = rounds.Opening(
            f"{row.name}, {local:%-d %B %Y}", row.scope, row.days_to_decide, row.reviewer_id, row.acts, row.id
        )
        try:
            with unit.db.begin_nested():
                opened = rounds.open_round(unit, opening)
        except OpenLatchError as error:
            row.answer = f"{local:%-d %B %Y}: {error.detail}"
            unit.record("schedule.opened_nothing", "schedule", row.id, row.name, why=error.detail)
            sentence = f"The review “{row.name}” was due and could not be opened: {error.detail}"
            telling.tell(unit, telling.administrators(unit), "review", sentence, "/rounds")
            return None
        row.answer = f"{local:%-d %B %Y}: opened"
        _tell_reviewers(unit, opened)
        return opened


def _tell_reviewers(unit: Unit, ident: UUID) -> None:
    """Tell each reviewer that there is something to decide, and until when."""
    page = rounds.page(unit, ident)
    until = page["due_at"]
    for reviewer, count in rounds.reviewers(unit, ident).items():
        sentence = f"{count} item{'s' * (count != 1)} of “{page['name']}” are yours to decide, by {until:%-d %B %Y}."
        telling.tell_and_write(unit, [reviewer], "review", sentence, f"/rounds/{ident}")
