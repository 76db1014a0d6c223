"""Recovery codes: ten, each of which replaces the second factor once."""

from __future__ import annotations

import hashlib
import secrets
from datetime import datetime

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session as Db

from openlatch.errors import Conflict, NotAllowed
from openlatch.service.unit import Unit
from openlatch.store.tables import RecoveryCode, SignIn

COUNT = 10
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"


def _digest(row: SignIn, code: str) -> bytes:
    plain = code.replace("-", "").replace(" ", "").lower()
    return hashlib.sha256(f"{row.id} {plain}".encode()).digest()


def make(unit: Unit) -> list[str]:
    """Ten fresh codes, shown only now; earlier ones stop working. Conflict without a second factor."""
    row = unit.db.get(SignIn, unit.viewer.sign_in, with_for_update=True) if unit.viewer.sign_in else None
    if row is None:
        raise NotAllowed("Only somebody who signs in has recovery codes.")
    unit.require_proof("Making recovery codes")
    if not row.has_factor:
        raise Conflict("There is no second factor that codes could stand in for.", "Set one up first.")
    unit.db.execute(delete(RecoveryCode).where(RecoveryCode.sign_in_id == row.id))
    # About 50 bits each.
    codes = ["-".join("".join(secrets.choice(_LETTERS) for _ in range(5)) for _ in range(2)) for _ in range(COUNT)]
    unit.db.add_all(
        RecoveryCode(organisation_id=row.organisation_id, sign_in_id=row.id, code_hash=_digest(row, code))
        for code in codes
    )
    unit.record("factor.codes_made", "person", row.person_id, unit.viewer.name)
    return codes


def left(unit: Unit) -> int:
    """How many codes are unused."""
    mine = select(func.count(RecoveryCode.id)).where(
        RecoveryCode.sign_in_id == unit.viewer.sign_in, RecoveryCode.used_at.is_(None)
    )
    return unit.db.scalar(mine) or 0


def take(db: Db, row: SignIn, code: str, now: datetime) -> bool:
    """Use up a code; returns whether it was an unused one."""
    held = db.scalars(
        select(RecoveryCode)
        .where(
            RecoveryCode.sign_in_id == row.id,
            RecoveryCode.code_hash == _digest(row, code),
            RecoveryCode.used_at.is_(None),
        )
        .with_for_update()
    ).first()
    if held is None:
        return False
    held.used_at = now
    return True
