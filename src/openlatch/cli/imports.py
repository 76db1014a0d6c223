"""Importing files, and reading systems."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import click
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeElapsedColumn

from openlatch.cli import session
from openlatch.cli.output import Column, Word, err, moment, out, output_option, show_one
from openlatch.cli.register import list_command
from openlatch.client import Client
from openlatch.core.files.records import RECORD_KINDS
from openlatch.core.people.login_matching import MarkKind
from openlatch.core.vocabulary import FileForm
from openlatch.languages.terminal import say
from openlatch.schemas import SystemRow

MOST_SHOWN = 50
SYSTEMS: list[Column] = [
    ("Name", lambda r: r.name),
    ("Kind", lambda r: Word(r.kind)),
    ("Accounts", lambda r: r.accounts),
    ("Read", lambda r: Word(f"{r.reading_seen} seen so far") if r.reading_since else moment(r.read_at)),
    ("Drift", lambda r: _drift(r)),
    ("State", lambda r: say(f"down since {moment(r.down_since)}: {r.answer}") if r.down_since else r.answer),
]


def _drift(row: SystemRow) -> Word | None:
    """How a system departs from the register, in numbers."""
    counts = [
        (row.unrecorded, "unrecorded"),
        (row.missing, "missing"),
        (row.changed, "changed"),
        (row.doubts, "doubts"),
    ]
    return Word(*(f"{count} {what}" for count, what in counts if count)) if any(count for count, _ in counts) else None


@click.command("import")
@click.argument("kind", type=click.Choice(list(RECORD_KINDS)))
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--form", type=click.Choice(["csv", "jsonl"]), default=None, help="Left out, by the file's ending.")
@click.option("--keep-good", is_flag=True, help="Keep the good lines when there are bad ones.")
@click.option("--try-only", is_flag=True, help="Show what it would do, and keep nothing.")
@click.option("--match", "matches", multiple=True, metavar="COLUMN=FIELD", help="Which column is which field.")
@click.option("--by-columns", is_flag=True, help="Match the columns by their names and by what is in them.")
@output_option
def import_(
    kind: str,
    file: Path,
    form: str | None,
    keep_good: bool,
    try_only: bool,
    matches: tuple[str, ...],
    by_columns: bool,
    output: str,
) -> int:
    """Import a file of records. If a line is invalid nothing is imported, unless --keep-good."""
    form = form or (FileForm.JSONL if file.suffix in (".jsonl", ".ndjson") else FileForm.CSV)
    with session.client() as service, file.open("rb") as source:
        matching = _matching(service, kind, form, source, matches) if matches or by_columns else None
        report = service.bring(kind, _blocks(source, file.stat().st_size), form, keep_good, try_only, matching)

    def write() -> None:
        for error in report.errors[:MOST_SHOWN]:
            field = f", {error.field}" if error.field else ""
            out.print(f"line {error.line}{field}: {error.reason}", markup=False)
        if len(report.errors) > MOST_SHOWN:
            out.print(f"… and {len(report.errors) - MOST_SHOWN} more; --output json shows all")
        for one in report.differences[:MOST_SHOWN]:
            was, will = one.was or say("nothing"), one.will or say("nothing")
            out.print(f"line {one.line}, {one.field} of {one.key}: from {was} to {will}", markup=False)
        if len(report.differences) > MOST_SHOWN:
            out.print(f"… and {len(report.differences) - MOST_SHOWN} more changes; --output json shows all")
        kept = "kept" if report.kept else "nothing was kept"
        out.print(
            f"{report.read} read: {report.added} added, {report.changed} changed, {report.unchanged} unchanged, "
            f"{report.bad} bad ({report.encoding}); {kept}"
        )

    show_one(report, output, write)
    return 4 if report.bad else 0


# Bytes read from a file to recognise its columns.
LOOKED_AT = 500_000


def _matching(service: Client, kind: str, form: str, source: BinaryIO, matches: tuple[str, ...]) -> dict[str, str]:
    """The matching of columns to fields: saved or suggested, with the given exceptions."""
    start = source.read(LOOKED_AT)
    source.seek(0)
    found = service.look_at_file(kind, start[: start.rfind(b"\n") + 1] or start, form)
    matching = {column.name: column.field for column in found.columns}
    for match in matches:
        column, equals, field = match.partition("=")
        if not equals or column not in matching:
            raise click.BadParameter(
                f"{match!r} names no column; they are: {', '.join(matching)}.", param_hint="--match"
            )
        matching = {name: "" if was == field else was for name, was in matching.items()} | {column: field}
    for column, field in matching.items():
        err.print(f"{column} is {field.replace('_', ' ') or 'left out'}", markup=False)
    return matching


def _blocks(source: BinaryIO, size: int) -> Iterator[bytes]:
    columns = (TextColumn("Sending"), BarColumn(), DownloadColumn(), TimeElapsedColumn())
    with Progress(*columns, console=err, transient=True) as progress:
        task = progress.add_task("send", total=size)
        while block := source.read(1 << 18):
            yield block
            progress.advance(task, len(block))


@click.group()
def system() -> None:
    """The systems where accounts live."""


system.add_command(list_command("systems", SYSTEMS, "There is no system."))


@system.command("read")
@click.argument("name_or_id")
@click.option("--fully", is_flag=True, help="Also what it says has not changed since the last read.")
def system_read(name_or_id: str, fully: bool) -> None:
    """Read a system now."""
    with session.client() as service:
        service.read_system(session.find(service, "systems", name_or_id), fully)
    out.print("It will be read in a moment: openlatch system list")


@system.command("schedule")
@click.argument("name_or_id")
@click.option("--every", required=True, type=click.IntRange(1, 10080), help="Minutes between two reads.")
def system_schedule(name_or_id: str, every: int) -> None:
    """Set how often a system is read."""
    with session.client() as service:
        found = service.set_reading(session.find(service, "systems", name_or_id), every)
    out.print(f"{found.name} is read every {every} minutes; next at {moment(found.next_read_at)}.")


@system.command("match")
@click.argument("name_or_id")
@click.option("--by", "rules", multiple=True, metavar="MARK=sure|ask", help="In the order in which they count.")
def system_match(name_or_id: str, rules: tuple[str, ...]) -> None:
    """Set by which attributes logins are matched to people: address, employee, fingerprint, uid, name. Without --by,
    the default.
    """
    told = [rule.partition("=") for rule in rules]
    if wrong := [rule for rule, (_, _, how) in zip(rules, told, strict=True) if how not in ("sure", "ask")]:
        raise click.UsageError(f"{wrong[0]!r} can't be read; write it as employee=sure or name=ask.")
    if wrong := [mark for mark, _, _ in told if mark not in set(MarkKind)]:
        raise click.UsageError(f"There is no mark {wrong[0]!r}; name one of {', '.join(MarkKind)}.")
    with session.client() as service:
        ident = session.find(service, "systems", name_or_id)
        found = service.set_matching(ident, [(mark, how == "sure") for mark, _, how in told])
    written = ", ".join(f"{mark} ({'sure' if sure else 'ask'})" for mark, sure in found.matching) or "the usual marks"
    out.print(f"People in {found.name} are told by {written}, from the next read on.")


COMMANDS: dict[str, click.Command] = {"import": import_, "system": system}
