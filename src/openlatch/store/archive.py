"""The archive: what was in partitions of the journal and of the earlier versions, in files of Apache Parquet.

There is a file for each organisation and partition, beneath a folder of the organisation's. Which of them count is in
the database (``ArchivedPart``), with the digest of each: a file that is missing or another is an error, and never taken
for nothing. A partition is dropped only after its files are; so whoever reads both holds its table first (``hold``),
and looks into the archive before the database.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple
from uuid import UUID

import orjson
from sqlalchemy import select, text
from sqlalchemy.orm import Session as Db

from openlatch.errors import ArchiveDown
from openlatch.json_values import JsonObject
from openlatch.store.tables import ArchivedPart

# Loaded only where there is something in the archive: it is large.
if TYPE_CHECKING:
    import pyarrow
    import pyarrow.compute

JOURNAL, VERSIONS = "journal", "versions"
FORMAT, VERSION = b"openlatch-archive", b"1"
AT_ONCE = 20_000
_INSTALL = "Install it with the extra archive: pip install 'openlatch[archive]'."


class Earlier(NamedTuple):
    """An earlier version of a row, as the table has it."""

    id: UUID
    since: datetime
    until: datetime
    gone: bool
    row: JsonObject
    kind: str = ""


@dataclass(frozen=True, slots=True)
class Which:
    """Which entries of the journal: after a position, with one of some actions, about one of some subjects, by or about
    somebody. What is None is not looked at.
    """

    after: int = 0
    actions: frozenset[str] | None = None
    subjects: frozenset[UUID] | None = None
    person: UUID | None = None


EVERY = Which()


@dataclass(frozen=True)
class Archive:
    """The archive in a folder; ``folder`` is None where none is configured."""

    folder: Path | None = None

    def path_of(self, part: ArchivedPart) -> Path:
        """The file of a part, which is as it was written. ArchiveDown when it is missing or another."""
        if self.folder is None:
            raise ArchiveDown(
                f"What was until {part.until:%Y-%m-%d} is in the archive. This process does not know where that is.",
                "Set archive_folder (OPENLATCH_ARCHIVE_FOLDER) for the web process and the worker.",
            )
        path = self.folder / part.file
        try:
            found = path.stat()
            digest = _digest(path, found.st_mtime_ns, found.st_size, found.st_ino)
        except OSError as error:
            raise ArchiveDown(f"{part.file} of the archive can't be read: {error.strerror}.") from error
        if digest != part.digest:
            raise ArchiveDown(f"{part.file} of the archive is not what was written: its digest is {digest.hex()}.")
        return path

    def entries(self, parts: Iterable[ArchivedPart], which: Which = EVERY) -> Iterator[JsonObject]:
        """The entries of parts of the journal, in order, as ``store.journal.export`` has those of the database."""
        for part in parts:
            if part.last is not None and part.last > which.after:
                yield from entries_in(self.path_of(part), part.organisation_id, which)

    def hashes(self, parts: Iterable[ArchivedPart]) -> Iterator[bytes]:
        """The hashes of the entries of parts of the journal, in order."""
        for part in parts:
            yield from (row["hash"] for row in _rows(self.path_of(part), None, ["hash"]))


def hold(db: Db, kind: str) -> None:
    """Until the transaction ends, no partition of a table is dropped."""
    db.execute(text(f"lock table only {kind} in access share mode"))


def parts_of(db: Db, kind: str, since: datetime | None = None) -> Sequence[ArchivedPart]:
    """The parts of the viewer's organisation in the order of time, or those of them that end after an instant."""
    wanted = select(ArchivedPart).where(ArchivedPart.kind == kind).order_by(ArchivedPart.until)
    return db.scalars(wanted if since is None else wanted.where(ArchivedPart.until > since)).all()


@lru_cache(4096)
def _digest(path: Path, changed: int, size: int, inode: int) -> bytes:
    return digest_of(path)


