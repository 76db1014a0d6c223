"""The entries of a journal, wherever they are: first those in the archive, then those in the database."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from uuid import UUID

from sqlalchemy import ColumnElement, and_, func, or_, select, true
from sqlalchemy.orm import Session as Db

from openlatch.json_values import JsonObject
from openlatch.service.unit import Service
from openlatch.store import archive, journal
from openlatch.store.archive import EVERY, Which
from openlatch.store.tables import ArchivedPart, JournalEntry


def every(
    service: Service, db: Db, organisation: UUID, which: Which = EVERY, limit: int | None = None
) -> Iterator[JsonObject]:
    """All entries of an organisation in order, as sealed, or those that match. Streamed.

    With a ``limit``, at least as many as there are up to it. ArchiveDown when what is needed of the archive can't be
    read.
    """
    yield from archived(service, db, which)
    # What is in the archive may be in the database still.
    after = max(which.after, last_archived(db))
    yield from journal.export(db, organisation, and_(JournalEntry.position > after, _in_database(which)), limit)


def archived(service: Service, db: Db, which: Which = EVERY) -> Iterator[JsonObject]:
    """Those entries of the viewer's organisation that are in the archive, or those of them that match."""
    archive.hold(db, archive.JOURNAL)
    yield from service.archive.entries(archive.parts_of(db, archive.JOURNAL), which)


def require_archive(service: Service, db: Db) -> None:
    """ArchiveDown unless every file of the archive with entries of the viewer's organisation is as it was written."""
    for part in archive.parts_of(db, archive.JOURNAL):
        service.archive.path_of(part)


def last_archived(db: Db) -> int:
    """Up to which entry the journal of the viewer's organisation is in the archive; 0 when nothing is."""
    return db.scalar(select(func.max(ArchivedPart.last))) or 0


def _in_database(which: Which) -> ColumnElement[bool]:
    wanted: list[ColumnElement[bool]] = [true()]
    if which.actions is not None:
        wanted.append(JournalEntry.action.in_(which.actions))
    if which.subjects is not None:
        wanted.append(JournalEntry.subject_id.in_(which.subjects))
    if which.person is not None:
        wanted.append(or_(JournalEntry.actor_id == which.person, JournalEntry.subject_id == which.person))
    return and_(*wanted)


def hashes(service: Service, db: Db, size: int) -> Iterator[bytes]:
    """The hashes of the first ``size`` entries, in order."""
    archive.hold(db, archive.JOURNAL)
    yield from islice(service.archive.hashes(archive.parts_of(db, archive.JOURNAL)), size)
    within = (JournalEntry.position > last_archived(db)) & (JournalEntry.position <= size)
    wanted = select(JournalEntry.hash).where(within)
    yield from db.scalars(wanted.order_by(JournalEntry.position).execution_options(yield_per=5_000))


def at(service: Service, db: Db, organisation: UUID, position: int) -> JsonObject | None:
    """The entry at a position; None when there is none."""
    found = next(every(service, db, organisation, Which(after=position - 1), limit=1), None)
    return found if found is not None and found["position"] == position else None
