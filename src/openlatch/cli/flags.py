"""Flags."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

import click
from rich.text import Text

from openlatch.cli import session
from openlatch.cli.output import Column, day, out, output_option, severity, short, show_one
from openlatch.cli.register import list_command

FLAGS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Severity", lambda r: severity(r.severity)),
    ("Score", lambda r: r.score),
    ("State", lambda r: r.state),
    ("Why", lambda r: r.sentence),
]


@click.group()
def flag() -> None:
    """What is stale or risky."""


flag.add_command(list_command("flags", FLAGS, "No flag is open.", 'state eq "open"'))


@flag.command("show")
@click.argument("ident", type=click.UUID)
@output_option
def flag_show(ident: UUID, output: str) -> None:
    """A flag, with its facts and the parts of its score."""
    with session.client() as service:
        found = service.flag(ident)

    def write() -> None:
        out.print(severity(found.severity), Text(found.title, style="bold"), f"({found.state})")
        out.print(found.sentence)
        parts = ", ".join(f"{name} {points}" for name, points in found.parts.items())
        out.print(f"Score {found.score}: {parts}")
        out.print(f"Remedy: {found.remedy}")
        out.print(f"Raised {day(found.raised_at)} on {found.subject.kind} {found.subject.id}")

    show_one(found, output, write)


@flag.command("accept")
@click.argument("ident", type=click.UUID)
@click.option("--reason", prompt="Why", help="Why it is accepted.")
@click.option("--until", type=session.Day(), prompt="Until (day)", help="Until when.")
def flag_accept(ident: UUID, reason: str, until: datetime) -> None:
    """Accept a flag until a day; then it opens again."""
    with session.client() as service:
        found = service.accept_flag(ident, reason, until)
    out.print(f"Accepted until {day(found.accepted_until)}.")


COMMANDS = {"flag": flag}
