"""Files from elsewhere: which column is which field, remembered for next time, and the refused lines."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from tempfile import SpooledTemporaryFile
from typing import IO, BinaryIO

from sqlalchemy import Select, select

from openlatch import schemas
from openlatch.core.checks import require_count
from openlatch.core.files import columns as file_columns
from openlatch.core.files import records as core
from openlatch.core.files.csv_safety import guarded
from openlatch.core.vocabulary import FileForm
from openlatch.errors import BadInput
from openlatch.service import imports
from openlatch.service.unit import Unit
from openlatch.store.tables import FileMatching

# Rows sampled to recognise a column, and rows shown.
LOOKED_AT, SHOWN = 50, 4
MOST_COLUMNS = 200
LONGEST_SAMPLE = 80


def look(unit: Unit, kind_name: str, form: str, source: BinaryIO) -> schemas.FileLook:
    """The columns of a file with sample values, and the field that each is taken for: as remembered, or suggested."""
    unit.sight.require_administrator()
    kind = imports.kind_of(kind_name)
    samples = _samples(form, source)
    require_count(len(samples), MOST_COLUMNS, "columns", "file", least=0)
    kept = unit.db.scalars(_kept(kind.name, list(samples))).first()
    suggested = file_columns.suggest(kind, samples, unit.zone)
    known = {name: file_columns.Match(kept.matching.get(name, ""), "kept") for name in samples} if kept else suggested
    return schemas.FileLook(
        kind=kind.name,
        columns=[
            schemas.FileColumn(
                name=name,
                samples=[value[:LONGEST_SAMPLE] for value in values if value.strip()][:SHOWN],
                field=known[name].field if known[name].field in kind.names else "",
                by=known[name].by,
            )
            for name, values in samples.items()
        ],
        fields=[schemas.FileField(name=field.name, required=field.required) for field in kind.fields],
    )


def _samples(form: str, source: BinaryIO) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    with _text(source, form) as lines:
        if form == FileForm.CSV:
            columns, rows = core.csv_table(lines)
            found = {name: [] for name in columns if name}
            for (_, row), _ in zip(rows, range(LOOKED_AT), strict=False):
                for name, value in zip(columns, row if isinstance(row, list) else [], strict=False):
                    if name:
                        found[name].append(value)
        else:
            for (_, item), _ in zip(core.json_objects(lines), range(LOOKED_AT), strict=False):
                for name, value in (item if isinstance(item, dict) else {}).items():
                    found.setdefault(name, []).append(value if isinstance(value, str) else json.dumps(value))
    if not found:
        raise BadInput(
            "The file has no columns that can be read.", "Its first line has to name them.", {"file": "is empty"}
        )
    return found


@contextmanager
def _text(source: BinaryIO, form: str) -> Iterator[io.TextIOWrapper]:
    """A binary file as text, in its own encoding; it stays open afterwards, at its beginning."""
    encoding = core.encoding_of(source)
    lines = io.TextIOWrapper(source, encoding=encoding, errors="replace", newline="" if form == FileForm.CSV else None)
    try:
        yield lines
    finally:
        lines.detach()
        source.seek(0)


def matching_from(written: str) -> dict[str, str] | None:
    """A matching from a call; None if it has none. BadInput for an invalid one."""
    if not written:
        return None
    try:
        given = json.loads(written)
    except (json.JSONDecodeError, RecursionError):
        given = None
    if not isinstance(given, dict) or not all(isinstance(value, str) for value in given.values()):
        raise BadInput(
            "The matching can't be read.",
            "Write it as a JSON object of columns and fields.",
            {"matching": "not an object"},
        )
    return {str(name): value for name, value in given.items()}


def keep(unit: Unit, kind_name: str, matching: Mapping[str, str]) -> None:
    """Remember a matching for files with exactly these columns."""
    kind = imports.kind_of(kind_name)
    row = unit.db.scalars(_kept(kind.name, list(matching)).with_for_update()).first()
    if row is None:
        row = FileMatching(
            organisation_id=unit.viewer.organisation,
            kind=kind.name,
            columns=sorted(matching),
            matching={},
            used_at=unit.now,
        )
        unit.db.add(row)
    row.matching, row.used_at = dict(matching), unit.now
    unit.db.flush()


def _kept(kind: str, columns: list[str]) -> Select[FileMatching]:
    return select(FileMatching).where(FileMatching.kind == kind, FileMatching.columns == sorted(columns))


def refused(unit: Unit, kind_name: str, form: str, source: BinaryIO, matching: core.Matching | None) -> IO[bytes]:
    """The lines of a file that would be refused, unchanged, each with the reason: a file of the same form."""
    report = imports.bring(unit, kind_name, form, source, keep_good=False, try_only=True, matching=matching)
    why: dict[int, list[str]] = {}
    for error in report.errors:
        why.setdefault(error.line, []).append(f"{error.field}: {error.reason}" if error.field else error.reason)
    source.seek(0)
    held: IO[bytes] = SpooledTemporaryFile(max_size=1 << 22)  # noqa: SIM115  closed by whoever sends it
    with _text(source, form) as lines:
        for written in (_csv_lines if form == FileForm.CSV else _json_lines)(lines, why):
            held.write(written.encode())
    held.seek(0)
    return held


def _csv_lines(lines: io.TextIOWrapper, why: Mapping[int, list[str]]) -> Iterator[str]:
    columns, rows = core.csv_table(lines)
    yield _csv_line([*columns, "why"])
    for line, row in rows:
        if line in why:
            yield _csv_line([*(row if isinstance(row, list) else [""] * len(columns)), "; ".join(why[line])])


def _csv_line(values: list[str]) -> str:
    held = io.StringIO()
    csv.writer(held).writerow([guarded(value) for value in values])
    return held.getvalue()


def _json_lines(lines: io.TextIOWrapper, why: Mapping[int, list[str]]) -> Iterator[str]:
    for line, row in core.json_objects(lines):
        if line in why:
            shown = row if isinstance(row, dict) else {}
            yield json.dumps({**shown, "why": "; ".join(why[line])}) + "\n"
