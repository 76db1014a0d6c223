"""Flags."""

from __future__ import annotations

from datetime import date, datetime
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on, reason_option
from openlatch.cli.offers import change, window
from openlatch.cli.output import Column, day, end_day, err, out, output_option, severity, short, show_one
from openlatch.cli.register import list_command
from openlatch.core.counts import counted
from openlatch.core.vocabulary import Subject

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
@click.argument("ident", type=session.Reference("flags"))
@output_option
def flag_show(ident: UUID, output: str) -> None:
    """Show a flag, with the parts of its score."""
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
@click.argument("idents", type=session.Reference("flags"), nargs=-1, required=True)
@reason_option(help="Why they are accepted.")
@click.option("--until", type=session.LastDay(), prompt="Until (day)", help="Until when.")
def flag_accept(idents: tuple[UUID, ...], reason: str, until: date | datetime) -> None:
    """Accept flags until a day. They open again then, or sooner if they get worse."""
    with session.client() as service:
        found = service.accept_flags(idents, reason, until)
    out.print(f"{counted(len(found), 'flag')} accepted until {end_day(found[0].accepted_until)}.")


@flag.command("reopen")
@click.argument("ident", type=session.Reference("flags"))
def flag_reopen(ident: UUID) -> None:
    """Reopen an accepted flag."""
    with session.client() as service:
        service.reopen_flag(ident)
    out.print("It is open again.")


@flag.command("assign")
@click.argument("idents", type=session.Reference("flags"), nargs=-1, required=True)
@click.option("--to", "person", default=None, help="Who sees to them; left out, nobody.")
def flag_assign(idents: tuple[UUID, ...], person: str | None) -> None:
    """Assign flags to somebody."""
    with session.client() as service:
        found = service.assign_flags(idents, session.find(service, "people", person) if person else None)
    who = found[0].assigned_to
    out.print(f"{who.name if who else 'Nobody'} sees to {counted(len(found), 'flag')}.")


@flag.command("remedy")
@click.option("--filter", "-f", "filter_", default="", help='Which open flags, as in: rule eq "holder_left".')
@click.argument("idents", type=session.Reference("flags"), nargs=-1)
@click.option("--until", type=session.LastDay(), default=None, help="Trim those that call for it to this last day.")
@click.option(
    "--level", type=session.Reference("levels"), default=None, help="Trim to this level those that call for it."
)
@reason_option()
@consent_options
def flag_remedy(
    filter_: str,
    idents: tuple[UUID, ...],
    until: date | datetime | None,
    level: UUID | None,
    reason: str,
) -> int:
    """Carry out what flags call for.

    Ends the access or sessions that they are about; with --until or --level, trims the access instead.
    """
    if bool(filter_) == bool(idents):
        raise click.UsageError("Name flags by their ids, or by a filter.")
    if until is not None and level is not None:
        raise click.UsageError("Trim to a last day or to a level, one at a time.")
    with session.client() as service:
        wanted = f'state eq "open" and ({filter_})' if filter_ else ""
        rows = list(service.every("flags", filter=wanted)) if filter_ else [service.flag(i) for i in idents]
        acts = ("revoke", "end_session") if until is None and level is None else ("trim",)
        endable = [row for row in rows if row.act in acts]
        left = len(rows) - len(endable)
        if left:
            err.print(f"{left} of {len(rows)} flags call for something else; they are left alone.")
        grants = [row.subject.id for row in endable if row.subject.kind == Subject.GRANT]
        sessions = [row.subject.id for row in endable if row.subject.kind == Subject.SESSION]
        if not grants and not sessions:
            out.print(f"There is nothing to {'end' if 'revoke' in acts else 'trim'}.")
            return 0
        if "trim" in acts:
            body = {"kind": "set_end" if level is None else "set_level", "grants": list(dict.fromkeys(grants))}
            wish = schemas.ChangeWish.model_validate({**body, "reason": reason, "level": level, **window(until)})
            return change(service, wish, "Trim")
        preview = service.preview(grants=grants, sessions=sessions)

        def write(_: str) -> None:
            out.print(Text(preview.title, style="bold"))
            for row in endable:
                out.print(f"  {row.sentence}", markup=False)

        go_on("Do this?", write)
        made = session.proving(
            service,
            lambda: service.revoke(reason, grants=grants, sessions=sessions, fingerprint=preview.fingerprint),
        )
    out.print(f"On its way: openlatch revocation show {made.id}")
    return 0


COMMANDS = {"flag": flag}
