"""The register's own charter: what it has now, in the form of a charter."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from uuid import UUID

from sqlalchemy import or_, select

from openlatch import schemas
from openlatch.core.latches import LatchMode
from openlatch.core.time_windows import ends_on
from openlatch.json_values import JsonObject
from openlatch.service.charter.references import person_names
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.lists.columns import among
from openlatch.store.tables import (
    Account,
    ExpectedExposure,
    Latch,
    Level,
    Membership,
    OwnRule,
    Person,
    Schedule,
    ScimRecord,
    System,
    Team,
)


def of_register(unit: Unit) -> schemas.Charter:
    """The charter of the register as it is. Members of teams that a directory keeps are left out."""
    return schemas.Charter(
        teams=list(_teams(unit)),
        levels=list(_levels(unit)),
        latches=list(_latches(unit)),
        rules=_rules(unit),
        own_rules=list(_own_rules(unit)),
        schedules=list(_schedules(unit)),
        expected_exposures=[
            schemas.CharterExpected(name=row.name, filter=row.filter, reason=row.reason)
            for row in unit.db.scalars(select(ExpectedExposure).order_by(ExpectedExposure.name, ExpectedExposure.id))
        ],
    )


def kept_by_directory(unit: Unit) -> set[UUID]:
    """The teams whose members a directory keeps by SCIM."""
    kept = select(ScimRecord.team_id).where(ScimRecord.team_id.is_not(None), ScimRecord.removed_at.is_(None))
    return {ident for ident in unit.db.scalars(kept) if ident is not None}


def _teams(unit: Unit) -> Iterator[schemas.CharterTeam]:
    rows = unit.db.scalars(select(Team).where(Team.archived_at.is_(None)).order_by(Team.name)).all()
    names = {row.id: row.name for row in rows}
    elsewhere = kept_by_directory(unit)
    alive = or_(Membership.until.is_(None), Membership.until > unit.now)
    held: dict[UUID, list[Membership]] = {}
    for one in unit.db.scalars(select(Membership).where(alive, among(Membership.team_id, names))):
        held.setdefault(one.team_id, []).append(one)
    persons = {one.person_id for ones in held.values() for one in ones if one.person_id} | {
        row.speaker_id for row in rows if row.speaker_id
    }
    called = person_names(unit, persons)
    for row in rows:
        members = [
            schemas.CharterMember(
                person=called[one.person_id] if one.person_id else None,
                team=names.get(one.member_team_id) if one.member_team_id else None,
                last_day=ends_on(one.until, unit.zone) if one.until else None,
            )
            for one in held.get(row.id, ())
            if one.person_id or one.member_team_id in names
        ]
        yield schemas.CharterTeam(
            name=row.name,
            partner=row.partner,
            purpose=row.purpose,
            speaker=called[row.speaker_id] if row.speaker_id else None,
            members=None if row.id in elsewhere else sorted(members, key=lambda m: (m.team or "", m.person or "")),
        )


def levels(unit: Unit) -> list[tuple[System, Level]]:
    """The levels of systems that nothing is read from, with their systems."""
    statement = (
        select(System, Level)
        .join(Level, Level.system_id == System.id)
        .where(Level.archived_at.is_(None), Level.single.is_(False))
        .where(System.kind.not_in(list(unit.service.adapters)))
        .order_by(System.name, Level.reach, Level.key)
    )
    return [(system, level) for system, level in unit.db.execute(statement)]


def _levels(unit: Unit) -> Iterator[schemas.CharterLevel]:
    for system, row in levels(unit):
        yield schemas.CharterLevel(
            system=system.name,
            key=row.key or "",
            name=row.name,
            sentence=row.sentence,
            permissions=[schemas.CharterPermission.model_validate(one) for one in row.permissions],
        )


def _latches(unit: Unit) -> Iterator[schemas.CharterLatch]:
    accounts = {
        ident: (name, system)
        for ident, name, system in unit.db.execute(
            select(Account.id, Account.name, System.name).join(System, System.id == Account.system_id)
        )
    }
    names = [name.casefold() for name, _ in accounts.values()]
    rows = unit.db.scalars(select(Latch).where(Latch.mode != LatchMode.OFF)).all()
    found = []
    for row in rows:
        name, system = accounts[row.account_id] if row.account_id else (None, None)
        two = name is not None and names.count(name.casefold()) > 1
        found.append(
            schemas.CharterLatch.model_validate(
                {
                    "account": name,
                    "system": system if two else None,
                    "account_kind": row.account_kind,
                    "kind": row.kind,
                    "mode": row.mode,
                    "number": row.number,
                    "pair": row.pair,
                }
            )
        )
    yield from sorted(found, key=lambda one: (one.account_kind or "", one.account or "", one.kind))


def _rules(unit: Unit) -> schemas.CharterRules:
    stored = evaluate_flags.ruling(unit).settings.stored
    limits = {name: ["none" if n is None else n for n in four] for name, four in stored["limits"].items()}
    return schemas.CharterRules.model_validate({**stored, "limits": limits})


def _own_rules(unit: Unit) -> Iterator[schemas.CharterOwnRule]:
    for row in unit.db.scalars(select(OwnRule).where(OwnRule.live).order_by(OwnRule.number)):
        told = next(rule for rule in tomllib.loads(row.source)["rule"] if rule["key"] == row.key)
        yield schemas.CharterOwnRule.model_validate(told)


def _schedules(unit: Unit) -> Iterator[schemas.CharterSchedule]:
    rows = unit.db.scalars(select(Schedule).order_by(Schedule.name, Schedule.id)).all()
    persons = {UUID(p["id"]) for row in rows for p in row.reviewers if p["kind"] == "person"}
    called = {str(ident): name for ident, name in person_names(unit, persons).items()}
    teams = {str(ident): name for ident, name in unit.db.execute(select(Team.id, Team.name))}
    people = {str(ident) for ident in unit.db.scalars(select(Person.id).where(among(Person.id, persons)))}
    for row in rows:
        yield schemas.CharterSchedule.model_validate(
            {
                "name": row.name,
                "scope": row.scope,
                "covers": row.covers,
                "days_to_decide": row.days_to_decide,
                "reviewers": [_reviewer(place, called if place["id"] in people else teams) for place in row.reviewers],
                "acts": row.acts,
                "second_from": row.second_from,
                "reminders": row.reminders,
                "closes_after": row.closes_after,
                "recurrence": row.recurrence,
                "starts": row.starts or None,
                "time_zone": row.time_zone,
                "events": row.events,
                "undecided": row.undecided,
                "paused": row.paused,
            }
        )


def _reviewer(place: JsonObject, called: dict[str, str]) -> JsonObject:
    who = {place["kind"]: called[place["id"]]} if place["id"] else {}
    return {"kind": place["kind"], "account_kind": place["account_kind"], **who}


def is_read(unit: Unit, system: UUID) -> bool:
    """Whether levels of a system come from its readings."""
    return unit.db.get_one(System, system).kind in unit.service.adapters
