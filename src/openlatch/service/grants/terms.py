"""Changing single terms of a grant in force: permissions, parts, windows, hours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import register as core
from openlatch.core import time_windows
from openlatch.core.time_windows import WeeklyHours, Window
from openlatch.core.vocabulary import Reach
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.canonical_json import jsonable
from openlatch.service.grants import lifecycle
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.lists import register
from openlatch.store.tables import Account, Grant, Level, Term

Right = tuple[UUID, UUID | None]


@dataclass(frozen=True, slots=True)
class TermWish:
    """A wanted term: a level or a single permission by its key, on a part or on the whole account."""

    level: UUID | None = None
    permission: str = ""
    part: UUID | None = None
    since: datetime | None = None
    until: datetime | None = None
    last_day: date | None = None
    hours: WeeklyHours | None = None


def wanted(unit: Unit, account: Account, grant: UUID, wishes: Sequence[TermWish]) -> list[core.Term]:
    """The terms of these wishes. BadInput for an impossible one, Conflict where nothing would change."""
    if not wishes:
        raise BadInput("No term is left.", "Keep at least one, or end the grant.", {"terms": "are missing"})
    before = held(unit, grant)
    begun = {term.window.since for term in before}
    found = [term for wish in wishes for term in _made(unit, account, wish, begun)]
    rights = [right(term) for term in found]
    if len(set(rights)) != len(rights):
        raise BadInput("Two terms give the same on the same part.", "Make one of them.", {"terms": "are twice there"})
    if set(found) == set(before):
        raise Conflict("That is what the grant gives already.", "There is nothing to change.")
    return found


def _made(unit: Unit, account: Account, wish: TermWish, begun: set[datetime | None]) -> list[core.Term]:
    if (wish.level is None) == (not wish.permission):
        raise BadInput("A term names a level or a permission.", "Give one of the two.", {"terms": "level"})
    choice = lifecycle.Choice(
        levels=(wish.level,) if wish.level else (),
        permissions=(lifecycle.Single(wish.permission),) if wish.permission else (),
        parts=(wish.part,) if wish.part else (),
        until=wish.until,
        last_day=wish.last_day,
        hours=wish.hours,
        since=wish.since,
    )
    made = lifecycle.terms_from(unit, account, choice)
    # Keep when it began.
    if wish.since in begun:
        return [term._replace(window=Window(wish.since, term.window.until)) for term in made]
    return made


def held(unit: Unit, grant: UUID) -> list[core.Term]:
    """The terms of a grant as they are."""
    return mapping.terms_of(unit.db, [grant]).get(grant, [])


def shown(unit: Unit, ident: UUID) -> schemas.TermsNow:
    """The terms of a grant, to fill a form. NotFound when the grant may not be seen."""
    row = register.GRANTS.one(unit.db, ident, [unit.sight.grants()])
    if row is None:
        raise NotFound("There is no such grant, or you may not see it.")
    grant = unit.db.get_one(Grant, ident)
    zone = ZoneInfo(unit.db.get_one(Account, grant.account_id).time_zone)
    values = held(unit, ident)
    of_one = select(Level.id, Level.key).where(Level.id.in_({term.level.id for term in values}), Level.single)
    keys = dict(unit.db.execute(of_one).all())
    return schemas.TermsNow(
        terms=[_shown(term, keys.get(term.level.id), zone) for term in values], version=grant.version
    )


def _shown(term: core.Term, key: str | None, zone: ZoneInfo) -> schemas.TermNow:
    return schemas.TermNow(
        level=schemas.Named(id=term.level.id, name=term.level.name) if key is None else None,
        permission=key.removeprefix("only:") if key is not None else None,
        sentence=term.level.sentence,
        part=schemas.Named(id=term.part.id, name=term.part.name) if term.part else None,
        since=term.window.since,
        until=term.window.until,
        last_day=time_windows.last_day(term.window.until, zone),
        hours=schemas.Hours(**weekly) if (weekly := lifecycle.stored_hours(term.hours)) else None,
        words=lifecycle.terms_in_words([term], zone),
    )


def right(term: core.Term) -> Right:
    """What a term gives, apart from when: its level and its part."""
    return term.level.id, term.part.id if term.part else None


def takes_away(before: Sequence[core.Term], after: Sequence[core.Term]) -> bool:
    """Whether rights are removed, which has to be proved like an end. Conflict where others are added at the same
    time.
    """
    old, new = {right(term) for term in before}, {right(term) for term in after}
    if old - new and new - old:
        raise Conflict(
            "This takes rights away and gives others at the same time.",
            "Take away first; give the others when that is done. Or change the level.",
        )
    return bool(old - new)


def stored(term: core.Term) -> JsonObject:
    """A term as stored by a trim until it is carried out."""
    whole_resource = term.part is not None and term.part.resources == {term.part.id}
    return dict(
        jsonable(
            {
                "level_id": term.level.id,
                "resource_id": term.part.id if term.part and whole_resource else None,
                "group_id": term.part.id if term.part and not whole_resource else None,
                "since": term.window.since,
                "until": term.window.until,
                "hours": lifecycle.stored_hours(term.hours),
            }
        )
    )


def write_stored(unit: Unit, grant: Grant, kept: Sequence[JsonObject]) -> None:
    """Give a grant exactly the terms stored in this form."""
    for row in unit.db.scalars(select(Term).where(Term.grant_id == grant.id)):
        unit.db.delete(row)
    unit.db.flush()
    for one in kept:
        times = {name: datetime.fromisoformat(one[name]) if one[name] else None for name in ("since", "until")}
        ids = {name: UUID(one[name]) if one[name] else None for name in ("level_id", "resource_id", "group_id")}
        unit.db.add(Term(organisation_id=grant.organisation_id, grant_id=grant.id, hours=one["hours"], **ids, **times))
    unit.db.flush()


def require_proof_for(unit: Unit, before: Sequence[core.Term], after: Sequence[core.Term]) -> bool:
    """Require a fresh proof where somebody newly gets steward reach; returns whether they do."""
    old = {right(term) for term in before}
    steward = any(term.level.reach is Reach.STEWARD and right(term) not in old for term in after)
    if steward:
        unit.require_proof("Giving steward reach")
    return steward


def changes_in_words(before: Sequence[core.Term], after: Sequence[core.Term], zone: ZoneInfo) -> str:
    """What changes, term by term."""
    old, new = {right(term): term for term in before}, {right(term): term for term in after}
    told = [f"gains {lifecycle.terms_in_words([new[key]], zone)}" for key in new if key not in old]
    told += [f"loses {lifecycle.terms_in_words([old[key]], zone)}" for key in old if key not in new]
    told += [
        f"{lifecycle.terms_in_words([old[key]], zone)} becomes {lifecycle.terms_in_words([new[key]], zone)}"
        for key in new
        if key in old and new[key] != old[key]
    ]
    return "; ".join(told)
