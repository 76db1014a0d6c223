"""Exporting a filtered list as CSV (RFC 4180) or JSON."""

from __future__ import annotations

import csv
import io
import time
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from tempfile import SpooledTemporaryFile
from typing import IO

import orjson

from openlatch.core.files.csv_safety import guarded
from openlatch.core.vocabulary import FileForm
from openlatch.errors import TooLarge
from openlatch.json_values import JsonObject, JsonValue
from openlatch.service.lists import register
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import MOST, ListQuery

# Time limit of a call; larger lists are fetched page by page (openlatch … --limit 0).
SECONDS = 20
IN_MEMORY = 4 << 20


def export(unit: Unit, name: str, query: ListQuery, form: str) -> IO[bytes]:
    """The rows that match, in a file open at its beginning. TooLarge when it takes longer than a call may."""
    held: IO[bytes] = SpooledTemporaryFile(max_size=IN_MEMORY)  # noqa: SIM115  closed by whoever sends it
    rows = _rows(unit, name, query)
    try:
        if form == FileForm.CSV:
            _write_csv(held, name, rows)
        else:
            _write_json(held, rows)
        held.seek(0)
    except BaseException:
        held.close()
        raise
    return held


def _rows(unit: Unit, name: str, query: ListQuery) -> Iterator[JsonObject]:
    until, cursor = time.monotonic() + SECONDS, ""
    while True:
        asked = ListQuery(query.filter, query.search, query.sort, MOST, cursor)
        page = register.page(unit, name, asked)
        yield from page.rows
        if not page.next:
            return
        if time.monotonic() > until:
            raise TooLarge("That is too much for one call.", fields={"filter": "matches too much"})
        cursor = page.next


def _write_json(held: IO[bytes], rows: Iterator[dict[str, object]]) -> None:
    held.write(b"[")
    for number, row in enumerate(rows):
        held.write((b",\n" if number else b"\n") + orjson.dumps(row))
    held.write(b"\n]\n")


def _write_csv(held: IO[bytes], name: str, rows: Iterator[dict[str, object]]) -> None:
    listing, _ = register.LISTS[name]
    columns = [column for column, about in listing.columns.items() if about.shown]
    text = io.TextIOWrapper(held, encoding="utf-8", newline="", write_through=True)
    writer = csv.writer(text)
    writer.writerow(columns)
    for row in rows:
        writer.writerow([_cell(_value(row, column)) for column in columns])
    text.detach()


def _value(row: Mapping[str, object], column: str) -> JsonValue:
    value: JsonValue = row
    for part in column.split("."):
        value = value.get(part) if isinstance(value, Mapping) else None
    return value


def _cell(value: object) -> str:
    match value:
        case None:
            return ""
        case bool():
            return "true" if value else "false"
        case datetime():
            return f"{value.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"
        case dict() | list():
            return orjson.dumps(value).decode()
    # Numbers may begin with a minus; only text can be mistaken for a formula.
    return str(value) if isinstance(value, int | float) else guarded(str(value))
