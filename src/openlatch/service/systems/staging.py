"""Staging a reading: on disk while it arrives, in temporary tables while it is compared.

However large a system is, it needs no memory here, and no transaction waits for the system. Holdings are by far the
most: only their digests are loaded, and the rest only where a digest changed.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from datetime import UTC, datetime
from hashlib import blake2b
from itertools import chain
from types import TracebackType
from typing import BinaryIO, Self

import orjson
from sqlalchemy import text
from sqlalchemy.orm import Session as Db

from openlatch.adapters import (
    Coverage,
    Found,
    FoundLevel,
    FoundPart,
    FoundRule,
    Holding,
    Login,
    Presence,
    SharedAccount,
    Unchanged,
    Used,
    UsedOutside,
    whole,
)
from openlatch.json_values import SqlTuple
from openlatch.store.database import driver_of

TABLES = {
    "accounts": "handle text, comment text, kind text, stamp text",
    "unchanged": "account text",
    "parts": "account text, handle text, name text, kind text, path text, attributes jsonb, above jsonb, inherits bool",
    "rules": "account text, key text, is_guard bool, plain jsonb, handle jsonb",
    "logins": "handle text, comment text, is_app bool, marks jsonb, locked bool, hangs jsonb",
    "holdings": "digest uuid, account text, holder text, by_account bool, level text, until text, handle text, "
    "parts text",
    "presences": "key text, login text, device text, address text, started_at timestamptz, last_seen_at timestamptz, "
    "handle jsonb",
    "used": "account text, holder text, day date, permission text",
    "used_outside": "account text, part text, used_right text, day date, who text, address text",
}
# Rows per write.
BLOCK = 2_000
# PostgreSQL's binary COPY (https://www.postgresql.org/docs/15/sql-copy.html): what begins and ends it, and what stands
# before the number and before the digest of each row.
_BEGIN, _END = b"PGCOPY\n\xff\r\n\0" + bytes(8), b"\xff\xff"
_NUMBER, _DIGEST = b"\0\2\0\0\0\4", b"\0\0\0\x10"
# Its text COPY, with a separator that occurs in no value.
_BETWEEN = "\1"
_ESCAPES = str.maketrans({"\\": "\\\\", "\n": "\\n", "\r": "\\r", "\0": None})


class Spool:
    """A reading on disk. A context manager: its files are deleted at the end."""

    def __init__(self) -> None:
        self.levels: dict[str, FoundLevel] = {}
        self.coverage: dict[str, Coverage] = {}
        self.counts: dict[str, int] = dict.fromkeys(TABLES, 0)
        self._files: dict[str, BinaryIO] = {}
        self._waiting: dict[str, list[bytes]] = {name: [] for name in (*TABLES, "shown")}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        for file in self._files.values():
            file.close()

    def take(self, found: Iterable[Found], tell: Callable[[int], None] = lambda seen: None) -> None:
        """Store a whole reading, reporting progress now and then. SystemDown when it breaks off."""
        for seen, thing in enumerate(whole(found), 1):
            if isinstance(thing, FoundLevel):
                self.levels.setdefault(thing.key, thing)
                continue
            if isinstance(thing, Coverage):
                self._cover(thing)
                continue
            name, row = _row(thing)
            if name:
                self._put(name, row)
            if seen % BLOCK == 0:
                tell(seen)
        for name in self._waiting:
            self._write(name)

    def _cover(self, told: Coverage) -> None:
        """Combine several reports about one account."""
        known = self.coverage.get(told.account, Coverage(told.account))
        looked_at = dict.fromkeys((*known.looked_at, *told.looked_at))
        gaps = dict.fromkeys((*known.gaps, *told.gaps))
        self.coverage[told.account] = Coverage(told.account, tuple(looked_at), tuple(gaps))

    @property
    def partial(self) -> list[str]:
        """The accounts of which something is unknown; the empty name stands for all of them."""
        return [account for account, told in self.coverage.items() if told.is_partial]

    def load(self, db: Db) -> None:
        """Create the temporary tables ``reading_…``, which last until the transaction ends.

        Of holdings only numbers and digests, in ``reading_shown``; the rest is loaded by ``load_holdings``.
        """
        raw = driver_of(db)
        for name in TABLES.keys() - {"holdings"}:
            self._copy(db, name, self._lines(name))
        raw.execute("create temporary table reading_partial (account text) on commit drop")
        raw.execute("insert into reading_partial select unnest(%s::text[])", [self.partial])
        raw.execute("create temporary table reading_shown (n int, digest uuid) on commit drop")
        with raw.cursor() as cursor, cursor.copy("copy reading_shown from stdin (format binary)") as copy:
            for block in chain((_BEGIN,), self._blocks("shown"), (_END,)):
                copy.write(block)

    def load_holdings(self, db: Db, wanted: Collection[int]) -> None:
        """Create the temporary table ``reading_holdings`` of those with these numbers."""
        lines = self._lines("holdings")
        if len(wanted) < self.counts["holdings"]:
            numbers = set(wanted)
            lines = (line for n, line in enumerate(lines, 1) if n in numbers)
        self._copy(db, "holdings", lines)

    def _copy(self, db: Db, name: str, lines: Iterable[bytes]) -> None:
        raw = driver_of(db)
        raw.execute(f"create temporary table reading_{name} (n int, {TABLES[name]}) on commit drop")
        with raw.cursor() as cursor, cursor.copy(f"copy reading_{name} from stdin (delimiter '{_BETWEEN}')") as copy:
            for line in lines:
                copy.write(line)
        raw.execute(f"analyze reading_{name}")

    def _lines(self, name: str) -> Iterator[bytes]:
        file = self._files.get(name)
        if file is not None:
            file.seek(0)
            yield from file

    def _blocks(self, name: str) -> Iterator[bytes]:
        file = self._files.get(name)
        if file is not None:
            file.seek(0)
            yield from iter(lambda: file.read(1 << 18), b"")

    def _put(self, name: str, row: tuple[str, ...]) -> None:
        self.counts[name] += 1
        line = _line(row)
        if name == "holdings":
            digest = blake2b(line, digest_size=16)
            self._waiting["shown"].append(_NUMBER + self.counts[name].to_bytes(4) + _DIGEST + digest.digest())
            line = b"%b\1%b" % (digest.hexdigest().encode(), line)
        self._waiting[name].append(b"%d\1%b\n" % (self.counts[name], line))
        if len(self._waiting[name]) >= BLOCK:
            self._write(name)

    def _write(self, name: str) -> None:
        if not self._waiting[name]:
            return
        if name not in self._files:
            self._files[name] = tempfile.TemporaryFile()  # noqa: SIM115  closed when the context ends
        self._files[name].write(b"".join(self._waiting[name]))
        self._waiting[name].clear()


def _line(row: tuple[str, ...]) -> bytes:
    """A row for text COPY. Characters that PostgreSQL can't store in a text are left out."""
    joined = _BETWEEN.join(row)
    if joined.count(_BETWEEN) >= len(row):
        joined = _BETWEEN.join(value.replace(_BETWEEN, "") for value in row)
    return joined.translate(_ESCAPES).encode("utf-8", "replace")