def digest_of(path: Path) -> bytes:
    """SHA-256 over a file."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").digest()


# Entries of the journal.


def _of_entry(entry: JsonObject) -> JsonObject:
    actor, subject = entry["actor"], entry["subject"]
    return {
        "position": entry["position"],
        "at": datetime.fromisoformat(entry["at"]),
        "actor_id": actor["id"],
        "actor_name": actor["name"],
        "action": entry["action"],
        "subject_kind": subject["kind"],
        "subject_id": subject["id"],
        "subject_name": subject["name"],
        "account_id": subject["account"],
        "facts": orjson.dumps(entry["facts"]).decode(),
        "previous": bytes.fromhex(entry["previous"]),
        "hash": bytes.fromhex(entry["hash"]),
        "seal_key": bytes.fromhex(entry["key"]) if "key" in entry else None,
        "told": bytes.fromhex(entry["told"]) if "told" in entry else None,
    }


def _to_entry(row: JsonObject, organisation: str) -> JsonObject:
    return {
        "organisation": organisation,
        "position": row["position"],
        "at": row["at"].astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ"),
        "actor": {"id": row["actor_id"], "name": row["actor_name"]},
        "action": row["action"],
        "subject": {
            "kind": row["subject_kind"],
            "id": row["subject_id"],
            "name": row["subject_name"],
            "account": row["account_id"],
        },
        "facts": orjson.loads(row["facts"]),
        "previous": row["previous"].hex(),
        "hash": row["hash"].hex(),
        **({"key": row["seal_key"].hex()} if row["seal_key"] is not None else {}),
        **({"told": row["told"].hex()} if row["told"] is not None else {}),
    }


def _journal_schema() -> pyarrow.Schema:
    import pyarrow as pa

    words, digest = pa.dictionary(pa.int32(), pa.string()), pa.binary(32)
    return pa.schema(
        [
            pa.field("position", pa.int64(), nullable=False),
            pa.field("at", pa.timestamp("us", "UTC"), nullable=False),
            pa.field("actor_id", pa.string()),
            pa.field("actor_name", pa.string(), nullable=False),
            pa.field("action", words, nullable=False),
            pa.field("subject_kind", words, nullable=False),
            pa.field("subject_id", pa.string()),
            pa.field("subject_name", pa.string(), nullable=False),
            pa.field("account_id", pa.string()),
            pa.field("facts", pa.string(), nullable=False),
            pa.field("previous", digest, nullable=False),
            pa.field("hash", digest, nullable=False),
            pa.field("seal_key", pa.binary()),
            pa.field("told", pa.binary()),
        ]
    )


def write_entries(path: Path, organisation: UUID, entries: Iterable[JsonObject]) -> None:
    """Write a file of entries, which is there in whole or not at all. ArchiveDown when it can't be."""
    _write(path, organisation, JOURNAL, _journal_schema(), map(_of_entry, entries))


def entries_in(path: Path, organisation: UUID, which: Which = EVERY) -> Iterator[JsonObject]:
    """The entries in a file that match, in order. ArchiveDown when it can't be read."""
    import pyarrow.compute as pc

    wanted = pc.field("position") > which.after
    if which.actions is not None:
        wanted &= pc.field("action").cast("string").isin(sorted(which.actions))
    if which.subjects is not None:
        wanted &= pc.field("subject_id").isin(sorted(map(str, which.subjects)))
    if which.person is not None:
        wanted &= (pc.field("subject_id") == str(which.person)) | (pc.field("actor_id") == str(which.person))
    for row in _rows(path, wanted):
        yield _to_entry(row, str(organisation))


# Earlier versions of rows.

# What an earlier version belonged to, as columns, so that it is found without reading all.
RELATIONS = ("team_id", "member_id", "owner_id", "grant_id", "group_id", "account_id")


def _of_version(one: Earlier) -> JsonObject:
    return {
        "id": str(one.id),
        "since": one.since,
        "until": one.until,
        "gone": one.gone,
        "kind": one.kind,
        **{name: one.row.get(name) for name in RELATIONS},
        "row": orjson.dumps(one.row).decode(),
    }


def _versions_schema() -> pyarrow.Schema:
    import pyarrow as pa

    instant = pa.timestamp("us", "UTC")
    return pa.schema(
        [
            pa.field("id", pa.string(), nullable=False),
            pa.field("since", instant, nullable=False),
            pa.field("until", instant, nullable=False),
            pa.field("gone", pa.bool_(), nullable=False),
            pa.field("kind", pa.dictionary(pa.int32(), pa.string()), nullable=False),
            *(pa.field(name, pa.string()) for name in RELATIONS),
            pa.field("row", pa.string(), nullable=False),
        ]
    )


def write_versions(path: Path, organisation: UUID, versions: Iterable[Earlier]) -> None:
    """Write a file of earlier versions, which is there in whole or not at all. ArchiveDown when it can't be."""
    _write(path, organisation, VERSIONS, _versions_schema(), map(_of_version, versions))


def versions_in(path: Path) -> Iterator[Earlier]:
    """All versions in a file, in the order in which they were written."""
    return map(_to_version, _rows(path, None))


