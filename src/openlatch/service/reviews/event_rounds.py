"""Events open small rounds: somebody leaves or moves, an app gets more permissions, an account gets more sensitive.

Triggers notice the events, whichever way a change came in; here they become rounds. What happens together, as in an
import, becomes one round.
"""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import select

from openlatch.core.vocabulary import Happening, Subject
from openlatch.errors import OpenLatchError
from openlatch.service.attempt import attempt
from openlatch.service.reviews import open_round, plans
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists.register import LIVE
from openlatch.store.tables import Grant, Occurrence, Schedule

MOST_AT_ONCE = 500
# For each event, the attribute by which each kind of item relates to it; kinds without one do not.
_BY_HOLDER = dict.fromkeys((Subject.GRANT, Subject.SESSION, Subject.OWNERSHIP, Subject.ACCEPTANCE), "holder.id")
_NARROWED = {
    Happening.PERSON_LEAVES: _BY_HOLDER,
    Happening.PERSON_MOVES: _BY_HOLDER,
    Happening.APP_GROWS: dict.fromkeys((Subject.LINK, Subject.SESSION, Subject.ACCEPTANCE), "holder.id"),
    Happening.MORE_SENSITIVE: dict.fromkeys(Subject, "account.id"),
    Happening.EMERGENCY_ENDED: {},
}
_TOGETHER = {
    Happening.PERSON_LEAVES: "people leave",
    Happening.PERSON_MOVES: "people move",
    Happening.APP_GROWS: "apps may do more",
    Happening.MORE_SENSITIVE: "accounts are more sensitive",
    Happening.EMERGENCY_ENDED: "emergencies are over",
}


def open_rounds(service: Service, viewer: Viewer) -> list[UUID]:
    """Open a round for what happened since the last time, in every schedule with events; once.

    Returns the rounds' ids. Events that no schedule covers open none.
    """
    with service.unit(viewer) as unit:
        waiting = (
            select(Occurrence)
            .where(Occurrence.handled_at.is_(None))
            .order_by(Occurrence.at, Occurrence.id)
            .limit(MOST_AT_ONCE)
            .with_for_update(skip_locked=True)
        )
        happened = unit.db.scalars(waiting).all()
        if not happened:
            return []
        schedules = unit.db.scalars(select(Schedule).where(~Schedule.paused).order_by(Schedule.id)).all()
        opened = []
        for kind in Happening:
            some = [one for one in happened if one.kind == kind]
            for schedule in schedules:
                if some and kind.value in schedule.events:
                    opened += _open(unit, schedule, kind, some)
        for one in happened:
            one.handled_at = unit.now
        return opened


def _open(unit: Unit, schedule: Schedule, kind: Happening, happened: Sequence[Occurrence]) -> list[UUID]:
    subjects = list(dict.fromkeys(one.subject_id for one in happened))
    event = happened[0].sentence if len(subjects) == 1 else f"{len(subjects)} {_TOGETHER[kind]}"
    covers = [Subject(name) for name in schedule.covers]
    narrowed = {
        subject: _both(schedule.scope, _NARROWED[kind][subject], subjects)
        for subject in covers
        if subject in _NARROWED[kind]
    }
    grants: Sequence[UUID] = ()
    if kind is Happening.EMERGENCY_ENDED:
        grants = _around(unit, subjects)
    review = plans.of_schedule(schedule, f"{schedule.name}: {event}")
    reason = open_round.Reason(schedule.id, event, narrowed, grants)
    try:
        with attempt(unit):
            return [open_round.open_round(unit, review, reason)]
    except OpenLatchError as error:
        schedule.answer = f"{event}: {error.detail}"
        unit.record("schedule.opened_nothing", "schedule", schedule.id, schedule.name, why=error.detail, event=event)
        return []


def _both(scope: str, attribute: str, subjects: Sequence[UUID]) -> str:
    about = " or ".join(f'{attribute} eq "{ident}"' for ident in subjects)
    return f"({scope}) and ({about})" if scope.strip() else about


def _around(unit: Unit, ended: Sequence[UUID]) -> list[UUID]:
    """Emergency access that is over, and what else the same holders have in the same accounts."""
    over = select(Grant.holder_id, Grant.account_id).where(Grant.id.in_(ended)).subquery()
    beside = select(Grant.id).join(
        over, (Grant.holder_id == over.c.holder_id) & (Grant.account_id == over.c.account_id)
    )
    return [*ended, *unit.db.scalars(beside.where(Grant.state.in_(LIVE), Grant.id.not_in(ended)))]