_BOOL = {True: "t", False: "f"}


def _row(thing: Found) -> tuple[str, tuple[str, ...]]:
    match thing:
        case Holding():
            until = thing.until.astimezone(UTC).isoformat() if thing.until else ""
            parts = _json(thing.parts) if thing.parts else ""
            handle, by_account = _json(thing.handle), _BOOL[thing.holder_is_account]
            return "holdings", (thing.account, thing.holder, by_account, thing.level, until, handle, parts)
        case SharedAccount():
            return "accounts", (thing.handle, thing.comment, thing.kind, thing.stamp)
        case Unchanged():
            return "unchanged", (thing.account,)
        case FoundPart():
            more = thing.path, _json(thing.attributes), _json(thing.above), _BOOL[thing.inherits]
            return "parts", (thing.account, thing.handle, thing.name, thing.kind, *more)
        case FoundRule():
            return "rules", (thing.account, thing.key, _BOOL[thing.is_guard], _json(thing.rule), _json(thing.handle))
        case Login():
            is_app, locked = _BOOL[thing.is_app], _BOOL[thing.locked]
            return "logins", (thing.handle, thing.comment, is_app, _json(thing.marks), locked, _json(thing.hangs))
        case Presence():
            times = thing.started_at.isoformat(), thing.last_seen_at.isoformat()
            return "presences", (thing.key, thing.login, thing.device, thing.address, *times, _json(thing.handle))
        case Used():
            return "used", (thing.account, thing.holder, thing.day.isoformat(), thing.permission)
        case UsedOutside():
            by = thing.who, thing.address
            return "used_outside", (thing.account, thing.part, thing.right, thing.day.isoformat(), *by)
    return "", ()


def _json(value: object) -> str:
    return orjson.dumps(value, option=orjson.OPT_SORT_KEYS, default=dict).decode().replace("\\u0000", "")


def instant(written: str) -> datetime | None:
    """An instant as text in a spool."""
    return datetime.fromisoformat(written) if written else None


def batches(db: Db, statement: str, named: Mapping[str, object]) -> Iterator[SqlTuple]:
    """The rows of a statement about a reading, in batches; nothing they depend on changes meanwhile."""
    rows = db.execute(text(statement), dict(named)).all()
    yield from (rows[start : start + BLOCK] for start in range(0, len(rows), BLOCK))
