"""Reading the register: lists, an account's page, a person's page."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, func, select

from openlatch.core import access, offering
from openlatch.core.register import UTC_ZONE, Holder, Register
from openlatch.core.reviews.recurring import words
from openlatch.core.windows import last_day
from openlatch.core.words import HolderKind
from openlatch.errors import NotFound
from openlatch.service import visits
from openlatch.service.context import Unit
from openlatch.service.flags import with_title
from openlatch.service.sight import Sight
from openlatch.store import cut, lists, lists_exposure, lists_giving, lists_reviews
from openlatch.store.columns import among, not_among
from openlatch.store.listing import Listing, ListQuery, Page
from openlatch.store.tables import (
    Account,
    Grant,
    Membership,
    Person,
    Resource,
    ResourceGroup,
    ResourceInGroup,
    SignIn,
    Team,
    Term,
)

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


# So many paths are on the page of an account; all of them are in its access (``reaching.everyone``).
MOST_PATHS = 500


def account_page(unit: Unit, ident: UUID) -> dict[str, Any]:
    """An account with everyone and everything that can reach it, by every path.

    People who have left are among them while the system still has their access. Grants that give nothing now
    (offered, suspended, not begun, over) come apart from those that do. Somebody who only reaches the account sees
    their own paths. Of very many paths the shortest and farthest reaching come, and how many there are.
    """
    account = one(unit, "accounts", ident)
    answers = unit.sight.everything or ident in unit.sight.owned
    if answers:
        register = cut.around_accounts(unit.db, [ident])
        paths = access.everyone_reaching(register.as_held(), ident, unit.now)
    else:
        assert unit.sight.person is not None
        me = Holder(HolderKind.PERSON, unit.sight.person)
        register = cut.between(unit.db, me, ident)
        paths = access.paths_to(register, me, ident, unit.now)
    in_force = {grant for path in paths for grant in path.grants}
    idle = lists.GRANTS.page(
        unit.db,
        ListQuery(limit=200),
        [unit.sight.grants(), Grant.account_id == ident, Grant.state != "ended", not_among(Grant.id, in_force)],
    )
    holders = {path.holder for path in paths}
    first = paths[:MOST_PATHS]
    grants = grants_on(unit, (grant for path in first for grant in path.grants))
    rows = [path_row(unit, register, path, grants) for path in first]
    stored = unit.db.get_one(Account, ident)
    return {
        **account,
        "answers_for": answers,
        "paths": rows,
        "path_count": len(paths),
        "holder_count": len(holders),
        "app_count": sum(holder.kind is HolderKind.APP for holder in holders),
        "not_in_force": idle.rows,
        "parts": parts(unit, ident),
        "others": visits.others_inside(unit, ident) if unit.sight.inside == ident and not answers else [],
        "prerequisites": stored.prerequisites,
        "coverage": stored.coverage,
        "partial_since": stored.partial_since,
    }


def parts(unit: Unit, account: UUID) -> list[dict[str, Any]]:
    """The resources and groups of an account, each with how many share it."""
    listed = lists_giving.RESOURCES.all(unit.db, "", [Resource.account_id == account, Resource.archived_at.is_(None)])
    whole = (
        unit.db.scalar(
            select(func.count(func.distinct(Grant.holder_id)))
            .join(Term, Term.grant_id == Grant.id)
            .where(
                Grant.account_id == account,
                Grant.state.in_(lists.LIVE),
                Term.resource_id.is_(None) & Term.group_id.is_(None),
            )
        )
        or 0
    )
    groups = unit.db.execute(
        select(ResourceGroup.id, ResourceGroup.name, func.count(ResourceInGroup.id))
        .outerjoin(ResourceInGroup, ResourceInGroup.group_id == ResourceGroup.id)
        .where(ResourceGroup.account_id == account, ResourceGroup.archived_at.is_(None))
        .group_by(ResourceGroup.id)
        .order_by(ResourceGroup.name)
    )
    own = dict(
        unit.db.execute(
            select(Term.group_id, func.count(func.distinct(Grant.holder_id)))
            .join(Grant, Grant.id == Term.grant_id)
            .where(Grant.account_id == account, Grant.state.in_(lists.LIVE), Term.group_id.is_not(None))
            .group_by(Term.group_id)
        ).all()
    )
    found = [
        {"id": i, "name": name, "kind": "group", "group": True, "public": False, "resources": count,
         "holders": whole + own.get(i, 0)}
        for i, name, count in groups
    ]  # fmt: skip
    kept = ("id", "name", "kind", "public", "holders")
    return found + [{**{k: row[k] for k in kept}, "group": False, "resources": 1} for row in listed]


def person_page(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A person with everything that they can reach, by every path, among the accounts the viewer may see."""
    person = one(unit, "people", ident)
    holder = Holder(HolderKind.PERSON, ident)
    register = cut.around_holder(unit.db, holder)
    paths = access.everything_reached(register.as_held(), holder, unit.now)
    if not unit.sight.everything and ident != unit.sight.person:
        paths = [path for path in paths if path.account in unit.sight.owned]
    grants = grants_on(unit, (grant for path in paths for grant in path.grants))
    teams = unit.db.execute(
        select(Team.id, Team.name, Membership.since, Membership.until)
        .join(Membership, Membership.team_id == Team.id)
        .where(Membership.member_id == ident, unit.sight.teams())
        .order_by(Team.name)
    )
    return {
        **person,
        "signs_in": _signs_in(unit, ident) if unit.sight.everything else None,
        "teams": [dict(row) for row in teams.mappings()],
        "paths": [path_row(unit, register, p, grants) for p in paths],
    }


