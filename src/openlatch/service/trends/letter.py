"""The monthly letter about figures over time, to those who see everything and want it."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.counts import counted
from openlatch.core.trends import Span, first_day
from openlatch.core.vocabulary import Role, Standing
from openlatch.errors import NotAllowed
from openlatch.service.notifications import notices
from openlatch.service.trends import page
from openlatch.service.unit import Unit
from openlatch.store.tables import Organisation, Person, SignIn


def send_when_due(unit: Unit) -> int:
    """Write the letters about last month when a month has begun; returns how many. They are sent once a month."""
    organisation = unit.viewer.organisation
    row = unit.db.get_one(Organisation, organisation)
    if not _is_due(row.trends_at, unit.now, unit.zone):
        return 0
    unit.db.refresh(row, with_for_update=True)
    before = row.trends_at
    if not _is_due(before, unit.now, unit.zone):
        return 0
    row.trends_at = unit.now
    readers = _readers(unit)
    # An organisation that has just begun has no last month.
    if before is None or not readers:
        return 0
    letter = _letter(unit, page.last_month(unit))
    for person in readers:
        notices.write(unit, person.address, letter)
    unit.record("trends.sent", "organisation", organisation, "Figures of the month", letters=len(readers))
    return len(readers)


def set_wanted(unit: Unit, wanted: bool) -> None:
    """Whether the viewer gets the monthly letter. NotAllowed for whoever does not see everything."""
    unit.sight.require_administrator()
    if unit.viewer.person is None:
        raise NotAllowed("Only somebody who signs in gets letters.")
    person = unit.db.get_one(Person, unit.viewer.person, with_for_update=True)
    person.wants_trends = wanted
    unit.record("trends.wanted" if wanted else "trends.unwanted", "person", person.id, person.name)


def _is_due(sent_at: datetime | None, now: datetime, zone: ZoneInfo) -> bool:
    month = first_day(now.astimezone(zone).date(), Span.MONTH)
    return sent_at is None or first_day(sent_at.astimezone(zone).date(), Span.MONTH) < month


def _readers(unit: Unit) -> list[Person]:
    """Those who want it and still see everything."""
    seeing = select(SignIn.person_id).where(
        SignIn.role.in_((Role.ADMINISTRATOR, Role.AUDITOR)), SignIn.suspended_at.is_(None)
    )
    wanted = select(Person).where(Person.id.in_(seeing), Person.wants_trends, Person.standing != Standing.LEFT)
    return list(unit.db.scalars(wanted.order_by(Person.id)))


def _letter(unit: Unit, trends: schemas.Trends) -> notices.Letter:
    *earlier, last = trends.points
    before = earlier[-1] if earlier else None
    month = f"{last.first:%B %Y}"
    moved = [f"– {move.sentence}." for move in last.moves]
    paragraphs = (*_figures(last, before), *(["What moved them:", "\n".join(moved)] if moved else []))
    link = f"{unit.service.address}/trends?span=month"
    return notices.Letter(f"Access in {month}", paragraphs, link, "Look at the figures over time")


def _over(last: schemas.TrendPoint) -> str:
    """How far departures have come, in sentences."""
    told = ""
    if last.departures_over and last.departure_days is not None:
        told += f" For {last.departures_over}, all is confirmed as gone: a median of {last.departure_days:.1f} days."
    if last.departures_open:
        told += f" For {last.departures_open}, not all is confirmed yet."
    return told


def _figures(last: schemas.TrendPoint, before: schemas.TrendPoint | None) -> list[str]:
    """The figures in sentences, with those of the month before."""
    told = []
    if last.risk is not None:
        was = f" ({before.risk} at the end of the month before)" if before and before.risk is not None else ""
        told.append(f"Open risk: {last.risk}{was}, from {counted(last.flags or 0, 'open flag')}.")
    if last.departures or last.departures_over or last.departures_open:
        told.append(f"{counted(last.departures, 'person', 'people')} left with access to end.{_over(last)}")
    if last.confirmed and last.confirm_hours is not None:
        took = f"The median time was {last.confirm_hours:.1f} hours."
        waiting = f" {counted(last.waiting, 'revocation')} in progress." if last.waiting else ""
        told.append(f"{counted(last.confirmed, 'revocation')} confirmed by the systems. {took}{waiting}")
    if last.due_items:
        told.append(f"Reviews: {last.decided_in_time} of {last.due_items} items were decided by their due date.")
    if last.exposures is not None:
        told.append(f"{counted(last.exposures, 'exposure')} open to outsiders.")
    if last.unrecorded:
        in_each = ", ".join(f"{one.system.name} {one.count}" for one in last.unrecorded)
        told.append(f"Access that nobody recorded: {in_each}.")
    return told or ["Nothing is known of that month."]
