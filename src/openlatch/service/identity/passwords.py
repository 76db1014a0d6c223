"""Changing passwords, and replacing forgotten ones.

Asking for a link is answered alike whether the address is known or not; the worker does the rest. A link works once,
for an hour; the second factor is still required.
"""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from sqlalchemy import delete, select

from openlatch.core.identity import passwords as core
from openlatch.core.vocabulary import Standing
from openlatch.errors import NotAllowed, NotFound
from openlatch.service.identity import authentication, sign_ins, try_limits
from openlatch.service.identity.try_limits import Source
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import Organisation, PasswordReset, Person, SignIn

RUNS_OUT = timedelta(hours=1)
PAGE = "/new-password"
# Links sent to one address within an hour, whoever asks for them.
MOST_LINKS = 4


def _digest(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def ask_for_link(service: Service, address: str, origin: str) -> None:
    """Request a link for an address. The answer is the same whether anybody signs in with it or not."""
    counted = try_limits.count(service, [Source(f"forgotten from {origin}", 20)])
    if counted.wait:
        raise authentication.too_many(counted.wait)
    service.wake("send_password_links", {"address": address.strip().lower()[:320]}, None)


def send_links(service: Service, address: str) -> int:
    """Write the links for an address, one for each organisation at which somebody signs in with it. Called by the
    worker.
    """
    with transaction(service.engine, None) as db:
        known = db.execute(select(SignIn.id, SignIn.organisation_id).where(SignIn.address == address)).all()
    sent = 0
    for ident, organisation in known:
        with service.unit(Viewer.itself(organisation)) as unit:
            sent += _send(unit, unit.db.get_one(SignIn, ident))
    return sent


def _send(unit: Unit, row: SignIn) -> bool:
    person = unit.db.get_one(Person, row.person_id)
    if person.standing == Standing.LEFT or row.suspended_at is not None:
        return False
    recent = select(PasswordReset.id).where(PasswordReset.sign_in_id == row.id, PasswordReset.runs_out_at > unit.now)
    if len(unit.db.scalars(recent).all()) >= MOST_LINKS:
        return False
    token = secrets.token_urlsafe(32)
    unit.db.add(
        PasswordReset(
            organisation_id=row.organisation_id,
            sign_in_id=row.id,
            token_hash=_digest(token),
            runs_out_at=unit.now + RUNS_OUT,
        )
    )
    organisation = unit.db.get_one(Organisation, row.organisation_id).name
    letter = notices.Letter(
        f"A new password for Open Latch at {organisation}",
        (
            f"Hello {person.name},",
            "Somebody, perhaps you, asked for a new password. The link works once, for an hour. If it was not you, "
            "leave it alone: nothing has changed.",
        ),
        f"{unit.service.address}{PAGE}#{token}",
        "Choose a new password",
    )
    notices.write(unit, row.address, letter)
    unit.record("password.link_sent", "sign_in", row.id, person.name)
    return True


def set_by_link(service: Service, token: str, password: str, origin: str) -> str:
    """Replace a forgotten password; returns the address to sign in with. Every session and token ends."""
    guess = try_limits.count_guess(service, "new password", origin)
    with transaction(service.engine, None) as db:
        found = db.scalars(select(PasswordReset).where(PasswordReset.token_hash == _digest(token))).first()
    if found is None or found.runs_out_at <= service.clock():
        raise NotFound("This link opens nothing.", "It may have been used or have run out; ask for a new one.")
    try_limits.forgive(service, guess)
    with service.unit(Viewer.itself(found.organisation_id)) as unit:
        row = unit.db.get_one(SignIn, found.sign_in_id, with_for_update=True)
        if unit.db.get(PasswordReset, found.id, with_for_update=True) is None:
            raise NotFound("This link was used already.", "Ask for a new one.")
        person = unit.db.get_one(Person, row.person_id)
        if person.standing == Standing.LEFT or row.suspended_at is not None:
            raise NotAllowed("This sign-in is closed.", "Ask an administrator of your organisation.")
        _set(unit, row, person, password)
        sign_ins.close_all(unit, row)
        unit.record("password.reset", "sign_in", row.id, person.name, origin=origin)
        _tell(unit, row, person, f"Your password was replaced by a link that was mailed to you, from {origin}.")
        return row.address


def change(unit: Unit, password: str, origin: str) -> None:
    """Change the password, after a fresh proof. Every other session ends; tokens stay valid."""
    row = unit.db.get(SignIn, unit.viewer.sign_in, with_for_update=True) if unit.viewer.sign_in else None
    if row is None or unit.viewer.credential is None:
        raise NotAllowed("Only somebody who signs in has a password.")
    unit.require_proof("Changing the password")
    person = unit.db.get_one(Person, row.person_id)
    _set(unit, row, person, password)
    sign_ins.end_other_sessions(unit, row)
    unit.record("password.changed", "sign_in", row.id, person.name)
    _tell(unit, row, person, f"Your password was changed, from {origin}. Your other sessions have ended.")


def _set(unit: Unit, row: SignIn, person: Person, password: str) -> None:
    organisation = unit.db.get_one(Organisation, row.organisation_id).name
    core.refuse_weak(password, (person.name, organisation, row.address))
    row.password_hash, row.password_set_at = authentication.hashed(password), unit.now
    unit.db.execute(delete(PasswordReset).where(PasswordReset.sign_in_id == row.id))


def _tell(unit: Unit, row: SignIn, person: Person, sentence: str) -> None:
    notices.tell(unit, [person.id], "sign_in", sentence, "/me")
    letter = notices.Letter(
        "Your password was changed",
        (f"Hello {person.name},", sentence, "If this was not you, tell an administrator of your organisation at once."),
    )
    notices.write(unit, row.address, letter)
