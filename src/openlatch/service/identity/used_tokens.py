"""Tokens from outside that count once."""

from __future__ import annotations

import hashlib
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import delete
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session as Db

from openlatch.errors import NotSignedIn
from openlatch.store.tables import UsedToken

# Longer than any of them is taken.
KEPT = timedelta(hours=1)


def use_once(db: Db, organisation: UUID, now: datetime, named: str) -> None:
    """Note that a token was used. NotSignedIn when it was before, also by somebody at the same moment."""
    db.execute(delete(UsedToken).where(UsedToken.expires_at < now))
    values = {
        "organisation_id": organisation,
        "token_hash": hashlib.sha256(named.encode()).digest(),
        "expires_at": now + KEPT,
    }
    made = db.scalar(insert(UsedToken).values(values).on_conflict_do_nothing().returning(UsedToken.id))
    if made is None:
        raise NotSignedIn("This was used before.", "Begin again.")