def _signs_in(unit: Unit, person: UUID) -> bool:
    return unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person)) is not None


def app_page(unit: Unit, ident: UUID) -> dict[str, Any]:
    """An app with its links: the accounts, what it may do there in plain words, who linked it, when it was used."""
    app = one(unit, "apps", ident)
    links = lists.GRANTS.page(
        unit.db, ListQuery(limit=200), [unit.sight.grants(), Grant.holder_id == ident, Grant.state.in_(lists.LIVE)]
    )
    return {**app, "grants": links.rows}


def grants_on(unit: Unit, ids: Iterable[UUID]) -> dict[UUID, Any]:
    """What a path shows of its grants: who gave them, when used, their state."""
    wanted = list(dict.fromkeys(ids))
    if not wanted:
        return {}
    rows = unit.db.execute(
        select(
            Grant.id,
            Grant.last_used_at,
            Grant.given_at,
            Grant.state,
            Grant.owed,
            Grant.recorded,
            Person.name.label("given_by"),
            lists.recorder.name.label("recorded_by"),
        )
        .outerjoin(Person, Person.id == Grant.given_by_id)
        .outerjoin(lists.recorder, lists.recorder.id == Grant.recorded_by_id)
        .where(among(Grant.id, wanted))
    )
    return {row.id: row for row in rows}


def path_row(
    unit: Unit, register: Register, path: access.Path, grants: dict[UUID, Any], asked_at: datetime | None = None
) -> dict[str, Any]:
    """A path as answers show it: now, or at the instant that is asked about."""
    at = asked_at or unit.now
    last = grants.get(path.grants[-1]) if path.grants else None
    account = register.accounts.get(path.account)
    person = register.people.get(path.holder.id)
    return {
        "holder": {
            "kind": path.holder.kind,
            "id": path.holder.id,
            "name": register.name_of(path.holder),
            "inside": person.inside if person else True,
        },
        "account": {"id": path.account, "name": account.name if account else ""},
        "owns": path.level is None,
        "level": "Owner" if path.level is None else path.level.name,
        "sentence": "Decides about the account itself." if path.level is None else path.level.sentence,
        "reach": int(path.reach),
        "since": path.window.since,
        "until": path.window.until,
        "last_day": last_day(path.window.until, account.zone if account else UTC_ZONE),
        "open_now": access.open_now(register, path, at),
        "revoking": path.revoking,
        "left": person is not None and person.is_gone(at),
        "words": path.words,
        "hops": [
            {
                "kind": hop.kind,
                "holder": {"kind": hop.holder.kind, "id": hop.holder.id, "name": register.name_of(hop.holder)},
                "words": hop.words,
                "grant_id": hop.grant,
            }
            for hop in path.hops
        ],
        "grant_id": path.grants[-1] if path.grants else None,
        "given_by": last.given_by if last else None,
        "recorded_by": last.recorded_by if last else None,
        "given_at": last.given_at if last else None,
        "last_used_at": last.last_used_at if last else None,
        "recorded": last.recorded if last else True,
        "owed": last.owed if last else None,
        "part": path.part.name if path.part else None,
        "hours": "; ".join(offering.hours_in_words(hours) for hours in path.hours),
    }
