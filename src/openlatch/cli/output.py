"""Output: readable tables on a terminal, JSON and CSV for programs."""

from __future__ import annotations

import csv
import functools
import json
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any, Protocol, TypeVar, cast

import click
from pydantic import BaseModel
from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.language import Speaker
from openlatch.core.files.csv_safety import guarded
from openlatch.core.time_windows import ends_on
from openlatch.core.vocabulary import SENSITIVITY_WORDS, Proof, Reach, Severity
from openlatch.errors import BadInput
from openlatch.languages.terminal import say

Command = TypeVar("Command", bound=Callable[..., object])
# The value of an option as parsed by Click, and of a cell.
OptionValue = Any
Column = tuple[str, Callable[[Any], OptionValue]]
out = Speaker(highlight=False, soft_wrap=not sys.stdout.isatty())
err = Speaker(stderr=True, highlight=False)

_SEVERITY_STYLES = {1: "dim", 2: "", 3: "bold", 4: "bold reverse"}


def output_option(command: Command) -> Command:
    """The option ``--output`` of every command that shows something."""
    return click.option(
        "--output",
        "-o",
        type=click.Choice(["table", "json", "csv"]),
        default="table",
        envvar="OPENLATCH_OUTPUT",
        show_default=True,
        help="How to show it.",
    )(command)


@dataclass
class Layout:
    """How tables are written: which columns, whether wider than the terminal, and ids as references or whole."""

    columns: tuple[str, ...] = ()
    is_wide: bool = False
    has_ids: bool = False


layout = Layout()


class Word:
    """Words of the program in a cell: in the terminal's language in a table, and in English in CSV.

    Each part is said by itself; words of the API are told as people write them.
    """

    def __init__(self, *parts: str | None) -> None:
        self.parts = [part.replace("_", " ") for part in parts if part]

    def __str__(self) -> str:
        return ", ".join(self.parts)

    def said(self) -> str:
        """What is shown."""
        return ", ".join(map(say, self.parts))


def yes(value: bool, otherwise: str = "no") -> Word:
    """Whether something is so."""
    return Word("yes" if value else otherwise)


def list_options(command: Command) -> Command:
    """The options that every list of records has."""
    command = table_options(command)
    for option in (
        click.option("--limit", "-n", default=50, show_default=True, help="How many rows; 0 for all."),
        click.option("--sort", default="", help="An attribute to sort by; - before it for the other way round."),
        click.option("--search", "-s", default="", help="Words that have to occur."),
        click.option("--filter", "-f", "filter_", default="", help='A filter, as in: state eq "active".'),
    ):
        command = option(command)
    return command


def table_options(command: Command) -> Command:
    """The options of what shows one table."""

    @click.option("--columns", default="", metavar="NAMES", help="Only these columns, as in: Account,Until.")
    @click.option("--wide", is_flag=True, help="Do not fit the table to the terminal.")
    @click.option("--ids", is_flag=True, help="Whole ids instead of references.")
    @output_option
    @functools.wraps(command)
    def wrapped(*args: object, columns: str, wide: bool, ids: bool, **kwargs: object) -> object:
        layout.columns = tuple(name.strip().lower() for name in columns.split(",") if name.strip())
        layout.is_wide, layout.has_ids = wide, ids
        return command(*args, **kwargs)

    return cast(Command, wrapped)


def show_rows(rows: Iterable[BaseModel], columns: Sequence[Column], output: str, empty: str) -> None:
    """Write rows as a table or as CSV with these columns, or complete as JSON."""
    if output == "json":
        print(json.dumps([row.model_dump(mode="json") for row in rows], indent=2, ensure_ascii=False))
    elif output == "csv":
        layout.has_ids = True
        _write_csv(rows, _chosen(columns))
    else:
        _write_table(list(rows), _chosen(columns), empty)


def _chosen(columns: Sequence[Column]) -> Sequence[Column]:
    """The columns that were asked for, in that order; all when none were. BadInput for an unknown one."""
    by_name = {called.lower(): (name, value) for name, value in columns for called in (say(name), name)}
    unknown = [name for name in layout.columns if name not in by_name]
    if unknown:
        raise BadInput(
            f"There is no column {unknown[0]!r}.", f"Use: --columns {','.join(say(name) for name, _ in columns)}"
        )
    return [by_name[name] for name in layout.columns] or columns


def _write_csv(rows: Iterable[BaseModel], columns: Sequence[Column]) -> None:
    writer = csv.writer(sys.stdout)
    writer.writerow([name for name, _ in columns])
    for row in rows:
        writer.writerow([guarded(_plain(value(row))) for _, value in columns])


def _plain(value: object) -> str:
    if isinstance(value, Text):
        return value.plain
    if isinstance(value, datetime):
        return value.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return "" if value is None else str(value)


