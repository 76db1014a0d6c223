"""Passkeys (W3C Web Authentication): asked for, registered, and checked.

A ceremony begins with a challenge. What has to be known when the browser answers is sealed and travels with it, and
counts once. A passkey that has verified its owner stands for the password and its code together; one that was only
touched stands for the code.
"""

from __future__ import annotations

import binascii
import json
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import ip_address
from typing import TYPE_CHECKING, Protocol
from urllib.parse import urlsplit
from uuid import UUID

from cryptography.fernet import InvalidToken
from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.checks import require_name
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, NotSignedIn
from openlatch.json_values import JsonObject
from openlatch.service.identity import used_tokens
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import Passkey, Person, SignIn

# The library is imported where it is used: it takes a fifth of a second, and most starts have no need of it.
if TYPE_CHECKING:
    from webauthn.helpers.structs import PublicKeyCredentialDescriptor

NAME = "Open Latch"
# How long, in seconds, an answer is taken after it was asked for.
SECONDS = 300
MOST = 20
_AGAIN = "Try again, or sign in another way."


class Purpose(StrEnum):
    """What a ceremony is for. An answer to one is not taken for another."""

    REGISTER = "register"
    SIGN_IN = "sign_in"
    FACTOR = "factor"
    PROOF = "proof"


class Answer(Protocol):
    """A browser's answer, with the sealed state of its ceremony."""

    state: str
    credential: JsonObject


@dataclass(frozen=True, slots=True)
class Party:
    """For whom passkeys are: the domain that they are bound to, and the origin that pages have."""

    domain: str
    origin: str


def party(service: Service) -> Party:
    """Conflict at an address without a name. On this machine alone passkeys are those of ``localhost``."""
    parts = urlsplit(service.address)
    host = parts.hostname or ""
    try:
        if not ip_address(host).is_loopback:
            raise Conflict(
                f"Passkeys need a host name, and the service is at {host}.",
                "Reach it by a name, and set public_address to that.",
            )
        host = "localhost"
    except ValueError:
        # A name, as it should be.
        pass
    port = f":{parts.port}" if parts.port else ""
    return Party(host, f"{parts.scheme}://{host}{port}")


def _seal(service: Service, purpose: Purpose, challenge: bytes, sign_in: UUID | None) -> str:
    kept = {"purpose": purpose, "challenge": challenge.hex(), "sign_in": str(sign_in or "")}
    return service.cipher.encrypt(json.dumps(kept).encode()).decode()


def _opened(service: Service, state: str, purpose: Purpose, sign_in: UUID | None) -> bytes:
    """The challenge of a ceremony of this purpose, for this sign-in."""
    try:
        kept = json.loads(service.cipher.decrypt(state.encode(), ttl=SECONDS))
    except (InvalidToken, UnicodeError):
        raise NotSignedIn("This was asked for too long ago, or somewhere else.", _AGAIN) from None
    if (kept.get("purpose"), kept.get("sign_in")) != (purpose, str(sign_in or "")):
        raise NotSignedIn("This answer is to another question.", _AGAIN)
    return bytes.fromhex(kept["challenge"])


def _described(rows: Sequence[Passkey]) -> list[PublicKeyCredentialDescriptor]:
    from webauthn.helpers.structs import AuthenticatorTransport, PublicKeyCredentialDescriptor

    known = {one.value for one in AuthenticatorTransport}
    return [
        PublicKeyCredentialDescriptor(
            id=row.credential_id, transports=[AuthenticatorTransport(t) for t in row.transports.split() if t in known]
        )
        for row in rows
    ]


def ask(service: Service, purpose: Purpose, sign_in: UUID | None, rows: Sequence[Passkey] = ()) -> schemas.Ceremony:
    """Ask a browser for a passkey: any that it has for us, or one of ``rows``."""
    import webauthn
    from webauthn.helpers.structs import UserVerificationRequirement as Verification

    options = webauthn.generate_authentication_options(
        rp_id=party(service).domain,
        allow_credentials=_described(rows),
        timeout=SECONDS * 1000,
        user_verification=Verification.PREFERRED if purpose is Purpose.FACTOR else Verification.REQUIRED,
    )
    state = _seal(service, purpose, options.challenge, sign_in)
    return schemas.Ceremony(options=json.loads(webauthn.options_to_json(options)), state=state)


def ask_for(service: Service, organisation: UUID, sign_in: UUID, purpose: Purpose) -> schemas.Ceremony | None:
    """Ask for a passkey of one sign-in; None when it has none, or the service's address allows none."""
    with transaction(service.engine, organisation) as db:
        rows = db.scalars(select(Passkey).where(Passkey.sign_in_id == sign_in).order_by(Passkey.id)).all()
    try:
        return ask(service, purpose, sign_in, rows) if rows else None
    except Conflict:
        return None


