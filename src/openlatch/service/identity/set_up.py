"""The first set-up, by a code that the start prints, on a service without an organisation."""

from __future__ import annotations

import hashlib
import re
import secrets
import unicodedata

from sqlalchemy import delete, select, text
from sqlalchemy.orm import Session as Db

from openlatch.core.files.records import BadField
from openlatch.core.files.records import address as read_address
from openlatch.core.register import UTC_ZONE
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.identity import authentication, try_limits
from openlatch.service.unit import Service, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import Organisation, SetUpCode, SignIn

_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
_ALONE = text("select pg_advisory_xact_lock(hashtext('openlatch set up'))")


def is_needed(service: Service) -> bool:
    """Whether there is no organisation yet."""
    with transaction(service.engine, None) as db:
        return _is_empty(db)


def _is_empty(db: Db) -> bool:
    return db.scalar(select(Organisation.id).limit(1)) is None


def _digest(code: str) -> bytes:
    return hashlib.sha256(re.sub(r"[\s-]", "", code).lower().encode()).digest()


def make_code(service: Service) -> str | None:
    """A fresh set-up code, replacing earlier ones; None when the service is set up already."""
    with transaction(service.engine, None) as db:
        db.execute(_ALONE)
        if not _is_empty(db):
            return None
        # About 60 bits, and tries are counted.
        code = "-".join("".join(secrets.choice(_LETTERS) for _ in range(4)) for _ in range(3))
        db.execute(delete(SetUpCode))
        db.add(SetUpCode(code_hash=_digest(code)))
        return code


def set_up(
    service: Service, code: str, organisation: str, time_zone: str, name: str, address: str, password: str, origin: str
) -> Viewer:
    """Make the first organisation with its administrator; returns who can be signed in now.

    NotFound for a wrong code, Conflict when there is an organisation already, BadInput naming the field at fault.
    """
    guess = try_limits.count_guess(service, "set-up", origin)
    with transaction(service.engine, None) as db:
        if not _is_empty(db):
            raise Conflict("Open Latch is set up already.", "Sign in, or ask an administrator to invite you.")
        if db.get(SetUpCode, _digest(code)) is None:
            raise NotFound("That is not the code.", "The start of the service printed it; a restart prints a new one.")
    try_limits.forgive(service, guess)
    if not organisation.strip() or not name.strip():
        field = "organisation" if not organisation.strip() else "name"
        raise BadInput("The organisation and you need a name.", "Give both.", {field: "is missing"})
    try:
        mail = read_address(address, UTC_ZONE)
    except BadField as fault:
        raise BadInput(f"The address {fault}.", "Write it as ada@example.org.", {"address": str(fault)}) from None
    slug = short_name(organisation)
    with transaction(service.engine, None) as alone:
        # Of two at the same time, the second finds an organisation.
        alone.execute(_ALONE)
        if not _is_empty(alone):
            raise Conflict("Open Latch is set up already.", "Sign in, or ask an administrator to invite you.")
        made = authentication.make_organisation(
            service, organisation.strip(), slug, time_zone, name.strip(), mail, password
        )
        alone.execute(delete(SetUpCode))
    with transaction(service.engine, made.organisation) as db:
        row = db.scalars(select(SignIn)).one()
        return Viewer(
            made.organisation, name.strip(), row.person_id, row.id, administrator=True, proved_at=service.clock()
        )


def short_name(organisation: str) -> str:
    """The short name of an organisation: its letters and digits, with hyphens between its words."""
    plain = unicodedata.normalize("NFKD", organisation).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:40].strip("-") or "organisation"
