"""People as records: their addresses, marks and logins belong to them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from uuid import UUID

from sqlalchemy import func, select

from openlatch.core.files.records import BadField
from openlatch.core.files.records import address as read_address
from openlatch.core.time_windows import end_of_last_day, ends_on
from openlatch.core.vocabulary import GrantState, Standing
from openlatch.errors import BadInput, Conflict
from openlatch.json_values import JsonObject
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.identity import sign_ins
from openlatch.service.latches import guard
from openlatch.service.records.kinds import Kind, Values, person_named, reached_by
from openlatch.service.unit import Unit
from openlatch.store.sql_types import Expression
from openlatch.store.tables import Grant, Handle, Mark, Person, PersonAddress, System


class People(Kind[Person]):
    """People known to the organisation."""

    name, noun, table = "people", "person", Person
    parts = frozenset(
        {
            "handles.person_id",
            "marks.person_id",
            "person_addresses.person_id",
            "address_proofs.person_id",
            "notices.person_id",
            "calendars.person_id",
            "scim_records.person_id",
            "flags.holder_id",
            "flags.subject_id",
            "findings.subject_id",
        }
    )

    def values(self, unit: Unit, row: Person) -> JsonObject:
        """A person as form values."""
        others = select(PersonAddress.address).where(PersonAddress.person_id == row.id).order_by(PersonAddress.address)
        marks = select(Mark.kind, Mark.value).where(Mark.person_id == row.id).order_by(Mark.kind, Mark.value)
        return {
            "name": row.name,
            "address": row.address,
            "other_addresses": list(unit.db.scalars(others)),
            "job": row.job,
            "inside": row.inside,
            "standing": row.standing,
            "leaves_on": ends_on(row.leaves_at, unit.zone) if row.leaves_at else None,
            "manager": row.manager_id,
            "marks": [{"kind": kind, "value": value} for kind, value in unit.db.execute(marks)],
            "logins": logins_of(unit, Handle.person_id == row.id),
        }

    def fresh(self, unit: Unit, given: Values) -> Person:
        """A person with the name and place that a form gives."""
        row = Person(organisation_id=unit.viewer.organisation, name=given["name"], inside=given["inside"])
        unit.db.add(row)
        return row

    def write(self, unit: Unit, row: Person, given: Values) -> None:
        """Write a form. BadInput for an address that is taken, or a standing that can't be set by hand."""
        manager = person_named(unit, given["manager"], "manager")
        if manager is not None and manager == row.id:
            raise BadInput("Nobody is their own manager.", "Choose another.", {"manager": "is the person"})
        row.name, row.job, row.inside, row.manager_id = given["name"], given["job"], given["inside"], manager
        # Somebody found in a system counts as identified once edited by hand.
        row.recognised = True
        _write_standing(unit, row, given["standing"], given["leaves_on"])
        unit.db.flush()
        _write_addresses(unit, row, given["address"], given["other_addresses"])
        _write_marks(unit, row, given["marks"])
        write_logins(unit, given["logins"], person=row.id)

    def refuse_removal(self, unit: Unit, row: Person) -> None:
        """Conflict for somebody whom a system knows."""
        refuse_known(unit, row.name, Handle.person_id == row.id)

    def lets_in(self, unit: Unit, row: Person | None, before: Values, given: Values) -> Sequence[UUID]:
        """Accounts that they can act in, when the edit changes whether they are inside."""
        if row is None or all(before[f] == given[f] for f in ("inside", "standing", "leaves_on")):
            return ()
        return guard.touched(unit, reached_by(unit, row.id))

    def afterwards(self, unit: Unit, row: Person, before: Values, given: Values) -> None:
        """Update flags on them and on everything that they reach."""
        evaluate_flags.evaluate_person(unit, row.id, reached_by(unit, row.id))


def _write_standing(unit: Unit, row: Person, standing: str, leaves_on: date | None) -> None:
    if standing == Standing.LEFT and row.standing != Standing.LEFT:
        holds = select(Grant.id).where(Grant.person_id == row.id, Grant.state != GrantState.ENDED).limit(1)
        if row.id is not None and unit.db.scalar(holds) is not None:
            raise Conflict(
                f"{row.name} still has access.", "Let them leave (POST /people/…/leaving): that ends it everywhere."
            )
    if standing == Standing.LEAVING and leaves_on is None:
        raise BadInput("Nobody leaves without a last day.", "Give it.", {"leaves_on": "is missing"})
    if standing == Standing.CURRENT and leaves_on is not None:
        raise BadInput(
            "Somebody with a last day is leaving.", "Choose leaving, or empty the day.", {"standing": "does not fit"}
        )
    end = end_of_last_day(leaves_on, unit.zone) if leaves_on else None
    if standing == Standing.LEFT:
        end = min(end, unit.now) if end else row.leaves_at or unit.now
    row.standing, row.leaves_at = standing, end
    if standing == Standing.LEFT:
        sign_ins.refuse_none(unit)


