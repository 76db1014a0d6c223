"""Inviting somebody to sign in: by mail, with a link that opens once and runs out."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta
from typing import cast
from uuid import UUID

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.files.records import BadField
from openlatch.core.files.records import address as read_address
from openlatch.core.vocabulary import Role, Standing
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service import locks
from openlatch.service.identity import authentication, try_limits
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import Invitation, Organisation, Person, SignIn

RUNS_OUT = timedelta(days=7)
PAGE = "/invitation"


def _digest(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def rows(unit: Unit) -> list[schemas.InvitationOf]:
    """Invitations that are not accepted yet, including expired ones."""
    unit.sight.require_administrator()
    found = unit.db.execute(
        select(Invitation, Person).join(Person, Person.id == Invitation.person_id).order_by(Invitation.sent_at.desc())
    )
    return [_shown(row, person) for row, person in found]


def _shown(row: Invitation, person: Person) -> schemas.InvitationOf:
    return schemas.InvitationOf(
        id=row.id,
        person=schemas.Named(id=person.id, name=person.name),
        address=row.address,
        role=cast("schemas.RoleName", row.role),
        sent_by=row.sent_by_name,
        sent_at=row.sent_at,
        times_sent=row.times_sent,
        runs_out_at=row.runs_out_at,
    )


def invite(unit: Unit, person: UUID | None, name: str, address: str, role: Role) -> schemas.InvitationOf:
    """Invite a person of the register, or somebody new by name and address. Conflict for whoever signs in already."""
    unit.sight.require_administrator()
    unit.require_proof("Inviting somebody to sign in")
    locks.access(unit)
    row = _person(unit, person, name, address)
    if row.standing == Standing.LEFT:
        raise Conflict(f"{row.name} has left.", "Say that they are back first: edit the person.")
    if unit.db.scalar(select(SignIn.id).where(SignIn.person_id == row.id)) is not None:
        raise Conflict(f"{row.name} signs in already.", "Change their role on the page of sign-ins.")
    if not row.address:
        raise BadInput(f"No address is known of {row.name}.", "Give one.", {"address": "is missing"})
    held = unit.db.scalars(select(Invitation).where(Invitation.person_id == row.id).with_for_update()).first()
    if held is None:
        held = Invitation(
            organisation_id=unit.viewer.organisation,
            person_id=row.id,
            address=row.address,
            role=role,
            token_hash=b"",
            sent_by_name=unit.viewer.name,
            sent_at=unit.now,
            times_sent=0,
            runs_out_at=unit.now,
        )
        unit.db.add(held)
    held.role, held.address = role, row.address
    _send(unit, held, row)
    unit.record("invitation.sent", "person", row.id, row.name, role=role, runs_out_at=held.runs_out_at)
    if role is Role.ADMINISTRATOR:
        told = notices.administrators(unit) - {unit.viewer.person}
        sentence = f"{unit.viewer.name} invited {row.name} to administer the organisation."
        notices.tell_and_write(unit, told, "sign_in", sentence, "/sign-ins")
    return _shown(held, row)


def _person(unit: Unit, ident: UUID | None, name: str, address: str) -> Person:
    found: str | None = None
    if address.strip():
        try:
            found = read_address(address, unit.zone)
        except BadField as fault:
            raise BadInput(f"The address {fault}.", "Write it as ada@example.org.", {"address": str(fault)}) from None
    if ident is not None:
        row = unit.db.get(Person, ident, with_for_update=True)
        if row is None or row.merged_into_id is not None:
            raise BadInput("There is no such person.", "Choose another.", {"person": "unknown"})
        if found is not None and not row.address:
            _refuse_taken(unit, found, row.id)
            row.address = found
        return row
    if found is None or not name.strip():
        raise BadInput("Nobody is named.", "Choose a person, or give a name and an address.", {"person": "is missing"})
    _refuse_taken(unit, found, None)
    row = Person(organisation_id=unit.viewer.organisation, name=name.strip(), address=found, inside=True)
    unit.db.add(row)
    unit.db.flush()
    unit.record("person.made", "person", row.id, row.name, values={"name": row.name, "address": found})
    return row


def _refuse_taken(unit: Unit, address: str, but: UUID | None) -> None:
    whose = select(Person.name).where(func.lower(Person.address) == address, Person.standing != Standing.LEFT)
    name = unit.db.scalar(whose if but is None else whose.where(Person.id != but))
    if name is not None:
        raise BadInput(f"{address} is the address of {name}.", f"Invite {name}.", {"address": f"is {name}'s"})


def _send(unit: Unit, row: Invitation, person: Person) -> None:
    token = secrets.token_urlsafe(32)
    row.token_hash, row.sent_at, row.runs_out_at = _digest(token), unit.now, unit.now + RUNS_OUT
    row.times_sent += 1
    row.sent_by_name = unit.viewer.name
    unit.db.flush()
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation).name
    until = row.runs_out_at.astimezone(unit.zone)
    letter = notices.Letter(
        f"{unit.viewer.name} invites you to Open Latch at {organisation}",
        (
            f"Hello {person.name},",
            f"{unit.viewer.name} invites you to sign in to Open Latch at {organisation}, as {row.role}. There you see "
            "and look after the shared accounts that you have to do with.",
            f"The link works once, until {until:%-d %B %Y, %H:%M}. If you did not expect this, leave it alone.",
        ),
        f"{unit.service.address}{PAGE}#{token}",
        "Choose a password and sign in",
    )
    notices.write(unit, row.address, letter)


def _found(unit: Unit, ident: UUID) -> tuple[Invitation, Person]:
    unit.sight.require_administrator()
    row = unit.db.get(Invitation, ident, with_for_update=True)
    if row is None:
        raise NotFound("There is no such invitation; it may have been accepted.")
    return row, unit.db.get_one(Person, row.person_id)


def send_again(unit: Unit, ident: UUID) -> schemas.InvitationOf:
    """Send an invitation again; the earlier link stops working."""
    row, person = _found(unit, ident)
    unit.require_proof("Inviting somebody to sign in")
    _send(unit, row, person)
    unit.record(
        "invitation.sent",
        "person",
        person.id,
        person.name,
        role=cast("schemas.RoleName", row.role),
        runs_out_at=row.runs_out_at,
    )
    return _shown(row, person)


def withdraw(unit: Unit, ident: UUID) -> None:
    """Withdraw an invitation; its link stops working."""
    row, person = _found(unit, ident)
    unit.db.delete(row)
    unit.record("invitation.withdrawn", "person", person.id, person.name)


def _of_token(service: Service, token: str, origin: str) -> Invitation:
    guess = try_limits.count_guess(service, "invitation", origin)
    with transaction(service.engine, None) as db:
        row = db.scalars(select(Invitation).where(Invitation.token_hash == _digest(token))).first()
    if row is None or row.runs_out_at <= service.clock():
        raise NotFound("This link opens nothing.", "It may have been used or have run out; ask to be invited again.")
    try_limits.forgive(service, guess)
    return row


def read(service: Service, token: str, origin: str) -> schemas.InvitationToYou:
    """What an invitation is for, before somebody accepts it."""
    row = _of_token(service, token, origin)
    with service.unit(Viewer.itself(row.organisation_id)) as unit:
        organisation = unit.db.get_one(Organisation, row.organisation_id).name
        person = unit.db.get_one(Person, row.person_id).name
    return schemas.InvitationToYou(
        organisation=organisation,
        name=person,
        address=row.address,
        role=cast("schemas.RoleName", row.role),
        sent_by=row.sent_by_name,
        runs_out_at=row.runs_out_at,
    )


def accept(service: Service, token: str, password: str, origin: str) -> Viewer:
    """Accept an invitation by its link, with a password; returns who can be signed in now."""
    found = _of_token(service, token, origin)
    with service.unit(Viewer.itself(found.organisation_id)) as unit:
        locks.access(unit)
        row = unit.db.get(Invitation, found.id, with_for_update=True)
        if row is None or row.token_hash != found.token_hash:
            raise NotFound("This link was used already.", "Sign in, or ask to be invited again.")
        person = unit.db.get_one(Person, row.person_id)
        role = Role(row.role)
        authentication.make_sign_in(unit.db, row.organisation_id, person.id, row.address, password, role)
        unit.db.delete(row)
        unit.db.flush()
        sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id)).one()
        sign_in.password_set_at = unit.now
        if person.address == row.address and person.address_confirmed_at is None:
            person.address_confirmed_at = unit.now
        unit.record("invitation.accepted", "person", person.id, person.name, role=role)
        sentence = f"{person.name} accepted the invitation and signs in as {role} now."
        notices.tell_and_write(unit, notices.administrators(unit) - {person.id}, "sign_in", sentence, "/sign-ins")
        return Viewer(
            row.organisation_id,
            person.name,
            person.id,
            sign_in.id,
            administrator=role is Role.ADMINISTRATOR,
            auditor=role is Role.AUDITOR,
        )
