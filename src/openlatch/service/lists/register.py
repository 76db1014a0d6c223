"""The lists of the register: a page of one, and one row of it, as far as the viewer may see them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement

from openlatch.core.reviews.recurrence import words
from openlatch.errors import NotFound
from openlatch.service.flags.flags import with_title
from openlatch.service.permissions import Sight
from openlatch.service.unit import Unit
from openlatch.store import lists, lists_exposure, lists_giving, lists_reviews
from openlatch.store.listing import Listing, ListQuery, Page

# Every list of the interface: the list itself, and what of it a viewer may see.
LISTS: dict[str, tuple[Listing, Callable[[Sight], ColumnElement[bool]]]] = {
    "accounts": (lists.ACCOUNTS, Sight.accounts),
    "people": (lists.PEOPLE, Sight.people),
    "teams": (lists.TEAMS, Sight.teams),
    "grants": (lists.GRANTS, Sight.grants),
    "apps": (lists.APPS, Sight.apps),
    "sessions": (lists.SESSIONS, Sight.sessions),
    "flags": (lists.FLAGS, Sight.flags),
    "rounds": (lists_reviews.ROUNDS, Sight.rounds),
    "items": (lists_reviews.ITEMS, Sight.items),
    "revocations": (lists.REVOCATIONS, Sight.revocations),
    "journal": (lists.JOURNAL, Sight.journal),
    "systems": (lists.SYSTEMS, Sight.systems),
    "levels": (lists.LEVELS, Sight.levels),
    "offers": (lists_giving.OFFERS, Sight.offers),
    "requests": (lists_giving.REQUESTS, Sight.requests),
    "notices": (lists_giving.NOTICES, Sight.notices),
    "resources": (lists_giving.RESOURCES, Sight.resources),
    "latches": (lists_giving.LATCHES, Sight.latches),
    "tasks": (lists_giving.HAND_TASKS, Sight.hand_tasks),
    "visits": (lists_giving.VISITS, Sight.visits),
    "exposures": (lists_exposure.EXPOSURES, Sight.exposures),
    "schedules": (lists_reviews.SCHEDULES, Sight.schedules),
    "questions": (lists_reviews.QUESTIONS, Sight.questions),
}


def page(unit: Unit, name: str, query: ListQuery, *where: ColumnElement[bool]) -> Page:
    """A page of a list, of what the viewer may see; what is archived only where the filter names that."""
    listing, visible = LISTS[name]
    shown = [listing.of(unit.viewer.organisation), visible(unit.sight), *where]
    if name == "exposures":
        # What is shut by now is shown to whoever asks for it.
        unasked = {"gone", "blocked"} - listing.names(query.filter)
        shown += [~listing.columns[column].expression for column in sorted(unasked)]
    if "archived" in listing.attributes and "archived" not in listing.names(query.filter):
        shown.append(~listing.columns["archived"].expression)
    found = listing.page(unit.db, query, shown)
    if name == "flags":
        return Page([with_title(unit, row) for row in found.rows], found.next, found.count)
    if name == "schedules":
        return Page([{**row, "recurs": words(row["recurrence"])} for row in found.rows], found.next, found.count)
    return found


def one(unit: Unit, name: str, ident: UUID) -> dict[str, Any]:
    """One row of a list. NotFound when there is none that the viewer may see."""
    listing, visible = LISTS[name]
    row = listing.one(unit.db, ident, [listing.of(unit.viewer.organisation), visible(unit.sight)])
    if row is None:
        raise NotFound(f"There is nothing with this id among the {name} that you may see.")
    return row
