"""Reminding reviewers, and reporting who is late. Each reminder is sent once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from uuid import UUID

from sqlalchemy import func, select

from openlatch.core.counts import counted
from openlatch.core.reviews.reminders import LATE, due_reminder
from openlatch.core.time_windows import Window, day_in_words, ends_on
from openlatch.core.vocabulary import ItemState
from openlatch.service.notifications import notices
from openlatch.service.reviews.reviewers import members_now
from openlatch.service.unit import Unit
from openlatch.store.tables import Item, Membership, Person, Round


def tell_reviewers(unit: Unit, row: Round) -> None:
    """Tell each reviewer of a new round what they have to decide, and until when."""
    waiting = list(_waiting(unit, row.id))
    addresses = notices.addresses(unit, {person for people, _, _ in waiting for person in people})
    for people, _, count in waiting:
        sentence = f"{counted(count, 'item')} of “{row.name}” {_are(count)} yours to decide, by {_due(unit, row)}."
        notices.tell_and_write(unit, people, "review", sentence, f"/rounds/{row.id}", addresses)


def remind(unit: Unit) -> int:
    """Send due reminders of every open round; returns the number of rounds."""
    sent = 0
    for row in unit.db.scalars(select(Round).where(Round.closed_at.is_(None)).order_by(Round.id)).all():
        if due_reminder(row.reminders, row.reminded, row.due_at, unit.now) is None:
            continue
        unit.db.refresh(row, with_for_update=True)
        which = due_reminder(row.reminders, row.reminded, row.due_at, unit.now)
        if which is None or row.closed_at is not None:
            continue
        _remind(unit, row, which)
        row.reminded = [*row.reminded, which]
        unit.record("round.reminded", "round", row.id, row.name, which=which)
        sent += 1
    return sent


def _remind(unit: Unit, row: Round, which: str) -> None:
    page, late = f"/rounds/{row.id}", []
    for people, name, count in _waiting(unit, row.id):
        if which == LATE:
            sentence = f"{counted(count, 'item')} of “{row.name}” {_are(count)} late: it was due on {_due(unit, row)}."
            late.append((people, f"{name} ({count})"))
        else:
            sentence = (
                f"{counted(count, 'item')} of “{row.name}” still {_are(count)} yours to decide, by {_due(unit, row)}."
            )
        notices.tell_and_write(unit, people, "review", sentence, page)
    if late:
        names = ", ".join(words for _, words in late)
        sentence = f"“{row.name}” was due on {_due(unit, row)}; items are left with {names}."
        above = _managers(unit, {person for people, _ in late for person in people})
        notices.tell_and_write(unit, [*notices.administrators(unit), *above], "review", sentence, page)


def _waiting(unit: Unit, ident: UUID) -> Iterator[tuple[list[UUID], str, int]]:
    """People with undecided items, with names and counts: deputies for those who are away, all members of a team."""
    rows = unit.db.execute(
        select(
            Item.reviewer_id,
            Item.reviewer_team_id,
            func.count(Item.id),
            Person.name,
            Person.deputy_id,
            Person.away_since,
            Person.away_until,
        )
        .outerjoin(Person, Person.id == Item.reviewer_id)
        .where(Item.round_id == ident, Item.state == ItemState.UNDECIDED)
        .group_by(Item.reviewer_id, Item.reviewer_team_id, Person.id)
        .order_by(Item.reviewer_id, Item.reviewer_team_id)
    ).all()
    for person, team, count, name, deputy, since, until in rows:
        if person is not None:
            away = since is not None and Window(since, until).contains(unit.now)
            yield [person, deputy] if away and deputy else [person], name, count
        elif team is not None:
            members = unit.db.scalars(members_now(unit.now).where(Membership.team_id == team))
            yield [member for member in members if member is not None], "a team", count
        else:
            yield sorted(notices.administrators(unit)), "nobody", count


def _managers(unit: Unit, people: Iterable[UUID]) -> list[UUID]:
    rows = select(Person.manager_id).where(Person.id.in_(list(people)), Person.manager_id.is_not(None)).distinct()
    return [ident for ident in unit.db.scalars(rows) if ident is not None]


def _are(count: int) -> str:
    return "is" if count == 1 else "are"


def _due(unit: Unit, row: Round) -> str:
    return day_in_words(ends_on(row.due_at, unit.zone), unit.zone)
