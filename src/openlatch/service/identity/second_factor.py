"""The second factor: one-time codes by RFC 6238 (TOTP), each accepted once."""

from __future__ import annotations

from datetime import datetime

import pyotp
from cryptography.fernet import Fernet

from openlatch.errors import BadInput, Conflict, NotAllowed
from openlatch.service.unit import Unit
from openlatch.store.tables import Person, SignIn

ISSUER = "Open Latch"
STEP_SECONDS = 30


def take(cipher: Fernet, row: SignIn, code: str, now: datetime) -> bool:
    """Use up a code; returns whether it is right now (or one step to either side) and unused."""
    if row.factor_secret is None:
        return False
    totp = pyotp.TOTP(cipher.decrypt(row.factor_secret).decode())
    present = int(now.timestamp()) // STEP_SECONDS
    for step in (present - 1, present, present + 1):
        fits = pyotp.utils.strings_equal(code.replace(" ", ""), totp.at(step * STEP_SECONDS))
        if fits and (row.factor_step is None or step > row.factor_step):
            row.factor_step = step
            return True
    return False


def _own(unit: Unit) -> SignIn:
    row = unit.db.get(SignIn, unit.viewer.sign_in, with_for_update=True) if unit.viewer.sign_in else None
    if row is None:
        raise NotAllowed("Only somebody who signs in has a second factor.")
    return row


def begin(unit: Unit) -> dict[str, str]:
    """A fresh secret for an app that shows codes; it takes effect once a code from it is given."""
    row = _own(unit)
    unit.require_proof("Setting up a second factor")
    if row.factor_since is not None:
        raise Conflict("A second factor is set up already.", "Remove it first.")
    secret = pyotp.random_base32()
    row.factor_secret = unit.service.cipher.encrypt(secret.encode())
    return {"secret": secret, "address": pyotp.TOTP(secret).provisioning_uri(name=row.address, issuer_name=ISSUER)}


def confirm(unit: Unit, code: str) -> None:
    """Give the first code, to show that the app has the secret."""
    row = _own(unit)
    if row.factor_since is not None:
        raise Conflict("A second factor is set up already.", "There is nothing to confirm.")
    if not take(unit.service.cipher, row, code, unit.now):
        raise BadInput("The code does not fit.", "Give the one that the app shows now.", {"code": "does not fit"})
    row.factor_since = unit.now
    unit.db.get_one(Person, row.person_id).second_factor = True
    unit.wake("evaluate")
    unit.record("factor.set_up", "person", row.person_id, unit.viewer.name)


def remove(unit: Unit) -> None:
    """Remove the second factor."""
    row = _own(unit)
    unit.require_proof("Removing the second factor")
    row.factor_secret, row.factor_since, row.factor_step = None, None, None
    unit.db.get_one(Person, row.person_id).second_factor = row.has_passkey
    # A latch may require one: evaluate its flags.
    unit.wake("evaluate")
    unit.record("factor.removed", "person", row.person_id, unit.viewer.name)
