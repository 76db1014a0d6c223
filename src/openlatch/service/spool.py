"""A reading on its way into the database: on disk while it comes, in temporary tables while it is compared.

However large a system is, it needs no memory here, and no transaction waits for the system.
"""

from __future__ import annotations

import csv
import io
import tempfile
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from types import TracebackType
from typing import Any, BinaryIO, Self

import orjson
from sqlalchemy.orm import Session as Db

from openlatch.adapters import (
    Found,
    FoundLevel,
    FoundPart,
    Holding,
    Login,
    Presence,
    SharedAccount,
    Unchanged,
    Used,
    whole,
)
from openlatch.store.database import driver_of

TABLES = {
    "accounts": "handle text, comment text, kind text, stamp text",
    "unchanged": "account text",
    "parts": "account text, handle text, name text, kind text, public bool",
    "logins": "handle text, comment text, is_app bool, marks jsonb, locked bool, hangs jsonb",
    "holdings": "account text, holder text, by_account bool, level text, until text, handle text, parts text",
    "presences": "key text, login text, device text, address text, started_at timestamptz, last_seen_at timestamptz, "
    "handle jsonb",
    "used": "account text, holder text, day date, permission text",
}
# So many rows are put into words before they are written out.
BLOCK = 2_000
# Memory for temporary tables, so that a large reading is not written to disk a second time.
_BUFFERS = "set local temp_buffers = '256MB'"


class Spool:
    """A reading, kept on disk. Use it as a context: its files are gone at the end."""

    def __init__(self) -> None:
        self.levels: dict[str, FoundLevel] = {}
        self.counts: dict[str, int] = dict.fromkeys(TABLES, 0)
        self._files: dict[str, BinaryIO] = {}
        self._waiting: dict[str, list[tuple[Any, ...]]] = {name: [] for name in TABLES}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        for file in self._files.values():
            file.close()

    def take(self, found: Iterable[Found], tell: Callable[[int], None] = lambda seen: None) -> None:
        """Take a whole reading in, telling now and then how much was seen. SystemDown when it breaks off."""
        for seen, thing in enumerate(whole(found), 1):
            if isinstance(thing, FoundLevel):
                self.levels.setdefault(thing.key, thing)
                continue
            name, row = _row(thing)
            if name:
                self._put(name, row)
            if seen % BLOCK == 0:
                tell(seen)
        for name in TABLES:
            self._write(name)

    def load(self, db: Db) -> None:
        """Make the temporary tables ``reading_…``, which last until the transaction ends."""
        raw = driver_of(db)
        raw.execute(_BUFFERS)
        for name, columns in TABLES.items():
            raw.execute(f"create temporary table reading_{name} (n serial, {columns}) on commit drop")
            listed = ", ".join(column.split()[0] for column in columns.split(", "))
            copied = f"copy reading_{name} ({listed}) from stdin (format csv, null '\\N')"
            with raw.cursor() as cursor, cursor.copy(copied) as copy:
                file = self._files.get(name)
                if file is not None:
                    file.seek(0)
                    while block := file.read(1 << 20):
                        copy.write(block)
            raw.execute(f"analyze reading_{name}")

    def _put(self, name: str, row: tuple[Any, ...]) -> None:
        self._waiting[name].append(row)
        self.counts[name] += 1
        if len(self._waiting[name]) >= BLOCK:
            self._write(name)

    def _write(self, name: str) -> None:
        if not self._waiting[name]:
            return
        if name not in self._files:
            self._files[name] = tempfile.TemporaryFile()  # noqa: SIM115  closed when the context ends
        text = io.StringIO()
        csv.writer(text).writerows(self._waiting[name])
        self._waiting[name].clear()
        # What PostgreSQL can't keep in a text is nobody's name.
        self._files[name].write(text.getvalue().encode("utf-8", "replace").replace(b"\0", b""))


def _row(thing: Found) -> tuple[str, tuple[Any, ...]]:
    match thing:
        case Holding():
            until = thing.until.astimezone(UTC).isoformat() if thing.until else ""
            parts = _json(thing.parts) if thing.parts else ""
            return "holdings", (
                thing.account, thing.holder, thing.holder_is_account, thing.level, until, _json(thing.handle), parts
            )  # fmt: skip
        case SharedAccount():
            return "accounts", (thing.handle, thing.comment, thing.kind, thing.stamp)
        case Unchanged():
            return "unchanged", (thing.account,)
        case FoundPart():
            return "parts", (thing.account, thing.handle, thing.name, thing.kind, thing.public)
        case Login():
            hangs = _json(thing.hangs)
            return "logins", (thing.handle, thing.comment, thing.is_app, _json(thing.marks), thing.locked, hangs)
        case Presence():
            times = thing.started_at.isoformat(), thing.last_seen_at.isoformat()
            return "presences", (thing.key, thing.login, thing.device, thing.address, *times, _json(thing.handle))
        case Used():
            return "used", (thing.account, thing.holder, thing.day.isoformat(), thing.permission)
    return "", ()


def _json(value: Any) -> str:
    return orjson.dumps(value, option=orjson.OPT_SORT_KEYS, default=dict).decode().replace("\\u0000", "")


def instant(written: str) -> datetime | None:
    """An instant as a spool writes it."""
    return datetime.fromisoformat(written) if written else None
