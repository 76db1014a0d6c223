"""Adopting a charter: everything that differs, in one transaction, if it is still what was shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime
from uuid import UUID

import tomli_w
from sqlalchemy import func, or_, select

from openlatch import schemas
from openlatch.core.charter import Change, Difference
from openlatch.core.flags import LIMITS, Weights
from openlatch.core.flags import custom_rules as core_rules
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.reviews.assignment import Line, Place
from openlatch.core.vocabulary import Happening, Reach, Subject
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError
from openlatch.json_values import JsonObject, JsonView
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.canonical_json import fingerprint
from openlatch.service.charter import compare as charter_compare
from openlatch.service.charter import references, written
from openlatch.service.charter.references import References
from openlatch.service.exposure import expected
from openlatch.service.flags import rule_settings
from openlatch.service.grants import levels
from openlatch.service.latches import guard
from openlatch.service.records import edit
from openlatch.service.reviews import plans, schedules
from openlatch.service.unit import Unit
from openlatch.store.tables import (
    AdoptedCharter,
    ExpectedExposure,
    Level,
    Membership,
    Organisation,
    Schedule,
    System,
    Team,
)


def comparison(unit: Unit, charter: schemas.Charter) -> schemas.CharterComparison:
    """What adopting a charter would change, and whether the register would refuse it. Nothing happens yet."""
    unit.sight.require_administrator()
    found, named = charter_compare.differences(unit, charter)
    shown = charter_compare.shown(found)
    refused = ""
    try:
        with attempt(unit, keep=False) as trial:
            _carry_out(trial, found, named)
    except OpenLatchError as error:
        refused = f"{error.detail} {error.remedy}".strip()
    return schemas.CharterComparison(changes=shown, refused=refused, fingerprint=fingerprint(shown))


def adopt(unit: Unit, charter: schemas.Charter, seen: str, source: str) -> schemas.CharterAdoption:
    """Carry out what differs. Conflict when it is not what was shown; any refusal leaves everything as it was.

    Parts that were adopted before and are left out now stay adopted.
    """
    unit.sight.require_administrator()
    locks.access(unit)
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    found, named = charter_compare.differences(unit, charter)
    shown = charter_compare.shown(found)
    if seen != fingerprint(shown):
        raise Conflict(
            "The charter would change something else now than what was shown.", "Compare it again, and look at that."
        )
    # What is stored names people by their ids; that has to be looked up before somebody's address changes.
    document = charter.model_dump(mode="json")
    references.each_person(document, lambda said, where: str(named.people[said.casefold()][0]))
    _carry_out(unit, found, named)
    row = unit.db.get(AdoptedCharter, organisation.id) or AdoptedCharter(organisation_id=organisation.id)
    kept = {part: entries for part, entries in document.items() if entries is not None}
    row.document, row.source = {**(row.document or {}), **kept}, source
    row.adopted_at, row.adopted_by = unit.now, unit.viewer.name
    unit.db.add(row)
    unit.db.flush()
    unit.record("charter.adopted", "charter", organisation.id, "Charter", changes=len(shown), source=source)
    return schemas.CharterAdoption(changes=shown, adopted=_adopted(row))


def page(unit: Unit) -> schemas.CharterPage:
    """The register's own charter, and what differs from the one that was adopted last."""
    unit.sight.require_administrator()
    row = unit.db.get(AdoptedCharter, unit.viewer.organisation)
    changes: list[schemas.CharterChange] = []
    outdated = ""
    if row is not None:
        try:
            changes = charter_compare.shown(charter_compare.differences(unit, _with_names(unit, row.document))[0])
        except BadInput as error:
            outdated = f"{error.detail} {error.remedy}"
    return schemas.CharterPage(
        charter=written.of_register(unit),
        adopted=_adopted(row) if row is not None else None,
        changes=changes,
        outdated=outdated,
    )


def _adopted(row: AdoptedCharter) -> schemas.CharterAdopted:
    return schemas.CharterAdopted(at=row.adopted_at, by=row.adopted_by, source=row.source)


