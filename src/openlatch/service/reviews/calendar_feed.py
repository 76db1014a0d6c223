"""A person's calendar (iCalendar, RFC 5545): due dates of their reviews, and expiry dates of access.

Its address is an opaque token; making a new one or removing it ends the old one at once.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from icalendar import Calendar, Event
from sqlalchemy import ColumnElement, select

from openlatch import schemas
from openlatch.core.vocabulary import GrantState, Standing
from openlatch.errors import NotAllowed, NotFound
from openlatch.languages import language_of
from openlatch.languages.catalogue import Catalogue, catalogue_of
from openlatch.service.offers.send import digest
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.lists import register
from openlatch.store.lists.reviews import ROUNDS
from openlatch.store.tables import Account, Grant, Person, SignIn
from openlatch.store.tables import Calendar as CalendarRow

AHEAD = timedelta(days=400)
BEHIND = timedelta(days=60)
MOST_EVENTS = 1_000


@dataclass(frozen=True, slots=True)
class _Entry:
    uid: str
    at: datetime
    summary: str
    description: str
    page: str
    kind: str


def _mine(unit: Unit) -> CalendarRow | None:
    return unit.db.scalars(select(CalendarRow).where(CalendarRow.person_id == unit.viewer.person)).first()


def page(unit: Unit) -> schemas.CalendarPage:
    """Whether the viewer has a calendar address, since when, and when it was read. The address itself is not shown
    again.
    """
    row = _mine(unit)
    return schemas.CalendarPage(
        made_at=row.made_at if row else None,
        read_at=row.read_at if row else None,
        address=None,
    )


def make(unit: Unit) -> schemas.CalendarPage:
    """A new address for the viewer's calendar, shown only now; the old one stops working."""
    if unit.viewer.person is None:
        raise NotAllowed("Only somebody who is signed in has a calendar.")
    token = secrets.token_urlsafe(32)
    row = _mine(unit)
    if row is None:
        row = CalendarRow(organisation_id=unit.viewer.organisation, person_id=unit.viewer.person)
        unit.db.add(row)
    row.token_hash, row.made_at, row.read_at = digest(token), unit.now, None
    unit.db.flush()
    unit.record("calendar.made", "calendar", row.id, unit.viewer.name)
    return schemas.CalendarPage(
        made_at=row.made_at, read_at=None, address=f"{unit.service.address}/calendar/{token}.ics"
    )


def take_away(unit: Unit) -> schemas.CalendarPage:
    """End the viewer's calendar address at once."""
    row = _mine(unit)
    if row is not None:
        unit.db.delete(row)
        unit.record("calendar.taken_away", "calendar", row.id, unit.viewer.name)
    return schemas.CalendarPage(made_at=None, read_at=None, address=None)


def read(service: Service, token: str) -> bytes:
    """The calendar at an address. NotFound for any other address."""
    with transaction(service.engine, None) as db:
        row = db.scalars(select(CalendarRow).where(CalendarRow.token_hash == digest(token))).first()
    if row is None:
        raise NotFound("There is no calendar at this address.", "Ask for a new one under Settings.")
    with service.unit(Viewer.itself(row.organisation_id)) as unit:
        person = unit.db.get_one(Person, row.person_id)
        unit.db.get_one(CalendarRow, row.id).read_at = unit.now
        if person.standing == Standing.LEFT:
            raise NotFound("There is no calendar at this address.", "Ask for a new one under Settings.")
        signs_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id)).first()
        if signs_in is not None and signs_in.suspended_at is not None:
            raise NotFound("There is no calendar at this address.", "Ask an administrator.")
        administrator = signs_in is not None and bool(signs_in.administrator)
        language = language_of(signs_in.preferences.get("locale") if signs_in is not None else None)
    viewer = Viewer(row.organisation_id, person.name, person.id, administrator=administrator, may_write=False)
    with service.unit(viewer) as unit:
        return _written(unit, catalogue_of(language))


def _written(unit: Unit, catalogue: Catalogue | None) -> bytes:
    """In the language that its reader has chosen; names of grants, rounds and accounts are as they are."""
    say = catalogue.say if catalogue is not None else str
    calendar = Calendar()
    calendar.add("prodid", "-//Open Latch//Reviews and ends of access//EN")
    calendar.add("version", "2.0")
    calendar.add("method", "PUBLISH")
    calendar.add("x-wr-calname", "Open Latch")
    calendar.add("refresh-interval", timedelta(hours=1), parameters={"value": "DURATION"})
    for entry in _entries(unit):
        event = Event()
        event.add("uid", f"{entry.uid}@openlatch")
        event.add("dtstamp", unit.now)
        event.add("dtstart", entry.at)
        event.add("duration", timedelta(0))
        event.add("summary", say(entry.summary))
        event.add("description", say(entry.description))
        event.add("categories", [say(entry.kind)])
        event.add("url", unit.service.address + entry.page)
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def _entries(unit: Unit) -> Iterator[_Entry]:
    since, until = unit.now - BEHIND, unit.now + AHEAD
    rounds = ROUNDS.all(unit.db, "not (closed_at pr)", [unit.sight.rounds()], MOST_EVENTS)
    for row in rounds:
        left = f"{row['items'] - row['decided']} of {row['items']} items are undecided."
        yield _Entry(
            f"round-{row['id']}", row["due_at"], f"Review due: {row['name']}", left, f"/rounds/{row['id']}", "Review"
        )
    ending = register.GRANTS.all(
        unit.db,
        f'until gt "{since.isoformat()}" and until le "{until.isoformat()}"',
        [_ending(unit), Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED))],
        MOST_EVENTS,
    )
    for row in ending:
        mine = row["holder"]["id"] == unit.viewer.person
        to = row["account"]["name"]
        ends = f"Your access to {to} ends" if mine else f"Access of {row['holder']['name']} to {to} ends"
        words = f"{row['level']}: {row['sentence']}"
        place = "/mine" if mine else f"/accounts/{row['account']['id']}"
        yield _Entry(f"grant-{row['id']}", row["until"], ends, words, place, "End")


def _ending(unit: Unit) -> ColumnElement[bool]:
    """Ends of one's own access, of access one gave, and of what one answers for; not everybody's, even for
    administrators.
    """
    owned = select(Account.id).where(Account.owner_id == unit.viewer.person)
    given = Grant.given_by_id == unit.viewer.person
    return (Grant.holder_id == unit.viewer.person) | given | Grant.account_id.in_(owned)
