"""Limits on guessing: every try is counted before it is answered, and repeated tries wait longer and longer.

Nobody is locked out: tries are counted by source, so other people's tries do not count for yours.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from uuid import UUID

from sqlalchemy import delete, func, select, text

from openlatch.core.ids import new_id
from openlatch.errors import TooMany
from openlatch.service.unit import Service
from openlatch.store.database import transaction
from openlatch.store.tables import SignInAttempt

WINDOW = timedelta(minutes=15)
LONGEST_GAP = 60
# Wrong links that one origin may try before it has to wait.
GUESSES = 30
_ALONE = text("select pg_advisory_xact_lock(hashtextextended(:source, 0))")


@dataclass(frozen=True, slots=True)
class Source:
    """Where tries come from, or what they are aimed at, and how many within a quarter of an hour are free."""

    name: str
    free: int

    @property
    def digest(self) -> bytes:
        """What is stored of a source: mistyped addresses are not kept in clear."""
        return hashlib.sha256(self.name.encode("utf-8", "replace")).digest()


@dataclass(frozen=True, slots=True)
class Counted:
    """One try: the seconds to wait before it, or the rows by which it was counted."""

    wait: int = 0
    rows: tuple[UUID, ...] = ()
    left: int = 0
    """How many more tries need no waiting."""


def count(service: Service, sources: Sequence[Source]) -> Counted:
    """Count a try for each of these sources, unless it has to wait.

    Simultaneous tries from one source are counted one after the other. After the free ones the gap between two tries
    doubles, up to a minute.
    """
    now = service.clock()
    with transaction(service.engine, None) as db:
        for source in sorted(sources, key=lambda one: one.digest):
            db.execute(_ALONE, {"source": f"tries {source.digest.hex()}"})
        wait, left = 0.0, max(source.free for source in sources)
        for source in sources:
            tries, last = db.execute(
                select(func.count(), func.max(SignInAttempt.at)).where(
                    SignInAttempt.source == source.digest, SignInAttempt.at > now - WINDOW
                )
            ).one()
            if tries >= source.free:
                gap = min(2 ** min(tries - source.free, 10), LONGEST_GAP)
                wait = max(wait, (last + timedelta(seconds=gap) - now).total_seconds())
            left = min(left, source.free - tries - 1)
        if wait > 0:
            return Counted(wait=max(int(wait + 0.999), 1))
        rows = [SignInAttempt(id=new_id(), source=source.digest, at=now) for source in sources]
        db.add_all(rows)
        return Counted(rows=tuple(row.id for row in rows), left=left)


def forgive(service: Service, counted: Counted, *sources: Source) -> None:
    """A right answer is not a guess: forget it, and what these sources tried before."""
    with transaction(service.engine, None) as db:
        gone = SignInAttempt.id.in_(counted.rows) | SignInAttempt.source.in_([source.digest for source in sources])
        db.execute(delete(SignInAttempt).where(gone))


def count_guess(service: Service, what: str, origin: str) -> Counted:
    """Count a link opened from somewhere. TooMany when too many of them were wrong."""
    counted = count(service, [Source(f"{what} {origin}", GUESSES)])
    if counted.wait:
        raise TooMany("Too many links that open nothing.", f"Wait {counted.wait} seconds.", wait=counted.wait)
    return counted