def _to_version(row: JsonObject) -> Earlier:
    return Earlier(UUID(row["id"]), row["since"], row["until"], row["gone"], orjson.loads(row["row"]), kind=row["kind"])


@dataclass(frozen=True)
class Versions:
    """The earlier versions in some files of the archive."""

    paths: Sequence[Path] = field(default=())

    def of(self, kind: str, column: str, values: Iterable[str]) -> list[Earlier]:
        """The versions of a kind with one of some values in a column: ``id``, or one of ``RELATIONS``."""
        wanted = sorted(values)
        if not self.paths or not wanted:
            return []
        import pyarrow.compute as pc

        which = (pc.field("kind").cast("string") == kind) & pc.field(column).isin(wanted)
        return [_to_version(row) for path in self.paths for row in _rows(path, which)]

    def all_of(self, kind: str) -> Iterator[Earlier]:
        """All versions of a kind."""
        return map(_to_version, self._columns(kind, None))

    def joined(self) -> tuple[list[UUID], list[str], list[UUID]]:
        """Which member ever was in which team: teams, kinds of members, members, each pair once."""
        found = {
            (row["team_id"], "team" if orjson.loads(row["row"])["person_id"] is None else "person", row["member_id"])
            for row in self._columns("memberships", ["team_id", "member_id", "row"])
        }
        return [UUID(t) for t, _, _ in found], [k for _, k, _ in found], [UUID(m) for _, _, m in found]

    def owned(self) -> tuple[list[UUID], list[UUID]]:
        """Who ever owned which account: owners, accounts, each pair once."""
        found = {
            (row["owner_id"], row["id"]) for row in self._columns("accounts", ["owner_id", "id"]) if row["owner_id"]
        }
        return [UUID(owner) for owner, _ in found], [UUID(account) for _, account in found]

    def _columns(self, kind: str, columns: list[str] | None) -> Iterator[JsonObject]:
        if not self.paths:
            return
        import pyarrow.compute as pc

        for path in self.paths:
            yield from _rows(path, pc.field("kind").cast("string") == kind, columns)


def versions_since(db: Db, archive: Archive, at: datetime) -> Versions:
    """The archived versions that tell of an instant or later. Nothing of them is dropped until the transaction ends."""
    hold(db, VERSIONS)
    return Versions([archive.path_of(part) for part in parts_of(db, VERSIONS, at)])


# Files.


def _write(path: Path, organisation: UUID, kind: str, schema: pyarrow.Schema, rows: Iterable[JsonObject]) -> None:
    try:
        import pyarrow as pa
        import pyarrow.parquet as pq
    except ImportError as error:
        raise ArchiveDown("Files of the archive are written with pyarrow, which is not installed.", _INSTALL) from error

    told = {b"format": FORMAT, b"version": VERSION, b"organisation": str(organisation).encode(), b"kind": kind.encode()}
    schema = schema.with_metadata(told)
    unfinished = path.with_suffix(".unfinished")
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with unfinished.open("wb") as file:
            os.fchmod(file.fileno(), 0o600)
            with pq.ParquetWriter(file, schema, compression="zstd") as writer:
                for batch in _batches(rows):
                    writer.write_batch(pa.RecordBatch.from_pylist(batch, schema))
            file.flush()
            os.fsync(file.fileno())
        unfinished.rename(path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as error:
        raise ArchiveDown(
            f"{path} can't be written: {error.strerror or error}.", "Look whether the folder is there, and has room."
        ) from error


def _batches(rows: Iterable[JsonObject]) -> Iterator[list[JsonObject]]:
    batch: list[JsonObject] = []
    for row in rows:
        batch.append(row)
        if len(batch) == AT_ONCE:
            yield batch
            batch = []
    if batch:
        yield batch


def _rows(
    path: Path, which: pyarrow.compute.Expression | None, columns: list[str] | None = None
) -> Iterator[JsonObject]:
    try:
        import pyarrow as pa
        import pyarrow.dataset as ds
    except ImportError as error:
        raise ArchiveDown("Files of the archive are read with pyarrow, which is not installed.", _INSTALL) from error
    try:
        # Without threads of its own, which a process that forks could not do with.
        scanner = ds.dataset(path, format="parquet").scanner(columns, which, batch_size=AT_ONCE, use_threads=False)
        for batch in scanner.to_batches():
            yield from batch.to_pylist()
    except (pa.ArrowInvalid, OSError) as error:
        raise ArchiveDown(f"{path.name} of the archive can't be read: {error}.") from error
