"""Moving what is older than the database keeps into the archive, and erasing there.

The owner of the database moves (``openlatch archive``), a quarter of a year after the other: the files of every
organisation are written, read back and checked, and only then the partition is dropped. The journal's have to follow
from those before and to agree with a signed tree head. That a file was written, and its digest, is an entry of the
journal itself, which later heads vouch for.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import islice, zip_longest
from pathlib import Path
from typing import NamedTuple
from uuid import UUID

import orjson
from sqlalchemy import Engine, delete, func, select, text
from structlog import get_logger

from openlatch import schemas
from openlatch.core.journal import chain, tree_heads
from openlatch.core.journal.erasure import Erased
from openlatch.core.journal.merkle_tree import Tree
from openlatch.errors import ArchiveDown, Conflict
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.journal import entries, signed_heads
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import archive, journal, migrate, partitions
from openlatch.store.archive import Earlier, Which
from openlatch.store.database import alone
from openlatch.store.partitions import Partition
from openlatch.store.tables import (
    ArchivedPart,
    ArchiveErasure,
    EvidenceBundle,
    JournalEntry,
    Round,
    TreeHead,
    Version,
    Webhook,
)

log = get_logger()
# Programs from before do not look into the archive, and would take what is in it for nothing.
_KNOWN_SINCE = "0047"
_NAMED_AT_ONCE = 400
_ERASED_AT_ONCE = 50
# A file that no part names is left of a broken attempt, unless somebody is writing it.
_LEFT_FOR = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Moved:
    """What became of a partition: its rows, and why they stay, where they do."""

    name: str
    rows: int
    why_not: tuple[str, ...] = ()


def move(service: Service, owner: Engine, before: datetime) -> Iterator[Moved]:
    """Move every partition that ends by an instant into the archive, the oldest first. As the database's owner.

    Repeating it goes on where it was broken off. A partition that can't be moved stays, and so do later ones of its
    table. ArchiveDown when the folder is not configured or can't be written.
    """
    if service.archive.folder is None:
        raise ArchiveDown(
            "Nobody has said where the archive is.", "Set archive_folder (OPENLATCH_ARCHIVE_FOLDER), for all processes."
        )
    with alone(service.engine, "moving into the archive") as only_us:
        if not only_us:
            yield Moved("the archive", 0, ("Somebody else is moving into it.",))
            return
        yield from _move_all(service, owner, before)


def _move_all(service: Service, owner: Engine, before: datetime) -> Iterator[Moved]:
    try:
        with owner.begin() as connection:
            partitions.make(connection, service.clock())
    except Conflict as why:
        yield Moved("new partitions", 0, (f"{why.detail} {why.remedy}",))
    over: dict[str, list[Partition]] = {}
    with owner.begin() as connection:
        for table in partitions.TABLES:
            over[table] = [one for one in partitions.of_table(connection, table) if one.until <= before]
    if any(over.values()):
        try:
            with owner.connect() as connection:
                migrate.need(connection, _KNOWN_SINCE)
        except Conflict as why:
            yield Moved("the archive", 0, (f"{why.detail} {why.remedy}",))
            return
    for found in over.values():
        for one in found:
            done = _move(service, owner, one)
            yield done
            if done.why_not:
                break
    _remove_leftovers(service, owner)


def _move(service: Service, owner: Engine, one: Partition) -> Moved:
    with owner.begin() as connection:
        counts = partitions.counts(connection, one)
        found = connection.execute(text("select id, name from organisations"))
        names: dict[UUID, str] = {row.id: row.name for row in found}
    why_not = []
    for organisation, rows in counts.items():
        try:
            write(service, Viewer.itself(organisation), one, rows)
        except Conflict as why:
            why_not.append(f"{names[organisation]}: {why.detail} {why.remedy}".strip())
    if not why_not:
        try:
            with owner.begin() as connection:
                partitions.drop(connection, one)
        except Conflict as why:
            why_not = [f"{why.detail} {why.remedy}"]
    return Moved(one.name, sum(counts.values()), tuple(why_not))


def write(service: Service, viewer: Viewer, one: Partition, rows: int) -> None:
    """Write the rows that an organisation has in a partition into the archive, unless they are there.

    Nothing is dropped. Conflict says why it can't be yet.
    """
    with service.unit(viewer) as unit:
        locks.archive(unit)
        there = unit.db.scalars(
            select(ArchivedPart).where(ArchivedPart.kind == one.table, ArchivedPart.until == one.until)
        ).first()
        path = service.archive.path_of(there) if there is not None else None
        last = _last_within(unit, one) if one.table == archive.JOURNAL else 0
        if last <= entries.last_archived(unit.db) if last else there is not None and there.rows == rows:
            return
        if there is not None and path is not None:
            # Something came that was late.
            unit.db.delete(there)
            unit.db.flush()
            unit.afterwards.append(path.unlink)
        part = _journal_part(unit, last, one.until) if last else _versions_part(unit, one)
        unit.db.add(part)
        unit.db.flush()
        _record(unit, part, "written")


def _record(unit: Unit, part: ArchivedPart, how: str) -> None:
    unit.record(
        f"archive.{how}",
        "archive",
        part.id,
        part.file,
        of=part.kind,
        until=part.until.isoformat(),
        rows=part.rows,
        last=part.last,
        digest=part.digest.hex(),
    )


def _new_file(unit: Unit, kind: str, until: datetime) -> tuple[str, Path]:
    folder = unit.service.archive.folder
    if folder is None:
        raise ArchiveDown("This process does not know where the archive is.", "Set archive_folder for the worker.")
    # Never a name that was used before: what is read goes on being what was begun with.
    file = f"{unit.viewer.organisation}/{kind}-until-{until:%Y-%m-%d}-{secrets.token_hex(3)}.parquet"
    return file, folder / file


# The journal.


class _Reached(NamedTuple):
    """How far a file of entries goes."""

    first: int
    position: int
    hash: str
    tree: Tree


def _last_within(unit: Unit, one: Partition) -> int:
    """The last position that an entry in a partition has."""
    within = JournalEntry.at < one.until
    if one.since is not None:
        within &= JournalEntry.at >= one.since
    return unit.db.scalar(select(func.max(JournalEntry.position)).where(within)) or 0


def _journal_part(unit: Unit, last: int, until: datetime) -> ArchivedPart:
    """A part up to an entry, from where the one before ended.

    Entries have the time at which their change began and the position at which it ended, so a few of them may be in the
    next partition already.
    """
    before = archive.parts_of(unit.db, archive.JOURNAL)
    within = JournalEntry.position.between(entries.last_archived(unit.db) + 1, last)
    first_at = unit.db.scalar(select(func.min(JournalEntry.at)).where(within))
    assert first_at is not None
    _require_told(unit, last, until)
    head = _head_over(unit, last)
    file, path = _new_file(unit, archive.JOURNAL, until)
    archive.write_entries(path, unit.viewer.organisation, journal.export(unit.db, unit.viewer.organisation, within))
    try:
        reached = _read_back(unit, path, before[-1] if before else None)
        if reached.position != last:
            raise Conflict(f"The file ends at entry {reached.position}, and should end at {last}.", "Try again.")
        _require_agreement(unit, reached, head)
    except Conflict:
        path.unlink()
        raise
    return ArchivedPart(
        organisation_id=unit.viewer.organisation,
        kind=archive.JOURNAL,
        since=first_at,
        until=until,
        rows=reached.position - reached.first + 1,
        first=reached.first,
        last=reached.position,
        last_hash=bytes.fromhex(reached.hash),
        peaks=b"".join(reached.tree.peaks),
        file=file,
        digest=archive.digest_of(path),
        written_at=unit.now,
    )


def _require_told(unit: Unit, last: int, until: datetime) -> None:
    """Conflict while somebody is yet to be told of these entries, or to sign them."""
    waiting = unit.db.scalars(
        select(Webhook.name).where(Webhook.position < last).order_by(Webhook.name).limit(1)
    ).first()
    if waiting is not None:
        raise Conflict(f"The receiver {waiting} was not told of all entries.", "Let it go on, or delete it.")
    signed = select(EvidenceBundle.round_id)
    unsigned = select(Round).where(Round.opened_at < until, Round.id.not_in(signed)).order_by(Round.opened_at)
    row = unit.db.scalars(unsigned.limit(1)).first()
    if row is not None and row.ended_at is None:
        raise Conflict(f"The review “{row.name}” has not ended.", "Close it.")
    if row is not None:
        unit.service.wake("sign_evidence", {"organisation": str(row.organisation_id), "round": str(row.id)}, None)
        raise Conflict(f"The evidence of the review “{row.name}” is being signed.", "Try again in a minute.")


def _head_over(unit: Unit, last: int) -> TreeHead:
    head = unit.db.scalars(select(TreeHead).where(TreeHead.size >= last).order_by(TreeHead.size).limit(1)).first()
    if head is None:
        raise Conflict(f"No signed tree head vouches for entry {last}.", "The worker signs one within the hour.")
    return head


def _read_back(unit: Unit, path: Path, before: ArchivedPart | None) -> _Reached:
    """Read a file of entries. Conflict names the first that does not follow from the one before."""
    position, previous, tree = 0, chain.START, Tree()
    if before is not None:
        assert before.last is not None
        assert before.last_hash is not None
        assert before.peaks is not None
        position, previous = before.last, before.last_hash.hex()
        tree = Tree(before.last, signed_heads.split(before.peaks))
    first = position + 1
    for entry in archive.entries_in(path, unit.viewer.organisation):
        for fault in chain.faults_of(entry, position, previous):
            raise Conflict(f"Entry {fault.position}: {fault.what}.", "Run openlatch doctor.")
        position, previous = int(entry["position"]), str(entry["hash"])
        tree.append(bytes.fromhex(previous))
    return _Reached(first, position, previous, tree)


def _require_agreement(unit: Unit, reached: _Reached, row: TreeHead) -> None:
    """Conflict unless the entries up to the end of a file, and on to a head, are those that it vouches for."""
    head, tree = tree_heads.parse(row.head), Tree(reached.tree.size, reached.tree.peaks)
    further = select(JournalEntry.hash).where(JournalEntry.position > tree.size, JournalEntry.position <= head.size)
    for one in unit.db.scalars(further.order_by(JournalEntry.position).execution_options(yield_per=5_000)):
        tree.append(one)
    if not head.is_signed or (tree.size, tree.root) != (head.size, head.root):
        raise Conflict(f"The signed tree head of {head.at} vouches for other entries.", "Run openlatch doctor.")


# Earlier versions.


def _versions_part(unit: Unit, one: Partition) -> ArchivedPart:
    within = Version.until < one.until
    if one.since is not None:
        within &= Version.until >= one.since
    since = unit.db.scalar(select(func.min(Version.until)).where(within))
    assert since is not None

    def rows() -> Iterator[Earlier]:
        wanted = select(Version.id, Version.since, Version.until, Version.gone, Version.row, Version.kind).where(within)
        ordered = wanted.order_by(Version.kind, Version.id, Version.since, Version.until)
        return (Earlier(*row) for row in unit.db.execute(ordered.execution_options(yield_per=5_000)))

    file, path = _new_file(unit, archive.VERSIONS, one.until)
    archive.write_versions(path, unit.viewer.organisation, rows())
    count = 0
    for written, held in zip_longest(archive.versions_in(path), rows()):
        if written != held:
            path.unlink()
            raise Conflict("What was written is not what is in the database.", "Try again.")
        count += 1
    return ArchivedPart(
        organisation_id=unit.viewer.organisation,
        kind=archive.VERSIONS,
        since=since,
        until=one.until,
        rows=count,
        file=file,
        digest=archive.digest_of(path),
        written_at=unit.now,
    )


def _remove_leftovers(service: Service, owner: Engine) -> None:
    folder = service.archive.folder
    assert folder is not None
    with owner.begin() as connection:
        named = set(connection.scalars(text("select file from archived_parts")))
    # By the clock of the machine, as the files' times are.
    old = time.time() - _LEFT_FOR.total_seconds()
    for path in folder.glob("*/*"):
        is_ours = path.suffix in {".parquet", ".unfinished"}
        if is_ours and str(path.relative_to(folder)) not in named and path.stat().st_mtime < old:
            path.unlink()


# What is there.

_TOLD = ("kind", "since", "until", "rows", "first", "last", "file", "written_at")


def listed(unit: Unit) -> schemas.ArchivedParts:
    """The parts of the archive, by kind and time, each with whether its file is there as it was written."""
    unit.sight.require_administrator()
    found = [part for kind in (archive.JOURNAL, archive.VERSIONS) for part in archive.parts_of(unit.db, kind)]
    return schemas.ArchivedParts(parts=[_listed(unit, part) for part in found])


def _listed(unit: Unit, part: ArchivedPart) -> schemas.ArchivedPart:
    try:
        unit.service.archive.path_of(part)
        fault = ""
    except ArchiveDown as error:
        fault = error.detail
    told = {name: getattr(part, name) for name in _TOLD}
    return schemas.ArchivedPart.model_validate({**told, "digest": part.digest.hex(), "fault": fault})


def listed_entries(unit: Unit, query: schemas.ListArchived) -> schemas.ArchivedEntries:
    """Entries of the archive in order, after a position, optionally about one thing. For administrators."""
    unit.sight.require_administrator()
    which = Which(after=query.after, subjects=frozenset({query.about}) if query.about else None)
    found = islice(entries.archived(unit.service, unit.db, which), query.limit)
    return schemas.ArchivedEntries(entries=[_listed_entry(entry) for entry in found])


def _listed_entry(entry: JsonObject) -> schemas.ArchivedEntry:
    subject = entry["subject"]
    told = {name: entry[name] for name in ("position", "at", "actor", "action", "facts", "hash", "previous")}
    return schemas.ArchivedEntry.model_validate(
        {
            **told,
            "subject": {name: subject[name] for name in ("kind", "id", "name")},
            "account_id": subject["account"],
        }
    )


# Erasing.


def ask_to_erase(unit: Unit, person: UUID, words: Sequence[str]) -> int:
    """Have somebody erased in the archive, too, by the worker. Returns how many files there are to look at."""
    count = unit.db.scalar(select(func.count(ArchivedPart.id))) or 0
    if count:
        sealed = unit.service.cipher.encrypt(orjson.dumps(list(words)))
        unit.db.add(
            ArchiveErasure(organisation_id=unit.viewer.organisation, person_id=person, words=sealed, asked_at=unit.now)
        )
        unit.wake("erase_in_archive")
    return count


def erase(service: Service, viewer: Viewer) -> int:
    """Write the files anew that tell of those who were erased; returns how many were.

    All at once, or nothing of it: the earlier files are removed when the new ones count.
    """
    with service.unit(viewer) as unit:
        if not unit.db.scalar(select(func.count(ArchiveErasure.id))):
            return 0
        locks.archive(unit)
        asked = unit.db.scalars(select(ArchiveErasure).order_by(ArchiveErasure.id).limit(_ERASED_AT_ONCE)).all()
        people = [Erased(row.person_id, tuple(orjson.loads(service.cipher.decrypt(row.words)))) for row in asked]
        parts = [part for kind in (archive.JOURNAL, archive.VERSIONS) for part in archive.parts_of(unit.db, kind)]
        found: dict[UUID, list[tuple[int, str]]] = {one.ident: [] for one in people}
        count = sum(_erase_in(unit, part, people, found) for part in parts)
        for one in people:
            named = found[one.ident]
            for start in range(0, len(named), _NAMED_AT_ONCE):
                some = named[start : start + _NAMED_AT_ONCE]
                unit.record(chain.ERASED, "person", one.ident, one.called, entries=some)
        unit.db.execute(delete(ArchiveErasure).where(ArchiveErasure.id.in_([row.id for row in asked])))
    return count


def _erase_in(
    unit: Unit,
    part: ArchivedPart,
    people: Sequence[Erased],
    found: dict[UUID, list[tuple[int, str]]],
) -> bool:
    path = unit.service.archive.path_of(part)
    touched = 0

    def left_of_entries() -> Iterator[JsonObject]:
        nonlocal touched
        for entry in archive.entries_in(path, part.organisation_id):
            for one in people:
                if one.is_told_in(entry):
                    touched += 1
                    entry = one.without(entry)
                    found[one.ident].append((entry["position"], entry["hash"]))
            yield entry

    def left_of_versions() -> Iterator[Earlier]:
        nonlocal touched
        for row in archive.versions_in(path):
            written = row.row
            for one in people:
                written = one.without_words(written)
            touched += written != row.row
            yield row._replace(row=written)

    file, new = _new_file(unit, part.kind, part.until)
    if part.kind == archive.JOURNAL:
        archive.write_entries(new, part.organisation_id, left_of_entries())
    else:
        archive.write_versions(new, part.organisation_id, left_of_versions())
    if not touched:
        new.unlink()
        return False
    part.file, part.digest, part.written_at = file, archive.digest_of(new), unit.now
    _record(unit, part, "rewritten")
    # Whoever is yet to read it has to ask again: it must not outlive this.
    unit.afterwards.append(path.unlink)
    return True
