"""Pages and rows of the register's lists, as far as the viewer may see them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar
from uuid import UUID

from pydantic import BaseModel
from sqlalchemy import ColumnElement

from openlatch import schemas
from openlatch.core.filters import operators_of
from openlatch.core.reviews.recurrence import words
from openlatch.errors import NotFound
from openlatch.service.flags.manage import with_title
from openlatch.service.permissions import Sight
from openlatch.service.unit import Unit
from openlatch.store.lists import exposures, offers, register, reviews
from openlatch.store.lists.engine import Listing, ListQuery, Page, Row

Answer = TypeVar("Answer", bound=BaseModel)

# Every list of the interface: the list itself, and what of it a viewer may see.
LISTS: dict[str, tuple[Listing, Callable[[Sight], ColumnElement[bool]]]] = {
    "accounts": (register.ACCOUNTS, Sight.accounts),
    "people": (register.PEOPLE, Sight.people),
    "teams": (register.TEAMS, Sight.teams),
    "grants": (register.GRANTS, Sight.grants),
    "apps": (register.APPS, Sight.apps),
    "sessions": (register.SESSIONS, Sight.sessions),
    "flags": (register.FLAGS, Sight.flags),
    "rounds": (reviews.ROUNDS, Sight.rounds),
    "items": (reviews.ITEMS, Sight.items),
    "revocations": (register.REVOCATIONS, Sight.revocations),
    "journal": (register.JOURNAL, Sight.journal),
    "systems": (register.SYSTEMS, Sight.systems),
    "levels": (register.LEVELS, Sight.levels),
    "offers": (offers.OFFERS, Sight.offers),
    "requests": (offers.REQUESTS, Sight.requests),
    "notices": (offers.NOTICES, Sight.notices),
    "resources": (offers.RESOURCES, Sight.resources),
    "groups": (offers.GROUPS, Sight.groups),
    "latches": (offers.LATCHES, Sight.latches),
    "tasks": (offers.HAND_TASKS, Sight.hand_tasks),
    "visits": (offers.VISITS, Sight.visits),
    "exposures": (exposures.EXPOSURES, Sight.exposures),
    "schedules": (reviews.SCHEDULES, Sight.schedules),
    "questions": (reviews.QUESTIONS, Sight.questions),
}


def page(unit: Unit, name: str, query: ListQuery, *where: ColumnElement[bool]) -> Page:
    """A page of a list. Archived rows only if the filter mentions that."""
    listing, visible = LISTS[name]
    shown = [listing.of(unit.viewer.organisation), visible(unit.sight), *where]
    if name == "exposures":
        # Closed exposures are shown only on request.
        unasked = {"gone", "blocked"} - listing.names(query.filter)
        shown += [~listing.columns[column].expression for column in sorted(unasked)]
    if "archived" in listing.attributes and "archived" not in listing.names(query.filter):
        shown.append(~listing.columns["archived"].expression)
    found = listing.page(unit.db, query, shown)
    if name == "flags":
        return Page(
            [with_title(unit, row).model_dump(exclude_unset=True) for row in found.rows], found.next, found.count
        )
    if name == "schedules":
        return Page([{**row, "recurs": words(row["recurrence"])} for row in found.rows], found.next, found.count)
    return found


def one(unit: Unit, name: str, ident: UUID, model: type[Answer]) -> Answer:
    """One row of a list as an answer. NotFound when there is none that the viewer may see."""
    return model.model_validate(row(unit, name, ident))


def row(unit: Unit, name: str, ident: UUID) -> Row:
    """One row of a list by its columns. NotFound when there is none that the viewer may see."""
    listing, visible = LISTS[name]
    found = listing.one(unit.db, ident, [listing.of(unit.viewer.organisation), visible(unit.sight)])
    if found is None:
        raise NotFound(f"There is nothing with this id among the {name} that you may see.")
    return found


MOST_VALUES = 20


def attributes(name: str) -> schemas.Attributes:
    """The attributes of a list, as filters name them, in their order. NotFound for an unknown list."""
    listing, _ = _known(name)
    return schemas.Attributes(
        attributes=[
            schemas.AttributeOf(
                name=attribute, kind=held.kind.value, operators=[*operators_of(held.kind)], sentence=held.sentence
            )
            for attribute, held in listing.attributes.items()
        ]
    )


def values(unit: Unit, name: str, attribute: str, words: str) -> schemas.Values:
    """Some values that an attribute has among visible rows. BadFilter for an unknown attribute."""
    listing, visible = _known(name)
    shown = [listing.of(unit.viewer.organisation), visible(unit.sight)]
    return schemas.Values(values=listing.values(unit.db, attribute, words.strip(), shown, MOST_VALUES))


def _known(name: str) -> tuple[Listing, Callable[[Sight], ColumnElement[bool]]]:
    if name not in LISTS:
        raise NotFound(f"There is no list of {name}.", f"Use one of: {', '.join(sorted(LISTS))}.")
    return LISTS[name]