def check(service: Service, answer: Answer, purpose: Purpose, sign_in: UUID | None = None) -> Passkey:
    """The passkey that has answered; it belongs to ``sign_in`` where that is known already.

    NotSignedIn for one that is unknown or somebody else's, for a signature that does not fit, for a copy, for an
    answer that was used before, and for one without verification where that is needed.
    """
    from webauthn import verify_authentication_response
    from webauthn.helpers.exceptions import WebAuthnException

    challenge = _opened(service, answer.state, purpose, sign_in)
    found = _found(service, answer)
    if found is None or (sign_in is not None and found.sign_in_id != sign_in):
        raise NotSignedIn("This passkey is not known here.", "Use another one, or sign in another way.")
    with transaction(service.engine, found.organisation_id) as db:
        # Locked: of two answers with the same count one is a copy's.
        row = db.get(Passkey, found.id, with_for_update=True)
        if row is None:
            raise NotSignedIn("This passkey was removed.", "Use another one, or sign in another way.")
        used_tokens.use_once(db, row.organisation_id, service.clock(), f"passkey {challenge.hex()}")
        try:
            _refuse_other_owner(answer, row)
            verified = verify_authentication_response(
                credential=answer.credential,
                expected_challenge=challenge,
                expected_rp_id=party(service).domain,
                expected_origin=party(service).origin,
                credential_public_key=row.public_key,
                # A count that does not grow is looked at below.
                credential_current_sign_count=0,
                require_user_verification=purpose is not Purpose.FACTOR,
            )
        except (WebAuthnException, ValueError, TypeError, RecursionError) as error:
            raise NotSignedIn(f"The passkey's answer does not fit: {error}.", _AGAIN) from error
        is_copy = 0 < verified.new_sign_count <= row.sign_count or (row.sign_count and not verified.new_sign_count)
        if not is_copy:
            row.sign_count, row.is_backed_up = verified.new_sign_count, verified.credential_backed_up
            row.last_used_at = service.clock()
    if is_copy:
        _tell_of_copy(service, found)
        raise NotSignedIn(
            "This passkey may have been copied: it counts fewer uses than were seen.", "Sign in another way."
        )
    return found


def _found(service: Service, answer: Answer) -> Passkey | None:
    from webauthn import base64url_to_bytes

    try:
        ident = base64url_to_bytes(str(answer.credential.get("id", "")))
    except (ValueError, binascii.Error):
        return None
    # Whose it is, is not known before.
    with transaction(service.engine, None) as db:
        return db.scalars(select(Passkey).where(Passkey.credential_id == ident)).one_or_none()


def _refuse_other_owner(answer: Answer, row: Passkey) -> None:
    from webauthn import base64url_to_bytes

    response = answer.credential.get("response")
    handle = response.get("userHandle") if isinstance(response, dict) else None
    if handle and base64url_to_bytes(str(handle)) != row.sign_in_id.bytes:
        raise ValueError("it was made for somebody else")


def _tell_of_copy(service: Service, row: Passkey) -> None:
    with service.unit(Viewer.itself(row.organisation_id)) as unit:
        person = unit.db.get_one(Person, unit.db.get_one(SignIn, row.sign_in_id).person_id)
        sentence = f"Your passkey {row.name} was refused: it may have been copied. Remove it, and add a new one."
        notices.tell_and_write(unit, [person.id], "sign_in_tried", sentence, "/me")
        unit.record("passkey.refused", "sign_in", row.sign_in_id, person.name, passkey=row.name)


def _own(unit: Unit) -> SignIn:
    row = unit.db.get(SignIn, unit.viewer.sign_in, with_for_update=True) if unit.viewer.sign_in else None
    if row is None:
        raise NotAllowed("Only somebody who signs in has passkeys.")
    return row


def rows(unit: Unit) -> list[schemas.PasskeyOf]:
    """One's own passkeys, the newest first."""
    mine = select(Passkey).where(Passkey.sign_in_id == unit.viewer.sign_in).order_by(Passkey.id.desc())
    return [_shown(row) for row in unit.db.scalars(mine)]


def _shown(row: Passkey) -> schemas.PasskeyOf:
    return schemas.PasskeyOf(
        id=row.id,
        name=row.name,
        made_at=row.created_at,
        last_used_at=row.last_used_at,
        is_backed_up=row.is_backed_up,
    )


