"""People as possible reviewers."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime
from uuid import UUID

from sqlalchemy import ColumnElement, Select, func, or_, select

from openlatch import schemas
from openlatch.core.reviews.assignment import Colleague
from openlatch.core.time_windows import Window, end_given, start_given
from openlatch.core.vocabulary import Standing
from openlatch.errors import BadInput, NotFound
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.tables import Membership, Person

MOST_COLLEAGUES = 200


def colleagues(unit: Unit, ids: Iterable[UUID]) -> dict[UUID, Colleague]:
    """People as possible reviewers."""
    rows = unit.db.execute(
        select(
            Person.id,
            Person.name,
            Person.manager_id,
            Person.deputy_id,
            Person.away_since,
            Person.away_until,
            Person.standing,
            Person.leaves_at,
        ).where(Person.id.in_(list(ids)))
    )
    found = {}
    for ident, name, manager, deputy, since, until, standing, leaves in rows:
        away = Window(since, until) if since is not None else None
        gone = standing != Standing.CURRENT and (
            leaves <= unit.now if leaves is not None else standing == Standing.LEFT
        )
        found[ident] = Colleague(ident, name, manager, deputy, away, gone)
    return found


def members_now(now: datetime) -> Select[UUID | None]:
    """The people who belong to teams at an instant, as a statement over memberships."""
    return select(Membership.person_id).where(
        Membership.person_id.is_not(None),
        func.coalesce(Membership.since <= now, True),
        func.coalesce(Membership.until > now, True),
    )


def absence(unit: Unit, ident: UUID) -> schemas.AbsenceOf:
    """When somebody is away, and who stands in for them: one's own, or anybody's for administrators."""
    return _absence(unit, _own_or_any(unit, ident))


def _absence(unit: Unit, person: Person) -> schemas.AbsenceOf:
    deputy = unit.db.get(Person, person.deputy_id) if person.deputy_id else None
    named = schemas.Named(id=deputy.id, name=deputy.name) if deputy else None
    return schemas.AbsenceOf(
        since=person.away_since,
        until=person.away_until,
        deputy=named,
        could_stand_in=_could_stand_in(unit, person),
    )


def _could_stand_in(unit: Unit, person: Person) -> list[schemas.Named]:
    """People whom somebody may need to name without otherwise seeing them: manager, colleagues, administrators."""
    beside: list[ColumnElement[bool]] = [Person.id.in_(notices.administrators(unit))]
    if person.manager_id is not None:
        beside += [Person.id == person.manager_id, Person.manager_id == person.manager_id]
    found = select(Person.id, Person.name).where(
        Person.inside, Person.standing == Standing.CURRENT, Person.id != person.id
    )
    rows = unit.db.execute(found.where(or_(*beside)).order_by(Person.name, Person.id).limit(MOST_COLLEAGUES))
    return [schemas.Named(id=ident, name=name) for ident, name in rows]


@dataclass(frozen=True, slots=True)
class Absence:
    """When somebody is away, by instants or by whole days where the organisation is, and who stands in for them."""

    since: datetime | None = None
    until: datetime | None = None
    deputy: UUID | None = None
    first_day: date | None = None
    last_day: date | None = None


def set_absence(unit: Unit, ident: UUID, wish: Absence) -> schemas.AbsenceOf:
    """Set when somebody is away, and who decides for them meanwhile. BadInput for impossible values."""
    person = _own_or_any(unit, ident)
    since = start_given(wish.since, wish.first_day, unit.zone)
    until, deputy = end_given(wish.until, wish.last_day, unit.zone), wish.deputy
    if until is not None and (since is None or until <= since):
        raise BadInput("The end is not after the beginning.", "Give both, in this order.", {"until": "is too early"})
    if deputy is not None:
        known = colleagues(unit, [deputy]).get(deputy)
        named = unit.seen_person(deputy) is not None or deputy in {one.id for one in _could_stand_in(unit, person)}
        if known is None or known.gone or deputy == ident or not named:
            raise BadInput("They can't stand in.", "Choose somebody else who is there.", {"deputy": "unfit"})
    person.away_since, person.away_until, person.deputy_id = since, until, deputy
    unit.record("person.absence_set", "person", person.id, person.name, since=since, until=until, deputy=deputy)
    unit.db.flush()
    return _absence(unit, person)


def _own_or_any(unit: Unit, ident: UUID) -> Person:
    may = unit.sight.everything or ident == unit.viewer.person
    person = unit.db.get(Person, ident) if may else None
    if person is None:
        raise NotFound("There is no such person, or it is not for you to say.")
    return person
