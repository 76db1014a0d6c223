"""The calls about passkeys: one's own, and those by which somebody is asked for one."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, the_service
from openlatch.errors import Conflict, NotAllowed
from openlatch.service.identity import passkeys
from openlatch.service.identity.passkeys import Purpose
from openlatch.service.unit import Unit

ONE = "/me/passkeys/<uuid:ident>"


@api.add("POST", "/sign-in/passkey", "Begin to sign in by a passkey", schemas.Ceremony, open=True)
def begin_passkey_sign_in() -> schemas.Ceremony:
    """The answer goes to POST /session. The browser offers the passkeys that it has for us."""
    return passkeys.ask(the_service(), Purpose.SIGN_IN, None)


@api.add("POST", "/me/proof/passkey", "Begin to prove by a passkey", schemas.Ceremony, secret=True, inside=True)
def begin_passkey_proof(unit: Unit) -> schemas.Ceremony:
    """The answer goes to POST /me/proof."""
    viewer = unit.viewer
    if viewer.sign_in is None:
        raise NotAllowed("Only somebody who signs in has passkeys.")
    found = passkeys.ask_for(unit.service, viewer.organisation, viewer.sign_in, Purpose.PROOF)
    if found is None:
        raise Conflict("You have no passkey.", "Give your password, or add a passkey first.")
    return found


@api.add("POST", "/me/passkeys/begin", "Begin to add a passkey", schemas.Ceremony, secret=True)
def begin_passkey(unit: Unit) -> schemas.Ceremony:
    """The answer of the browser goes to POST /me/passkeys."""
    return passkeys.begin(unit)


@api.add("POST", "/me/passkeys", "Add a passkey", schemas.PasskeyOf, body=schemas.AddPasskey, status=201)
def add_passkey(unit: Unit, body: schemas.AddPasskey) -> schemas.PasskeyOf:
    """From then on your password alone does not sign you in."""
    return passkeys.add(unit, body.name, body)


@api.add("PUT", ONE, "Give one of your passkeys another name", schemas.PasskeyOf, body=schemas.RenamePasskey)
def rename_passkey(unit: Unit, ident: UUID, body: schemas.RenamePasskey) -> schemas.PasskeyOf:
    """Only you see it."""
    return passkeys.rename(unit, ident, body.name)


@api.add("DELETE", ONE, "Remove one of your passkeys", schemas.Done)
def remove_passkey(unit: Unit, ident: UUID) -> schemas.Done:
    """Remove it from the device as well, which still offers it otherwise."""
    passkeys.remove(unit, ident)
    return schemas.Done(done=True)
