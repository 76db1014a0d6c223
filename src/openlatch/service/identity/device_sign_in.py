"""Signing a program in by a browser elsewhere: the device authorization grant (RFC 8628).

The program shows a short code; somebody who is signed in looks at what asks, and lets it in or not. Nothing is given
until the program collects it, once.
"""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from uuid import UUID

from sqlalchemy import delete, select
from sqlalchemy.orm import Session as Db

from openlatch import schemas
from openlatch.core.vocabulary import TokenScope
from openlatch.errors import NotAllowed, NotFound
from openlatch.service.identity import authentication, try_limits
from openlatch.service.identity.try_limits import Source
from openlatch.service.unit import Service, Unit
from openlatch.store.database import transaction
from openlatch.store.tables import DeviceRequest

SECONDS = 600
INTERVAL = 5
# How many may be asked for from one origin, and how many codes somebody may mistype, within a quarter of an hour.
ASKED, MISTYPED = 30, 10
# Consonants: no words, and nothing that looks like something else (RFC 8628, 6.1).
LETTERS = "BCDFGHJKLMNPQRSTVWXZ"


class State(StrEnum):
    """Where a request stands."""

    PENDING = "pending"
    ALLOWED = "allowed"
    REFUSED = "refused"


class Refused(Exception):
    """An error by RFC 8628 section 3.5, with its code."""

    def __init__(self, code: str, words: str) -> None:
        super().__init__(words)
        self.code, self.words = code, words


@dataclass(frozen=True, slots=True)
class Begun:
    """What a program is given: its own code, and the one for people."""

    device_code: str
    user_code: str


@dataclass(frozen=True, slots=True)
class Collected:
    """The token, and when it runs out."""

    token: str
    expires_at: datetime
    scope: str


def begin(service: Service, program: str, scope: str, origin: str) -> Begun:
    """Begin for a program that calls itself so. TooMany for one origin that asks too often."""
    counted = try_limits.count(service, [Source(f"device from {origin}", ASKED)])
    if counted.wait:
        raise authentication.too_many(counted.wait)
    begun = Begun(secrets.token_urlsafe(32), "".join(secrets.choice(LETTERS) for _ in range(8)))
    now = service.clock()
    with transaction(service.engine, None) as db:
        db.execute(delete(DeviceRequest).where(DeviceRequest.expires_at < now))
        db.add(
            DeviceRequest(
                device_hash=_digest(begun.device_code),
                user_code=begun.user_code,
                program=program,
                origin=origin,
                scope=scope,
                state=State.PENDING,
                expires_at=now + timedelta(seconds=SECONDS),
                seconds=INTERVAL,
            )
        )
    return Begun(begun.device_code, f"{begun.user_code[:4]}-{begun.user_code[4:]}")


def _digest(code: str) -> bytes:
    return hashlib.sha256(code.encode("utf-8", "replace")).digest()


def look(unit: Unit, written: str) -> schemas.DeviceAsked:
    """What asks under a code. NotFound for a code that nobody has now; TooMany after too many of these."""
    row = _found(unit, written)
    return schemas.DeviceAsked.model_validate(
        {"program": row.program, "origin": row.origin, "scope": row.scope, "expires_at": row.expires_at}
    )


def answer(unit: Unit, written: str, allows: bool) -> None:
    """Let a program in as the viewer, or refuse it. It is answered once."""
    if unit.viewer.sign_in is None:
        raise NotAllowed("Only somebody who signs in can let a program in.")
    if allows:
        unit.require_proof("Letting a program in")
    row = _found(unit, written)
    if allows and unit.viewer.auditor and row.scope != TokenScope.READ:
        raise NotAllowed("An auditor changes nothing.", "Have the program ask for reading alone: --read-only.")
    row.state = State.ALLOWED if allows else State.REFUSED
    row.organisation_id, row.sign_in_id = unit.viewer.organisation, unit.viewer.sign_in
    how = "allowed" if allows else "refused"
    unit.record(f"device.{how}", "token", None, row.program, origin=row.origin, scope=row.scope)


def _found(unit: Unit, written: str) -> DeviceRequest:
    code = "".join(letter for letter in written.upper() if letter.isalnum())
    counted = try_limits.count(unit.service, [Source(f"user code by {unit.viewer.sign_in}", MISTYPED)])
    if counted.wait:
        raise authentication.too_many(counted.wait)
    wanted = select(DeviceRequest).where(DeviceRequest.user_code == code, DeviceRequest.state == State.PENDING)
    row = unit.db.scalars(wanted.where(DeviceRequest.expires_at > unit.now).with_for_update()).one_or_none()
    if row is None:
        raise NotFound("Nobody has this code now.", "Compare it with the one on the screen; codes last ten minutes.")
    try_limits.forgive(unit.service, counted)
    return row


def collect(service: Service, device_code: str) -> Collected:
    """The token for a program that was let in. Refused, with its code, for any other, and the second time."""
    now, digest = service.clock(), _digest(device_code)
    with transaction(service.engine, None) as db:
        row = _asked(db, digest)
        if row is None:
            raise Refused("invalid_grant", "This code is unknown, or was used.")
        state, organisation, sign_in = row.state, row.organisation_id, row.sign_in_id
        too_soon = row.polled_at is not None and now < row.polled_at + timedelta(seconds=row.seconds)
        row.polled_at = now
        if too_soon:
            row.seconds += INTERVAL
        if row.expires_at <= now or state == State.REFUSED:
            db.delete(row)
        is_over = row.expires_at <= now
    if is_over:
        raise Refused("expired_token", "Nobody has answered in time.")
    if too_soon:
        raise Refused("slow_down", "Ask less often.")
    if state == State.REFUSED:
        raise Refused("access_denied", "It was refused.")
    if state != State.ALLOWED or organisation is None or sign_in is None:
        raise Refused("authorization_pending", "Nobody has answered yet.")
    return _made(service, digest, organisation, sign_in)


def _asked(db: Db, digest: bytes) -> DeviceRequest | None:
    return db.scalars(select(DeviceRequest).where(DeviceRequest.device_hash == digest).with_for_update()).one_or_none()


def _made(service: Service, digest: bytes, organisation: UUID, sign_in: UUID) -> Collected:
    try:
        who = authentication.viewer_at(service, organisation, sign_in)
    except NotAllowed as error:
        raise Refused("access_denied", error.detail) from None
    with service.unit(who) as unit:
        row = _asked(unit.db, digest)
        if row is None:
            raise Refused("invalid_grant", "This code was used.")
        unit.db.delete(row)
        _, token, expires_at = authentication.make_token_in(unit, row.program, row.scope, authentication.TOKEN_DAYS)
        return Collected(token, expires_at, row.scope)
