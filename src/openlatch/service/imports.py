"""Importing files: every line is checked, and all lines are kept or none, unless the user says otherwise."""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

from openlatch import schemas
from openlatch.core.files import records as core
from openlatch.core.vocabulary import FileForm
from openlatch.errors import BadInput
from openlatch.service.attempt import attempt
from openlatch.service.exposure import evaluate
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.identity import sign_ins
from openlatch.service.latches import guard
from openlatch.service.unit import Unit
from openlatch.store.database import take_your_time
from openlatch.store.imports import load

MOST_ERRORS = 10_000
ROWS_EVALUATED_AT_ONCE = 5_000
_ACTIONS = {
    "people": "person",
    "teams": "team",
    "memberships": "membership",
    "accounts": "account",
    "levels": "level",
    "apps": "app",
    "handles": "handle",
    "marks": "mark",
    "grants": "grant",
    "sessions": "session",
    "use": "grant",
    "resources": "resource",
    "places": "place",
}
# Kinds whose records can let somebody in, or open something.
MOST_DIFFERENCES = 500
_LETTING_IN = (core.PEOPLE, core.MEMBERSHIPS, core.ACCOUNTS, core.LEVELS, core.GRANTS, core.RESOURCES)


@dataclass(frozen=True, slots=True)
class Report:
    """The result of an import. Nothing was kept unless ``kept``."""

    kind: str
    encoding: str
    read: int
    added: int
    changed: int
    unchanged: int
    bad: int
    errors: list[core.LineError]
    kept: bool
    differences: list[load.Difference] = field(default_factory=list)
    """In a trial: each value that would change in records that are there already, up to a limit."""
    fresh: list[str] = field(default_factory=list)
    """In a trial: the names of what would be added, up to a limit."""
    latches: list[schemas.Breach] = field(default_factory=list)
    """In a trial: what latches would say to it."""


def bring(
    unit: Unit,
    kind_name: str,
    form: str,
    source: BinaryIO,
    keep_good: bool,
    try_only: bool,
    matching: core.Matching | None = None,
) -> Report:
    """Import a file's records.

    With a bad line nothing is kept, unless ``keep_good``; with ``try_only`` nothing is kept in any case, and the report
    counts what would change. ``matching`` says which columns are which fields. BadInput when the kind or form is
    unknown or the header does not fit; Held when a latch refuses what the file would let in.
    """
    unit.sight.require_administrator()
    kind = kind_of(kind_name)
    take_your_time(unit.db)
    encoding = core.encoding_of(source)
    errors = _Errors()
    lines = io.TextIOWrapper(source, encoding=encoding, errors="replace", newline="" if form == FileForm.CSV else None)
    good = load.stage(unit.db, kind, _checked(lines, kind, form, unit.zone, errors, matching))
    lines.detach()
    errors.extend(load.unresolved(unit.db, kind, unit.now))
    read = good + len(errors.staging_lines)
    bad = len(errors.lines)
    if try_only or (bad and not keep_good):
        would = load.differences(unit.db, kind, MOST_DIFFERENCES)
        report = Report(kind.name, encoding, read, 0, 0, 0, bad, errors.sorted(), kept=False, differences=would)
        return _tried(unit, kind, report, errors.lines) if try_only else report
    load.discard(unit.db, errors.lines)
    # Who somebody is, and that they left, are facts: broken latches are flagged, not refused.
    with guard.guarded(unit, None if kind in _LETTING_IN else (), refuses=kind is not core.PEOPLE):
        changed = load.apply(unit.db, kind, unit.viewer.organisation, unit.now)
    if kind is core.PEOPLE:
        sign_ins.refuse_none(unit)
    added = sum(change.added for change in changed)
    _journal(unit, kind, changed, read, bad)
    return Report(
        kind.name,
        encoding,
        read,
        added,
        len(changed) - added,
        max(read - bad - len(changed), 0),
        bad,
        errors.sorted(),
        kept=True,
    )


