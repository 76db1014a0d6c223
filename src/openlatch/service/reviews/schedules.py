"""Schedules: reviews that open by themselves. An open round keeps what its schedule said when it opened."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.reviews import recurrence as core
from openlatch.core.time_windows import zone_of
from openlatch.core.vocabulary import SENSITIVITY_WORDS, Happening
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError
from openlatch.service.attempt import attempt
from openlatch.service.notifications import notices
from openlatch.service.reviews import open_round as reviews_open_round
from openlatch.service.reviews import plans
from openlatch.service.reviews.plans import Review
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists import reviews as lists
from openlatch.store.tables import Organisation, Round, Schedule

NEXT_SHOWN = 6


@dataclass(frozen=True, slots=True)
class Plan:
    """A schedule: how its reviews go, and when they open.

    They open by a recurrence, by events, or both. ``starts`` has no zone of its own: it is local time in ``time_zone``.
    """

    review: Review
    recurrence: str = ""
    starts: datetime | None = None
    time_zone: str = ""
    events: tuple[Happening, ...] = ()
    paused: bool = False


def _zone(unit: Unit, plan: Plan) -> ZoneInfo:
    name = plan.time_zone or unit.db.get_one(Organisation, unit.viewer.organisation).time_zone
    try:
        return zone_of(name)
    except ValueError:
        raise BadInput(
            f"There is no time zone {name!r}.", "Write one like Europe/London.", {"time_zone": "unknown"}
        ) from None


def _recurrence(unit: Unit, plan: Plan) -> core.Recurrence | None:
    zone = _zone(unit, plan)
    if not plan.recurrence.strip():
        if not plan.events:
            raise BadInput(
                "Nothing would ever open this review.",
                "Say how it recurs, or what opens it.",
                {"recurrence": "missing"},
            )
        return None
    if plan.starts is None:
        raise BadInput("The review has no start.", "Say when it is due first.", {"starts": "is missing"})
    if plan.starts.tzinfo is not None:
        raise BadInput(
            "The start has a zone of its own.", "Write it as clocks show it: 2026-12-01T09:00.", {"starts": "zoned"}
        )
    return core.checked(plan.recurrence, zone, plan.starts)


def upcoming(unit: Unit, plan: Plan) -> list[datetime]:
    """The next due times of a schedule, in UTC, before it is saved."""
    unit.sight.require_administrator()
    recurrences = [_recurrence(unit, one) for one in expanded(plan)]
    found = {at for one in recurrences if one is not None for at in one.following(unit.now, NEXT_SHOWN)}
    return sorted(found)[:NEXT_SHOWN]


def expanded(plan: Plan) -> list[Plan]:
    """The plan itself; or one for each sensitivity, if it recurs by sensitivity: the more sensitive, the more often."""
    if plan.recurrence.strip().lower() != "sensitivity":
        return [plan]
    found = []
    for sensitivity, rule in core.BY_SENSITIVITY.items():
        about = f"account.sensitivity eq {sensitivity}"
        scope = f"({plan.review.scope}) and {about}" if plan.review.scope.strip() else about
        name = f"{plan.review.name.strip()}, {SENSITIVITY_WORDS[sensitivity]}" if plan.review.name.strip() else ""
        found.append(replace(plan, review=replace(plan.review, name=name, scope=scope), recurrence=rule))
    return found


def keep_by_sensitivity(unit: Unit, plan: Plan) -> list[schemas.SchedulePage]:
    """Make a schedule for each sensitivity: critical accounts every month, low ones every year; all or none."""
    return [keep(unit, one) for one in expanded(replace(plan, recurrence="sensitivity"))]


def keep(unit: Unit, plan: Plan, ident: UUID | None = None, version: int | None = None) -> schemas.SchedulePage:
    """Make or change a schedule; open rounds stay as they are."""
    unit.sight.require_administrator()
    row = _row(unit, ident, version)
    recurrence = _recurrence(unit, plan)
    plans.refuse_unfit(unit, plan.review)
    plans.put(plan.review, row)
    row.days_to_decide = plan.review.days
    row.recurrence = recurrence.rule if recurrence else ""
    row.time_zone = _zone(unit, plan).key
    row.starts = recurrence.starts.isoformat(timespec="minutes") if recurrence else ""
    row.events, row.paused = [event.value for event in plan.events], plan.paused
    # Due times before it was made or changed are not caught up.
    row.due_at = unit.now
    unit.db.add(row)
    unit.db.flush()
    action = "schedule.changed" if ident else "schedule.made"
    unit.record(
        action,
        "schedule",
        row.id,
        row.name,
        recurrence=row.recurrence,
        scope=row.scope,
        covers=row.covers,
        events=row.events,
        paused=row.paused,
    )
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


def one(unit: Unit, ident: UUID) -> schemas.SchedulePage:
    """A schedule with its next due times. NotFound when the viewer may not see it."""
    unit.db.flush()
    row = lists.SCHEDULES.one(unit.db, ident, [unit.sight.schedules()])
    if row is None:
        raise NotFound("There is no such schedule, or you may not see it.")
    stored = unit.db.get_one(Schedule, ident)
    following = [] if stored.paused or not stored.starts else _of(stored).following(unit.now, NEXT_SHOWN)
    count = unit.db.scalars(select(Round.id).where(Round.schedule_id == ident)).all()
    return schemas.SchedulePage.model_validate(
        {**row, "recurs": core.words(row["recurrence"]), "next": following, "rounds": len(count)}
    )


def _of(row: Schedule) -> core.Recurrence:
    return core.Recurrence(row.recurrence, ZoneInfo(row.time_zone), datetime.fromisoformat(row.starts))


def due(service: Service, viewer: Viewer) -> list[UUID]:
    """The schedules for which a round has to be opened now."""
    with service.unit(viewer) as unit:
        rows = unit.db.scalars(select(Schedule).where(~Schedule.paused, Schedule.starts != "")).all()
        return [row.id for row in rows if _of(row).due(row.due_at, unit.now) is not None]


def open_round(service: Service, viewer: Viewer, ident: UUID) -> UUID | None:
    """Open the round for which a schedule is due, once, even with several workers.

    None when another worker opened it, or when it can't be opened (nothing matches): that is stored on the schedule,
    administrators are notified, and it is tried again next time.
    """
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Schedule, ident, with_for_update=True, populate_existing=True)
        at = _of(row).due(row.due_at, unit.now)
        if at is None or row.paused:
            return None
        row.due_at = at
        local = at.astimezone(ZoneInfo(row.time_zone))
        review = plans.of_schedule(row, f"{row.name}, {local:%-d %B %Y}")
        try:
            with attempt(unit):
                opened = reviews_open_round.open_round(unit, review, reviews_open_round.Reason(row.id))
        except OpenLatchError as error:
            row.answer = f"{local:%-d %B %Y}: {error.detail}"
            unit.record("schedule.opened_nothing", "schedule", row.id, row.name, why=error.detail)
            sentence = f"The review “{row.name}” was due and could not be opened: {error.detail}"
            notices.tell(unit, notices.administrators(unit), "review", sentence, "/rounds")
            return None
        row.answer = f"{local:%-d %B %Y}: opened"
        return opened
