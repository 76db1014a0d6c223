"""Figures over time."""

from __future__ import annotations

from datetime import date

import click

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.output import Column, Word, day, out, output_option, show_one, show_rows
from openlatch.core.trends import Span

Point = schemas.TrendPoint


def _known(count: int | None) -> object:
    return "?" if count is None else count


def _took(value: float | None, unit: str, count: int) -> str:
    return f"{value:.1f} {unit} ({count})" if value is not None else "–"


def _unrecorded(point: Point) -> object:
    return _known(None if point.unrecorded is None else sum(one.count for one in point.unrecorded))


COLUMNS: list[Column] = [
    ("To", lambda p: str(p.last)),
    ("Risk", lambda p: _known(p.risk)),
    ("Flags", lambda p: _known(p.flags)),
    ("Ended in", lambda p: _took(p.departure_days, "d", p.departures_over)),
    ("Confirmed", lambda p: _took(p.confirm_hours, "h", p.confirmed)),
    ("Reviewed", lambda p: Word(f"{p.decided_in_time} of {p.due_items}") if p.due_items else None),
    ("Exposed", lambda p: _known(p.exposures)),
    ("Unrecorded", _unrecorded),
]


@click.group("trends", invoke_without_command=True)
@click.option("--since", type=session.PastDay(), default=None, help="A day of the first period.")
@click.option("--until", type=session.PastDay(), default=None, help="A day of the last period; today if left out.")
@click.option(
    "--span",
    type=click.Choice([span.value for span in Span]),
    default="week",
    show_default=True,
    help="How long each is.",
)
@click.option("--moves", is_flag=True, help="Also what moved the figures.")
@output_option
@click.pass_context
def trends(
    context: click.Context, since: date | None, until: date | None, span: schemas.TrendSpan, moves: bool, output: str
) -> None:
    """Show figures over time: risk, departures, revocations, reviews, exposures, unrecorded access."""
    if context.invoked_subcommand:
        return
    with session.client() as service:
        if output == "csv":
            print(service.trends_csv(since, until, span), end="")
            return
        found = service.trends(since, until, span)
    show_one(found, output, lambda: _write(found, moves))


@trends.command("letter")
@click.argument("how", type=click.Choice(["monthly", "never"]))
def trends_letter(how: str) -> None:
    """Get the figures of each month by mail, or not."""
    with session.client() as service:
        service.want_trends(how == "monthly")
    out.print("The letter comes in the first days of each month." if how == "monthly" else "The letter is off.")


def _write(found: schemas.Trends, moves: bool) -> None:
    show_rows(found.points, COLUMNS, "table", "")
    if found.known_since:
        out.print(f"The journal begins on {day(found.known_since)}; of the time before nothing is known (?).")
    out.print(
        "Ended in: days from departure until all is confirmed as gone. Confirmed: hours from revoking to confirmed."
        " Both are medians, with how many. Reviewed: items decided by the due date."
    )
    for point in found.points if moves else ():
        if point.moves:
            out.print(f"\n{point.first} to {point.last}", style="bold")
        for move in point.moves:
            out.print(f"  {move.sentence}", markup=False, soft_wrap=True)


COMMANDS: dict[str, click.Command] = {"trends": trends}
