"""Output: readable tables on a terminal, JSON and CSV for programs."""

from __future__ import annotations

import csv
import functools
import json
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, date, datetime
from typing import Any, Protocol, TypeVar, cast

import click
from pydantic import BaseModel
from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from openlatch.cli import session
from openlatch.core.files.csv_safety import guarded
from openlatch.core.time_windows import ends_on
from openlatch.core.vocabulary import SENSITIVITY_WORDS, Proof, Reach, Severity

Command = TypeVar("Command", bound=Callable[..., object])
# What an option holds once Click has read it, and what a column shows of a row: each knows its own.
OptionValue = Any
Column = tuple[str, Callable[[Any], OptionValue]]
out = Console(highlight=False, soft_wrap=not sys.stdout.isatty())
err = Console(stderr=True, highlight=False)

_SEVERITY_STYLES = {1: "dim", 2: "", 3: "bold", 4: "bold reverse"}


def output_option(command: Command) -> Command:
    """The option ``--output`` that every command has which shows something."""
    return click.option(
        "--output",
        "-o",
        type=click.Choice(["table", "json", "csv"]),
        default="table",
        envvar="OPENLATCH_OUTPUT",
        show_default=True,
        help="How to show it.",
    )(command)


def list_options(command: Command) -> Command:
    """The options that every list has."""

    @click.option("--filter", "-f", "filter_", default="", help='A filter, as in: state eq "active".')
    @click.option("--search", "-s", default="", help="Words that have to occur.")
    @click.option("--sort", default="", help="An attribute to sort by; - before it for the other way round.")
    @click.option("--limit", "-n", default=50, show_default=True, help="How many rows; 0 for all.")
    @output_option
    @functools.wraps(command)
    def wrapped(*args: object, **kwargs: object) -> object:
        return command(*args, **kwargs)

    return cast(Command, wrapped)


def show_rows(rows: Iterable[BaseModel], columns: Sequence[Column], output: str, empty: str) -> None:
    """Rows as a table of these columns, or whole as JSON, or these columns as CSV."""
    if output == "json":
        print(json.dumps([row.model_dump(mode="json") for row in rows], indent=2, ensure_ascii=False))
    elif output == "csv":
        _write_csv(rows, columns)
    else:
        _write_table(list(rows), columns, empty)


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
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold")
    for name, _ in columns:
        table.add_column(name, overflow="fold", no_wrap=name in ("ID", "Last used", "Until", "When"))
    for row in rows:
        table.add_row(*(_cell(value(row)) for _, value in columns))
    out.print(table)


def _cell(value: object) -> Text:
    if isinstance(value, Text):
        return value
    if isinstance(value, datetime):
        return Text(day(value))
    return Text("–" if value in (None, "") else str(value))


def show_one(row: BaseModel, output: str, write: Callable[[], None]) -> None:
    """One thing whole as JSON, else as ``write`` writes it."""
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
    """The end of something, to be shown in a column: its last day, or the instant."""
    return row.last_day or row.until


def write_end(row: Ending) -> str:
    """An end in words."""
    if row.last_day:
        return f"to the end of {row.last_day}"
    return f"until {moment(row.until)}" if row.until else "without an end"


def end_day(at: datetime | None) -> str:
    """The last day before an end, where the organisation is."""
    return str(ends_on(at, session.zone())) if at else "–"


def ago(at: datetime | None) -> str:
    """How many days ago."""
    if at is None:
        return "never"
    days = (datetime.now(UTC) - at).days
    return "today" if days < 1 else f"{days} d ago"


def reach(value: int | None) -> str:
    """A reach as its word."""
    return Reach(value).word if value else "–"


def severity(value: int) -> Text:
    """A severity as its word, heavier the more it matters."""
    return Text(Severity(value).word, style=_SEVERITY_STYLES[value])


def sensitivity(value: int | None) -> str:
    """A sensitivity as its word."""
    return SENSITIVITY_WORDS[value] if value else "–"


def short(ident: object) -> str:
    """An id as it can be typed again."""
    return str(ident)


def proof(known: str | None, by: str = "") -> str | None:
    """How an end is known: its mark, the word, and by whom or which system; what is unproved is known by nobody."""
    if known is None:
        return None
    by = "" if known == Proof.UNPROVED else by
    return f"{Proof(known).mark} {known}{f' by {by}' if by else ''}"