def kind_of(name: str) -> core.RecordKind:
    """A kind of record by its name. BadInput for an unknown one."""
    kind = core.RECORD_KINDS.get(name)
    if kind is None:
        raise BadInput(f"There is no kind {name!r}.", f"Bring one of: {', '.join(core.RECORD_KINDS)}.")
    return kind


def _tried(unit: Unit, kind: core.RecordKind, report: Report, bad: set[int]) -> Report:
    """The report of a trial: the good lines are imported, counted, and rolled back."""
    with attempt(unit, keep=False) as within:
        load.discard(within.db, bad)
        letting_in = None if kind in _LETTING_IN else ()
        with guard.guarded(within, letting_in, refuses=False) as warned:
            changed = load.apply(within.db, kind, within.viewer.organisation, within.now)
        said = [guard.shown(breach) for breach in warned]
    added = [change for change in changed if change.added]
    return replace(
        report,
        added=len(added),
        changed=len(changed) - len(added),
        unchanged=max(report.read - report.bad - len(changed), 0),
        fresh=[change.name for change in added[:MOST_DIFFERENCES]],
        latches=said,
    )


class _Errors:
    """What is wrong with which lines. The list is cut at a limit, the count is not."""

    def __init__(self) -> None:
        self.found: list[core.LineError] = []
        self.lines: set[int] = set()
        self.staging_lines: set[int] = set()

    def add(self, error: core.LineError) -> None:
        self.lines.add(error.line)
        if len(self.found) < MOST_ERRORS:
            self.found.append(error)

    def extend(self, errors: list[core.LineError]) -> None:
        for error in errors:
            self.add(error)

    def sorted(self) -> list[core.LineError]:
        return sorted(self.found, key=lambda e: (e.line, e.field))


def _checked(
    lines: io.TextIOWrapper,
    kind: core.RecordKind,
    form: str,
    zone: ZoneInfo,
    errors: _Errors,
    matching: core.Matching | None,
) -> Iterator[tuple[int, tuple[object, ...]]]:
    for line, row in _reader(form)(lines, kind, matching):
        if isinstance(row, core.LineError):
            errors.staging_lines.add(line)
            errors.add(row)
            continue
        values = core.check(line, row, kind, zone)
        if isinstance(values, list):
            errors.staging_lines.add(line)
            errors.extend(values)
        else:
            yield line, (*values, [name for name in kind.names if name in row]) if kind.keeps else values


def _reader(form: str) -> Any:
    readers = {"csv": core.csv_rows, "jsonl": core.jsonl_rows}
    if form not in readers:
        raise BadInput(f"There is no form {form!r}.", "Send csv or jsonl.")
    return readers[form]


def _journal(unit: Unit, kind: core.RecordKind, changed: list[load.Changed], read: int, bad: int) -> None:
    if not changed:
        return
    word = _ACTIONS[kind.name]
    used = kind is core.USE
    unit.record_many(
        word,
        (
            (f"{word}.{'used' if used else 'imported' if c.added else 'changed'}", c.id, c.name, c.account)
            for c in changed
        ),
    )
    unit.record("import.finished", "import", None, kind.name, read=read, changed=len(changed), bad=bad)
    ids = [change.id for change in changed]
    if kind is core.GRANTS and len(ids) <= ROWS_EVALUATED_AT_ONCE:
        evaluate_flags.evaluate(unit, grants=ids)
    elif used and len(ids) <= ROWS_EVALUATED_AT_ONCE:
        evaluate_flags.evaluate(unit, noted=ids)
    elif kind is core.RESOURCES and len(ids) <= ROWS_EVALUATED_AT_ONCE:
        evaluate.changed(unit, {change.account for change in changed if change.account is not None})
    elif kind is core.SESSIONS and len(ids) <= ROWS_EVALUATED_AT_ONCE:
        evaluate_flags.evaluate(unit, sessions=ids)
    else:
        # Other kinds can affect any flag: the worker evaluates everything.
        unit.wake("evaluate")