def _address(written: str | None, field: str, unit: Unit) -> str | None:
    if not written:
        return None
    try:
        return read_address(written, unit.zone)
    except BadField as fault:
        raise BadInput(f"The address {fault}.", "Write it as ada@example.org.", {field: str(fault)}) from None


def _write_addresses(unit: Unit, row: Person, written: str | None, others: Sequence[str]) -> None:
    held = {one.address: one for one in unit.db.scalars(select(PersonAddress).where(PersonAddress.person_id == row.id))}
    # What is stored already may have been written before addresses were checked as they are now.
    first = written if written and written == row.address else _address(written, "address", unit)
    read = (one if one in held else _address(one, "other_addresses", unit) for one in others)
    further = {found for found in read if found and found != first}
    for field, found in [("address", first), *(("other_addresses", one) for one in sorted(further))]:
        _refuse_others(unit, row, found, field)
    if row.address != first:
        row.address, row.address_confirmed_at = first, None
    for address, gone in held.items():
        if address not in further:
            unit.db.delete(gone)
    unit.db.flush()
    unit.db.add_all(
        PersonAddress(organisation_id=row.organisation_id, person_id=row.id, address=address)
        for address in sorted(further - set(held))
    )


def _refuse_others(unit: Unit, row: Person, address: str | None, field: str) -> None:
    """BadInput when an address is somebody else's: mail and offers to it would go to the wrong person."""
    if address is None:
        return
    whose = select(Person.name).where(
        func.lower(Person.address) == address, Person.standing != Standing.LEFT, Person.id != row.id
    )
    beside = (
        select(Person.name)
        .join(PersonAddress, PersonAddress.person_id == Person.id)
        .where(func.lower(PersonAddress.address) == address, Person.id != row.id)
    )
    name = unit.db.scalar(whose.limit(1)) or unit.db.scalar(beside.limit(1))
    if name is not None:
        raise BadInput(
            f"{address} is the address of {name}.",
            "Use another, or merge the two records.",
            {field: f"is the address of {name}"},
        )


def _write_marks(unit: Unit, row: Person, given: Sequence[Values]) -> None:
    wanted = {(mark["kind"], mark["value"]) for mark in given}
    held = {(mark.kind, mark.value): mark for mark in unit.db.scalars(select(Mark).where(Mark.person_id == row.id))}
    for key, mark in held.items():
        if key not in wanted:
            unit.db.delete(mark)
    for kind, value in sorted(wanted - set(held)):
        unit.db.add(Mark(organisation_id=row.organisation_id, person_id=row.id, kind=kind, value=value))


def logins_of(unit: Unit, whose: Expression) -> list[JsonObject]:
    """The names by which systems know a person or an app."""
    rows = unit.db.execute(select(Handle.system_id, Handle.name).where(whose).order_by(Handle.name, Handle.id))
    return [{"system": system, "name": name} for system, name in rows]


def refuse_known(unit: Unit, name: str, whose: Expression) -> None:
    """Conflict while a login is known from its system: the next reading would find it again."""
    login = unit.db.scalar(select(Handle.name).where(whose, Handle.marks != {}).limit(1))
    if login is not None:
        raise Conflict(f"{name} is known to a system by the login {login}.", "Identify the login, or merge the two.")


def write_logins(unit: Unit, given: Sequence[Values], person: UUID | None = None, app: UUID | None = None) -> None:
    """Set the logins of a person or an app. BadInput for one that is somebody else's, or one that a reading found,
    which a form can't take away.
    """
    whose = Handle.person_id == person if person else Handle.app_id == app
    wanted = {(login["system"], login["name"]) for login in given}
    held = {(row.system_id, row.name): row for row in unit.db.scalars(select(Handle).where(whose))}
    for key, row in held.items():
        if key in wanted:
            continue
        if row.marks:
            raise BadInput(
                f"A reading found the login {row.name}.",
                "Say whose it is among the logins to identify.",
                {"logins": f"{row.name} is known from its system"},
            )
        unit.db.delete(row)
    for system, name in sorted(wanted - set(held), key=str):
        if unit.db.get(System, system) is None:
            raise BadInput("There is no such system.", "Choose another.", {"logins": "unknown system"})
        if unit.db.scalar(select(Handle.id).where(Handle.system_id == system, Handle.name == name)) is not None:
            raise BadInput(
                f"The login {name} is somebody else's there.",
                "Identify it, or merge the two records.",
                {"logins": f"{name} is taken"},
            )
        unit.db.add(
            Handle(
                organisation_id=unit.viewer.organisation,
                system_id=system,
                name=name,
                person_id=person,
                app_id=app,
                settled=True,
            )
        )
