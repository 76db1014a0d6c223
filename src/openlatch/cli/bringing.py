"""Bringing files, and reading systems."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import click
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeElapsedColumn

from openlatch.cli import session
from openlatch.cli.output import Column, err, moment, out, output_option, show_one
from openlatch.cli.register import list_command
from openlatch.core.imports import RECORD_KINDS

MOST_SHOWN = 50
SYSTEMS: list[Column] = [
    ("Name", lambda r: r.name),
    ("Kind", lambda r: r.kind.replace("_", " ")),
    ("Accounts", lambda r: r.accounts),
    ("Read", lambda r: moment(r.read_at)),
    ("State", lambda r: f"down since {moment(r.down_since)}: {r.answer}" if r.down_since else r.answer),
]


@click.command("import")
@click.argument("kind", type=click.Choice(list(RECORD_KINDS)))
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--form", type=click.Choice(["csv", "jsonl"]), default=None, help="Left out, by the file's ending.")
@click.option("--keep-good", is_flag=True, help="Keep the good lines when there are bad ones.")
@click.option("--try-only", is_flag=True, help="Check, and keep nothing.")
@output_option
def import_(kind: str, file: Path, form: str | None, keep_good: bool, try_only: bool, output: str) -> int:
    """Bring a file of records. With a bad line nothing is kept, unless --keep-good."""
    form = form or ("jsonl" if file.suffix in (".jsonl", ".ndjson") else "csv")
    with session.client() as service, file.open("rb") as source:
        report = service.bring(kind, _blocks(source, file.stat().st_size), form, keep_good, try_only)

    def write() -> None:
        for error in report.errors[:MOST_SHOWN]:
            field = f", {error.field}" if error.field else ""
            out.print(f"line {error.line}{field}: {error.reason}", markup=False)
        if len(report.errors) > MOST_SHOWN:
            out.print(f"… and {len(report.errors) - MOST_SHOWN} more; --output json shows all")
        kept = "kept" if report.kept else "nothing was kept"
        out.print(f"{report.read} read: {report.added} added, {report.changed} changed, {report.unchanged} unchanged, "
                  f"{report.bad} bad ({report.encoding}); {kept}")  # fmt: skip

    show_one(report, output, write)
    return 4 if report.bad else 0


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
def system_read(name_or_id: str) -> None:
    """Have a system read soon."""
    with session.client() as service:
        service.read_system(session.find(service, "systems", name_or_id))
    out.print("It will be read in a moment: openlatch system list")


COMMANDS: dict[str, click.Command] = {"import": import_, "system": system}
