"""Comparing a charter with the register, in one common form."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from uuid import UUID
from zoneinfo import ZoneInfo

from openlatch import schemas
from openlatch.core import charter as core
from openlatch.core.charter import Change, Difference
from openlatch.core.flags import LIMITS
from openlatch.core.reviews import recurrence
from openlatch.core.time_windows import zone_of
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject, JsonView
from openlatch.service.charter import references, written
from openlatch.service.unit import Unit
from openlatch.store.lists.exposures import EXPOSURES


def differences(unit: Unit, charter: schemas.Charter) -> tuple[list[Difference], references.References]:
    """What adopting a charter would change, and what it names. BadInput for names that mean nothing, or two things."""
    wanted = charter.model_dump(mode="json")
    named = references.of(unit, wanted)
    _spell(unit, wanted, named)
    named.refuse()
    _refuse_directory_teams(unit, wanted, named)
    held = written.of_register(unit).model_dump(mode="json")
    for side, whose in ((wanted, "The charter"), (held, "The register")):
        double = core.twice(side)
        if double:
            raise BadInput(f"{whose} has something twice: {'; '.join(double[:5])}.", "Rename or remove one of the two.")
    found = core.compare(held, wanted)
    return [d for d in found if not _is_idle(d)], named


def _is_idle(difference: Difference) -> bool:
    """A schedule that is paused and that the charter does not have: pausing is all that becomes of one that goes."""
    gone = difference.part == "schedules" and difference.change is Change.REMOVE
    return gone and bool(difference.held["paused"])


def shown(found: Sequence[Difference]) -> list[schemas.CharterChange]:
    """The differences as they are told."""
    return [
        schemas.CharterChange(
            part=d.part,
            name=d.name,
            change=d.change.value,
            values=[schemas.EditedValue(field=field, was=was, will=will) for field, was, will in d.values],
        )
        for d in found
    ]


def _spell(unit: Unit, wanted: JsonObject, named: references.References) -> None:
    """Name everything as a charter of the register does."""
    references.each_person(wanted, named.person)
    for team in wanted["teams"] or ():
        _spell_members(team, named)
    for level in wanted["levels"] or ():
        where = f"levels, {level['key']}, system"
        level["system"] = named.system(level["system"], where)
        known = named.systems.get(level["system"].casefold())
        if known and written.is_read(unit, known[0]):
            named.faults[where] = f"the levels of {known[1]} come from the system itself"
    for latch in wanted["latches"] or ():
        _spell_latch(latch, named)
    if wanted["rules"]:
        _spell_rules(wanted["rules"])
    for schedule in wanted["schedules"] or ():
        _spell_schedule(unit, schedule, named)
    for rule in wanted["expected_exposures"] or ():
        EXPOSURES.checked(rule["filter"])


def _spell_members(team: JsonObject, named: references.References) -> None:
    where = f"teams, {team['name']}, members"
    for member in team["members"] or ():
        if (member["person"] is None) == (member["team"] is None):
            named.faults[where] = "a member is a person or a team"
        if member["team"]:
            member["team"] = named.team(member["team"], where)


def _spell_latch(latch: JsonObject, named: references.References) -> None:
    where = f"latches, {latch['kind']} on {latch['account'] or latch['account_kind'] or 'nothing'}"
    if (latch["account"] is None) == (latch["account_kind"] is None):
        named.faults[where] = "a latch is on an account, or on a kind of account"
    elif latch["account"]:
        known = named.account(latch["account"], latch["system"], where)
        latch["account"] = known[1] if known else latch["account"]
        if len(named.accounts.get((latch["account"].casefold(), ""), ())) == 1:
            latch["system"] = None


def _spell_rules(rules: JsonObject) -> None:
    if rules["limits"] is not None:
        plain = {name: [None if n == "none" else n for n in four] for name, four in rules["limits"].items()}
        rules["limits"] = {
            name: rules["limits"][name]
            for name, four in sorted(plain.items())
            if name not in LIMITS or tuple(four) != LIMITS[name].usual
        }
    for names in ("off", "known_publishers"):
        if rules[names] is not None:
            rules[names] = sorted(set(rules[names]))


def _spell_schedule(unit: Unit, schedule: JsonObject, named: references.References) -> None:
    where = f"schedules, {schedule['name']}"
    for reviewer in schedule["reviewers"]:
        if (reviewer["kind"] == "person") != bool(reviewer["person"]) or (reviewer["kind"] == "team") != bool(
            reviewer["team"]
        ):
            named.faults[f"{where}, reviewers"] = "a reviewer of the kind person names one, and one of the kind team"
        if reviewer["team"]:
            reviewer["team"] = named.team(reviewer["team"], f"{where}, reviewers")
    schedule["reminders"] = sorted(set(schedule["reminders"]), reverse=True)
    schedule["time_zone"] = schedule["time_zone"] or unit.zone.key
    if schedule["recurrence"] and schedule["starts"]:
        # What can't be read is refused when it is adopted.
        with suppress(BadInput, ValueError):
            zone: ZoneInfo = zone_of(schedule["time_zone"])
            starts = datetime.fromisoformat(schedule["starts"])
            schedule["recurrence"] = recurrence.checked(schedule["recurrence"], zone, starts).rule


def _refuse_directory_teams(unit: Unit, wanted: JsonView, named: references.References) -> None:
    kept: set[UUID] = written.kept_by_directory(unit)
    for team in wanted["teams"] or ():
        if team["members"] is not None and named.teams[team["name"].casefold()][0] in kept:
            named.faults[f"teams, {team['name']}, members"] = "a directory keeps them: leave members out"
    named.refuse()