def _with_names(unit: Unit, stored: JsonView) -> schemas.Charter:
    document = schemas.Charter.model_validate(stored).model_dump(mode="json")
    named = references.person_names(unit, map(UUID, references.people_of(document)))
    references.each_person(document, lambda said, where: named.get(UUID(said), said))
    return schemas.Charter.model_validate(document)


# Carrying it out.


def _carry_out(unit: Unit, found: Iterable[Difference], named: References) -> None:
    for difference in found:
        try:
            _CARRIED[difference.part](unit, difference, named)
        except OpenLatchError as error:
            error.detail = f"{difference.part}, {difference.name}: {error.detail}"
            raise
        unit.db.flush()


def _team_id(unit: Unit, name: str) -> UUID:
    same = select(Team.id).where(func.lower(Team.name) == name.lower(), Team.archived_at.is_(None))
    ident = unit.db.scalar(same)
    if ident is None:
        raise NotFound(f"There is no team {name!r}.")
    return ident


def _person_id(unit: Unit, named: References, said: str) -> UUID:
    """Somebody by the name that the register's charter has for them."""
    if said in named.ids:
        return named.ids[said]
    ids = references.people(unit, [said]).get(said.casefold(), [])
    if len(ids) != 1:
        raise NotFound(f"There is nobody called {said!r}, or more than one.")
    return ids[0]


def _team(unit: Unit, difference: Difference, named: References) -> None:
    if difference.change is Change.REMOVE:
        edit.archive(unit, "teams", _team_id(unit, difference.name), True)
        return
    given = dict(difference.wanted)
    given["speaker"] = _person_id(unit, named, given["speaker"]) if given["speaker"] else None
    if difference.change is Change.ADD:
        edit.make(unit, "teams", given)
    else:
        edit.change(unit, "teams", _team_id(unit, difference.held["name"]), given)


def _member(unit: Unit, difference: Difference, named: References) -> None:
    entry = difference.wanted or difference.held
    team = _team_id(unit, entry["team"])
    if difference.change is Change.ADD:
        given: JsonObject = {"team": team, "person": None, "member_team": None, "since": None}
        if entry["kind"] == "person":
            given["person"] = _person_id(unit, named, entry["member"])
        else:
            given["member_team"] = _team_id(unit, entry["member"])
        edit.make(unit, "memberships", {**given, "last_day": _day(entry["last_day"])})
        return
    row = _membership(unit, team, entry, named)
    if difference.change is Change.REMOVE:
        edit.remove(unit, "memberships", row)
    else:
        edit.change(unit, "memberships", row, {"last_day": _day(entry["last_day"])})


def _membership(unit: Unit, team: UUID, entry: JsonView, named: References) -> UUID:
    is_person = entry["kind"] == "person"
    member = _person_id(unit, named, entry["member"]) if is_person else _team_id(unit, entry["member"])
    alive = or_(Membership.until.is_(None), Membership.until > unit.now)
    held = select(Membership.id).where(Membership.team_id == team, Membership.member_id == member, alive)
    ident = unit.db.scalar(held)
    if ident is None:
        raise NotFound("They do not belong to the team.")
    return ident


def _day(said: str | None) -> date | None:
    return date.fromisoformat(said) if said else None


def _level(unit: Unit, difference: Difference, named: References) -> None:
    entry = difference.wanted or difference.held
    system = unit.db.scalars(select(System.id).where(System.name == entry["system"])).one()
    draft = levels.Draft(
        entry["name"],
        entry["sentence"],
        new=tuple(
            levels.NewPermission(one["key"], one["sentence"], Reach.from_word(one["reach"]))
            for one in entry["permissions"]
        ),
    )
    if difference.change is Change.ADD:
        levels.make(unit, system, entry["key"], draft)
        return
    row = unit.db.scalars(select(Level.id).where(Level.system_id == system, Level.key == entry["key"])).one()
    if difference.change is Change.REMOVE:
        edit.archive(unit, "levels", row, True)
    else:
        levels.change(unit, row, draft, "", None)


