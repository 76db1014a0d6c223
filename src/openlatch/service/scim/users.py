"""People as a directory gives them: made, changed and switched off by the use cases of records and of leaving."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from uuid import UUID

from sqlalchemy import ColumnElement, Row, Select, func, or_, select

from openlatch import schemas
from openlatch.core.vocabulary import Standing
from openlatch.errors import BadInput, Conflict, NotFound, Outdated
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.identity import sign_ins
from openlatch.service.notifications import notices
from openlatch.service.people import leavers
from openlatch.service.records import edit
from openlatch.service.unit import Unit
from openlatch.store.tables import Mark, Membership, Organisation, Person, PersonAddress, ScimRecord, SignIn, Team

EMPLOYEE = "employee"
AT_ONCE = "at_once"


@dataclass(frozen=True, slots=True)
class Email:
    """An address, and whether it is the first one."""

    value: str
    primary: bool | None = None
    kind: str = ""
    display: str = ""


@dataclass(frozen=True, slots=True)
class User:
    """Somebody as a directory gives them. ``parts`` are the parts of their name."""

    user_name: str
    name: str
    external_id: str | None = None
    title: str = ""
    active: bool = True
    emails: Sequence[Email] = ()
    parts: Mapping[str, str] = field(default_factory=dict)
    employee_number: str | None = None
    manager: UUID | None = None


@dataclass(frozen=True, slots=True)
class Held:
    """Somebody as we have them: what a directory is told."""

    id: UUID
    user: User
    teams: Sequence[tuple[UUID, str]]
    version: int
    created_at: datetime
    changed_at: datetime


def people() -> Select[Person, ScimRecord]:
    """Everybody whom directories see: people, with what a directory has said of them, by id."""
    joined = select(Person, ScimRecord).outerjoin(ScimRecord, ScimRecord.person_id == Person.id)
    known = (ScimRecord.removed_at.is_(None), Person.recognised, Person.merged_into_id.is_(None))
    return joined.where(*known).order_by(Person.id)


def listed(unit: Unit, where: Sequence[ColumnElement[bool]], offset: int, limit: int) -> tuple[int, list[Held]]:
    """How many fit, and those of a page."""
    wanted = people().where(*where)
    count = unit.db.scalar(select(func.count()).select_from(wanted.order_by(None).subquery())) or 0
    return count, _held(unit, unit.db.execute(wanted.offset(offset).limit(limit)).all())


def one(unit: Unit, ident: UUID) -> Held:
    """Somebody by their id. NotFound when there is none, or they were deleted."""
    found = unit.db.execute(people().where(Person.id == ident)).all()
    if not found:
        raise NotFound(f"There is no user {ident}.")
    return _held(unit, found)[0]


def named(user_name: str) -> ColumnElement[bool]:
    """Whoever has that user name: as their directory gave it, else by their address."""
    wanted = user_name.lower()
    own = ScimRecord.user_name.is_(None) & (func.lower(Person.address) == wanted)
    return or_(func.lower(ScimRecord.user_name) == wanted, own)


def _held(unit: Unit, rows: Sequence[Row[Person, ScimRecord]]) -> list[Held]:
    """These people as a directory is told of them, with three questions for all of them together."""
    ids = [person.id for person, _ in rows]
    others = select(PersonAddress.person_id, PersonAddress.address).order_by(PersonAddress.address)
    addresses = _by_person(unit.db.execute(others.where(PersonAddress.person_id.in_(ids))).all())
    marks = select(Mark.person_id, Mark.value).where(Mark.kind == EMPLOYEE).order_by(Mark.value)
    numbers = _by_person(unit.db.execute(marks.where(Mark.person_id.in_(ids))).all())
    of = select(Membership.person_id, Team.id, Team.name).join(Team, Team.id == Membership.team_id)
    of = of.where(Membership.person_id.in_(ids), Team.archived_at.is_(None)).order_by(Team.id)
    teams: dict[UUID, list[tuple[UUID, str]]] = {}
    for person, team, name in unit.db.execute(of):
        if person is not None:
            teams.setdefault(person, []).append((team, name))
    return [
        _one_held(person, row, addresses.get(person.id, []), numbers.get(person.id, []), teams.get(person.id, []))
        for person, row in rows
    ]


def _by_person(rows: Sequence[Row[UUID, str]]) -> dict[UUID, list[str]]:
    found: dict[UUID, list[str]] = {}
    for person, value in rows:
        found.setdefault(person, []).append(value)
    return found


def _one_held(
    person: Person,
    row: ScimRecord | None,
    others: Sequence[str],
    numbers: Sequence[str],
    teams: Sequence[tuple[UUID, str]],
) -> Held:
    given: JsonObject = row.given if row is not None else {}
    known = {str(one["value"]).lower(): one for one in given.get("emails", [])}
    held = [person.address, *others] if person.address else others
    gone = person.standing == Standing.LEFT or (row is not None and row.inactive_since is not None)
    return Held(
        id=person.id,
        user=User(
            user_name=(row.user_name if row is not None else None) or person.address or str(person.id),
            name=person.name,
            external_id=row.external_id if row is not None else None,
            title=person.job,
            active=not gone,
            emails=[_email(value, known.get(value.lower()), value == person.address) for value in held],
            parts={str(part): str(value) for part, value in given.get("parts", {}).items()},
            employee_number=next(iter(numbers), None),
            manager=person.manager_id,
        ),
        teams=teams,
        version=person.version,
        created_at=person.created_at,
        changed_at=max(person.recorded_at, row.changed_at) if row is not None else person.recorded_at,
    )


def _email(value: str, said: JsonObject | None, is_first: bool) -> Email:
    """An address of ours, with what the directory has said of it besides."""
    if said is None:
        return Email(value, is_first)
    primary = said.get("primary")
    return Email(str(said["value"]), is_first if primary else primary, str(said["kind"]), str(said["display"]))


def create(unit: Unit, user: User) -> Held:
    """Make somebody. BadInput when there is such a user.

    Somebody of the register with that address becomes theirs, and so does whom a directory has deleted: they are back.
    """
    locks.access(unit)
    known = unit.db.execute(people().where(named(user.user_name))).first()
    if known is not None and known[1] is not None:
        raise _taken(user)
    person = known[0].id if known is not None else _same_address(unit, user) or _deleted(unit, user)
    if person is None:
        person = edit.make(unit, "people", _form(user).model_dump()).id
    _record(unit, person).removed_at = None
    unit.db.flush()
    return replace(unit, person, user)


def _taken(user: User) -> BadInput:
    return BadInput(f"There is a user {user.user_name} already.", "Use another name.", {"userName": "is taken"})


def _same_address(unit: Unit, user: User) -> UUID | None:
    """Somebody of the register with the first address, whom no directory has given yet."""
    first = _first(user)
    if not first:
        return None
    same = people().where(
        func.lower(Person.address) == first, ScimRecord.id.is_(None), Person.standing != Standing.LEFT
    )
    found = unit.db.execute(same).first()
    return found[0].id if found is not None else None


def _deleted(unit: Unit, user: User) -> UUID | None:
    """Whom a directory has deleted that still has the first address: it is not free while they have it."""
    first = _first(user)
    others = select(PersonAddress.person_id).where(func.lower(PersonAddress.address) == first)
    of = select(Person.id).join(ScimRecord, ScimRecord.person_id == Person.id)
    wanted = of.where(or_(func.lower(Person.address) == first, Person.id.in_(others)))
    return unit.db.scalar(wanted.where(Person.merged_into_id.is_(None), ScimRecord.removed_at.is_not(None)))


def replace(unit: Unit, ident: UUID, user: User, versions: Container[int] | None = None) -> Held:
    """Make somebody what a directory says that they are. Outdated for another version; BadInput for a taken name."""
    # Before any row: leaving, and everything that it ends, takes this first.
    locks.access(unit)
    before = one(unit, ident)
    if versions is not None and before.version not in versions:
        raise Outdated("The user was changed meanwhile.", "Read it again.")
    if unit.db.execute(people().where(named(user.user_name), Person.id != ident)).first() is not None:
        raise _taken(user)
    row = _record(unit, ident)
    row.user_name, row.external_id = user.user_name, user.external_id
    row.given = {
        "parts": dict(user.parts),
        "emails": [
            {"value": mail.value, "primary": mail.primary, "kind": mail.kind, "display": mail.display}
            for mail in user.emails
        ],
    }
    row.changed_at = unit.now
    unit.db.flush()
    form = _form(user).model_dump()
    marks = [mark for mark in _marks(edit.shown(unit, "people", ident).values) if mark["kind"] != EMPLOYEE]
    form["marks"] = marks + form["marks"]
    edit.change(unit, "people", ident, {field: form[field] for field in _GIVEN})
    if user.active != before.user.active:
        _switch(unit, ident, row, user.active)
    _touch(unit, ident, before.version)
    return one(unit, ident)


def _record(unit: Unit, ident: UUID) -> ScimRecord:
    """What a directory has said of somebody; a new row when it has said nothing yet."""
    row = unit.db.scalars(select(ScimRecord).where(ScimRecord.person_id == ident).with_for_update()).one_or_none()
    if row is None:
        row = ScimRecord(organisation_id=unit.viewer.organisation, person_id=ident)
        unit.db.add(row)
    return row


def _touch(unit: Unit, ident: UUID, version: int) -> None:
    """A version of its own for each change, also of what is kept beside the person."""
    person = unit.db.get_one(Person, ident)
    unit.db.refresh(person)
    if person.version == version:
        person.version += 1
        unit.db.flush()


def delete(unit: Unit, ident: UUID) -> None:
    """Somebody whom a directory has deleted: gone for it, and switched off here as the organisation wants it."""
    locks.access(unit)
    held = one(unit, ident)
    row = _record(unit, ident)
    unit.db.flush()
    if held.user.active:
        _switch(unit, ident, row, False)
    row.removed_at, row.changed_at = unit.now, unit.now
    unit.db.flush()
    unit.record("person.deprovisioned", "person", ident, held.user.name)


def _switch(unit: Unit, ident: UUID, row: ScimRecord, is_active: bool) -> None:
    person = unit.db.get_one(Person, ident)
    sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == ident)).one_or_none()
    if is_active:
        row.inactive_since = None
        if person.standing == Standing.LEFT:
            edit.change(unit, "people", ident, {"standing": "current", "leaves_on": None})
        if sign_in is not None and sign_in.suspended_at is not None:
            sign_ins.set_suspended(unit, sign_in.id, False)
        unit.record("person.activated", "person", ident, person.name)
        return
    row.inactive_since = unit.now
    if sign_in is not None and sign_in.suspended_at is None:
        sign_ins.set_suspended(unit, sign_in.id, True)
    unit.record("person.deactivated", "person", ident, person.name)
    settings = unit.db.get_one(Organisation, unit.viewer.organisation).settings
    why = f"{unit.viewer.name} says that they are not active any more."
    if settings.get("when_deactivated") == AT_ONCE:
        try:
            with attempt(unit) as within:
                leavers.start(within, leavers.Plan(person=ident), why)
        except (BadInput, Conflict) as error:
            why += f" Their access could not be ended at once: {error.detail}"
        else:
            return
    sentence = f"{person.name} is not active any more. {why} Decide what becomes of their access."
    notices.tell_and_write(unit, notices.administrators(unit), "leaver", sentence, f"/people/{ident}/leaving")


# The fields of a person's record that a directory gives.
_GIVEN = ("name", "address", "other_addresses", "job", "manager", "marks")


def _form(user: User) -> schemas.PersonForm:
    """Somebody as a form for their record. ValidationError for what no record may have."""
    others = [mail.value.lower() for mail in user.emails if mail.value.lower() != _first(user)]
    number = [{"kind": EMPLOYEE, "value": user.employee_number}] if user.employee_number else []
    return schemas.PersonForm.model_validate(
        {
            "name": user.name,
            "address": _first(user),
            "other_addresses": list(dict.fromkeys(others)),
            "job": user.title,
            "manager": user.manager,
            "marks": number,
        }
    )


def _first(user: User) -> str | None:
    """The first address: the one that is marked, else the first, else the user name where it is one."""
    marked = [mail.value for mail in user.emails if mail.primary] or [mail.value for mail in user.emails]
    found = next((value for value in marked if value), user.user_name if "@" in user.user_name else "")
    return found.lower() or None


def _marks(values: Mapping[str, object]) -> list[dict[str, object]]:
    marks = values.get("marks")
    return [dict(mark) for mark in marks if isinstance(mark, Mapping)] if isinstance(marks, list) else []