def begin(unit: Unit) -> schemas.Ceremony:
    """Begin to register a passkey. It counts once the browser has answered with one."""
    import webauthn
    from webauthn.helpers.structs import AuthenticatorSelectionCriteria, ResidentKeyRequirement

    row = _own(unit)
    unit.require_proof("Adding a passkey")
    there = unit.db.scalars(select(Passkey).where(Passkey.sign_in_id == row.id)).all()
    if len(there) >= MOST:
        raise Conflict(f"You have {MOST} passkeys already.", "Remove one that you do not use.")
    options = webauthn.generate_registration_options(
        rp_id=party(unit.service).domain,
        rp_name=NAME,
        user_id=row.id.bytes,
        user_name=row.address,
        user_display_name=unit.viewer.name,
        timeout=SECONDS * 1000,
        authenticator_selection=AuthenticatorSelectionCriteria(resident_key=ResidentKeyRequirement.PREFERRED),
        exclude_credentials=_described(there),
    )
    state = _seal(unit.service, Purpose.REGISTER, options.challenge, row.id)
    return schemas.Ceremony(options=json.loads(webauthn.options_to_json(options)), state=state)


def add(unit: Unit, name: str, answer: Answer) -> schemas.PasskeyOf:
    """Keep the passkey that the browser has made. From then on a password alone is not enough."""
    from webauthn import verify_registration_response
    from webauthn.helpers.exceptions import WebAuthnException

    row = _own(unit)
    unit.require_proof("Adding a passkey")
    named = require_name(name, "The passkey has no name.", "Give one that tells it from others.")
    try:
        challenge = _opened(unit.service, answer.state, Purpose.REGISTER, row.id)
        used_tokens.use_once(unit.db, row.organisation_id, unit.now, f"passkey {challenge.hex()}")
    except NotSignedIn as error:
        # Whoever adds one is signed in.
        raise BadInput(error.detail, "Begin again to add it.") from None
    try:
        made = verify_registration_response(
            credential=answer.credential,
            expected_challenge=challenge,
            expected_rp_id=party(unit.service).domain,
            expected_origin=party(unit.service).origin,
        )
    except (WebAuthnException, ValueError, TypeError, RecursionError) as error:
        raise BadInput(f"The passkey could not be added: {error}.", "Try again, or use another one.") from error
    with transaction(unit.service.engine, None) as db:
        taken = db.scalar(select(Passkey.id).where(Passkey.credential_id == made.credential_id))
    if taken is not None:
        raise Conflict("This passkey is registered already.", "Use it, or add another one.")
    found = Passkey(
        organisation_id=row.organisation_id,
        sign_in_id=row.id,
        name=named,
        credential_id=made.credential_id,
        public_key=made.credential_public_key,
        sign_count=made.sign_count,
        transports=_transports(answer),
        is_backed_up=made.credential_backed_up,
    )
    unit.db.add(found)
    unit.db.flush()
    unit.db.get_one(Person, row.person_id).second_factor = True
    unit.wake("evaluate")
    unit.record("passkey.added", "sign_in", row.id, unit.viewer.name, passkey=named)
    sentence = f"The passkey {named} was added to your sign-in. If that was not you, tell an administrator."
    notices.tell_and_write(unit, [row.person_id], "sign_in", sentence, "/me")
    return _shown(found)


def _transports(answer: Answer) -> str:
    response = answer.credential.get("response")
    told = response.get("transports") if isinstance(response, dict) else None
    return " ".join(str(one)[:20] for one in told[:8]) if isinstance(told, list) else ""


def _mine(unit: Unit, ident: UUID) -> tuple[SignIn, Passkey]:
    owner, row = _own(unit), unit.db.get(Passkey, ident, with_for_update=True)
    if row is None or row.sign_in_id != owner.id:
        raise NotFound("You have no such passkey.")
    return owner, row


def rename(unit: Unit, ident: UUID, name: str) -> schemas.PasskeyOf:
    """Give one of one's passkeys another name."""
    owner, row = _mine(unit, ident)
    row.name = require_name(name, "The passkey has no name.", "Give one that tells it from others.")
    unit.record("passkey.renamed", "sign_in", owner.id, unit.viewer.name, passkey=row.name)
    return _shown(row)


def remove(unit: Unit, ident: UUID) -> None:
    """Remove one of one's passkeys. Without any, and without codes, the password alone opens the sign-in again."""
    owner, row = _mine(unit, ident)
    unit.require_proof("Removing a passkey")
    unit.db.delete(row)
    unit.db.flush()
    others = unit.db.scalar(select(func.count(Passkey.id)).where(Passkey.sign_in_id == owner.id))
    if not others and owner.factor_since is None:
        unit.db.get_one(Person, owner.person_id).second_factor = False
        unit.wake("evaluate")
    unit.record("passkey.removed", "sign_in", owner.id, unit.viewer.name, passkey=row.name)
    sentence = f"The passkey {row.name} was removed from your sign-in. If that was not you, tell an administrator."
    notices.tell_and_write(unit, [owner.person_id], "sign_in", sentence, "/me")