def _write_table(rows: Sequence[object], columns: Sequence[Column], empty: str) -> None:
    if not rows:
        out.print(empty)
        return
    cells = [[_cell(value(row), name) for name, value in columns] for row in rows]
    # A column is at least as wide as its longest word: nothing is broken inside one.
    least = [
        max(len(say(name)), *(max(map(len, line[at].plain.split()), default=1) for line in cells))
        for at, (name, _) in enumerate(columns)
    ]
    if not layout.is_wide and sum(least) + 2 * len(columns) > out.width:
        _write_records(cells, [name for name, _ in columns])
        return
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold")
    for width, (name, _) in zip(least, columns, strict=True):
        table.add_column(say(name), min_width=width, no_wrap=layout.is_wide or name in ("Last used", "Until", "When"))
    for line in cells:
        table.add_row(*line)
    (_endless() if layout.is_wide else out).print(table, crop=False)


def _endless() -> Console:
    """Standard output without the width of the terminal: a table is as wide as what is in it."""
    return Console(file=out.file, highlight=False, soft_wrap=True, width=10_000)


def _write_records(cells: Sequence[Sequence[Text]], names: Sequence[str]) -> None:
    """Rows as paragraphs, for a terminal that is too narrow for a table."""
    said = [say(name) for name in names]
    widest = max(map(len, said))
    for line in cells:
        for name, cell in zip(said, line, strict=True):
            grid = Table.grid(padding=(0, 2))
            grid.add_column(width=widest, style="dim")
            grid.add_column()
            grid.add_row(name, cell)
            out.print(grid)
        out.print()


def _cell(value: object, column: str) -> Text:
    if column == "State" and isinstance(value, str):
        # States are words of the API; people read them as words.
        value = say(value.replace("_", " "))
    if isinstance(value, Text):
        return value
    if isinstance(value, Word):
        return Text(value.said() or "–")
    if isinstance(value, datetime):
        return Text(day(value))
    return Text("–" if value in (None, "") else str(value))


def show_one(row: BaseModel, output: str, write: Callable[[], None]) -> None:
    """Write one record as JSON, else by ``write``."""
    if output == "json":
        print(row.model_dump_json(indent=2))
    else:
        write()


def day(at: datetime | None) -> str:
    """The day of an instant, where the organisation is."""
    return at.astimezone(session.zone()).strftime("%Y-%m-%d") if at else "–"


def moment(at: datetime | None) -> str:
    """An instant to the minute, as clocks show it where the organisation is."""
    return at.astimezone(session.zone()).strftime("%Y-%m-%d %H:%M") if at else "–"


class Ending(Protocol):
    """What has an end: with ``last_day`` where it ends with one."""

    @property
    def until(self) -> datetime | None:
        """The instant at which it ends; None where it has no end."""

    @property
    def last_day(self) -> date | None:
        """Its last day, where it ends with one."""


def end(row: Ending) -> date | None:
    """An end for a column: its last day, or the instant."""
    return row.last_day or row.until


def write_end(row: Ending) -> str:
    """An end in words."""
    if row.last_day:
        return say(f"to the end of {row.last_day}")
    return say(f"until {moment(row.until)}" if row.until else "without an end")


def end_day(at: datetime | None) -> str:
    """The last day before an end, where the organisation is."""
    return str(ends_on(at, session.zone())) if at else "–"


def ago(at: datetime | None) -> str:
    """How many days ago."""
    if at is None:
        return say("never")
    days = (datetime.now(UTC) - at).days
    return say("today" if days < 1 else f"{days} d ago")


def reach(value: int | None) -> str:
    """A reach as its word."""
    return say(Reach(value).word) if value else "–"


def severity(value: int) -> Text:
    """A severity as its word, heavier the more it matters."""
    return Text(say(Severity(value).word), style=_SEVERITY_STYLES[value])


def sensitivity(value: int | None) -> str:
    """A sensitivity as its word."""
    return say(SENSITIVITY_WORDS[value]) if value else "–"


def path_in_words(path: schemas.Path) -> str:
    """A path, that it is being ended, and that somebody has left where that does not keep them out."""
    revoking = say(", being revoked") if path.revoking else ""
    left = say("; they have left, but the system may still let them in") if path.left else ""
    return f"{path.words}{revoking}{left}"


def short(ident: object) -> str:
    """An id as it can be typed again: its end, unless whole ids are asked for."""
    return str(ident) if layout.has_ids else str(ident)[-session.REFERENCE :]


def proof(known: str | None, by: str = "") -> str | None:
    """The proof of an end: its mark, its word, and by whom or which system."""
    if known is None:
        return None
    told = say(f"{known} by {by}") if by and known != Proof.UNPROVED else say(known)
    return f"{Proof(known).mark} {told}"