def _latch(unit: Unit, difference: Difference, named: References) -> None:
    entry = difference.wanted or difference.held
    mode = LatchMode.OFF if difference.change is Change.REMOVE else LatchMode(entry["mode"])
    account = None
    if entry["account"]:
        held = references.of(unit, {"latches": [entry]})
        known = held.account(entry["account"], entry["system"], difference.name)
        held.refuse()
        account = known[0] if known else None
    first, second = entry["pair"] or ("", "")
    setting = guard.Setting(
        LatchKind(entry["kind"]), mode, account, entry["account_kind"], entry["number"], (first, second)
    )
    guard.switch(unit, setting)


def _rules(unit: Unit, difference: Difference, named: References) -> None:
    entry = difference.wanted
    limits = None
    if "limits" in entry:
        usual = {name: list(kind.usual) for name, kind in LIMITS.items()}
        said = {name: [None if n == "none" else n for n in four] for name, four in entry["limits"].items()}
        limits = {**usual, **said}
    weights = entry.get("weights")
    if weights is not None:
        weights = Weights(**{**weights, "reach": tuple(weights["reach"]), "sensitivity": tuple(weights["sensitivity"])})
    pairs = entry.get("never_together")
    wish = rule_settings.Wish(
        limits,
        weights,
        entry.get("off"),
        None if pairs is None else [(first, second) for first, second in pairs],
        entry.get("known_publishers"),
    )
    rule_settings.change(unit, wish)


def _own_rule(unit: Unit, difference: Difference, named: References) -> None:
    if difference.change is Change.REMOVE:
        rule_settings.drop(unit, difference.held["key"])
        return
    rule_settings.keep(unit, tomli_w.dumps({"format": core_rules.FORMAT, "rule": [dict(difference.wanted)]}))


def _schedule(unit: Unit, difference: Difference, named: References) -> None:
    entry = dict(difference.wanted or difference.held)
    if difference.change is Change.REMOVE:
        entry["paused"] = True
    ident = None
    if difference.change is not Change.ADD:
        same = func.lower(Schedule.name) == difference.name.lower()
        ident = unit.db.scalars(select(Schedule.id).where(same)).one()
    review = plans.Review(
        entry["name"],
        entry["scope"],
        tuple(Subject(kind) for kind in entry["covers"]),
        entry["days_to_decide"],
        tuple(_place(unit, reviewer, named) for reviewer in entry["reviewers"]),
        entry["acts"],
        entry["undecided"],
        entry["second_from"],
        tuple(entry["reminders"]),
        entry["closes_after"],
    )
    starts = datetime.fromisoformat(entry["starts"]) if entry["starts"] else None
    events = tuple(Happening(event) for event in entry["events"])
    plan = schedules.Plan(review, entry["recurrence"], starts, entry["time_zone"], events, entry["paused"])
    schedules.keep(unit, plan, ident)


def _place(unit: Unit, reviewer: JsonView, named: References) -> Place:
    ident = None
    if reviewer["person"]:
        ident = _person_id(unit, named, reviewer["person"])
    elif reviewer["team"]:
        ident = _team_id(unit, reviewer["team"])
    return Place(Line(reviewer["kind"]), ident, reviewer["account_kind"])


def _expected(unit: Unit, difference: Difference, named: References) -> None:
    if difference.held:
        same = func.lower(ExpectedExposure.name) == difference.name.lower()
        expected.remove(unit, unit.db.scalars(select(ExpectedExposure.id).where(same)).one())
    if difference.wanted:
        expected.add(unit, difference.wanted["name"], difference.wanted["filter"], difference.wanted["reason"])


_CARRIED: Mapping[str, Callable[[Unit, Difference, References], None]] = {
    "teams": _team,
    "members": _member,
    "levels": _level,
    "latches": _latch,
    "rules": _rules,
    "own_rules": _own_rule,
    "schedules": _schedule,
    "expected_exposures": _expected,
}
