"""Review rounds."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

import click
from rich.text import Text

from openlatch import wire
from openlatch.cli import session
from openlatch.cli.output import Column, day, moment, out, output_option, reach, show_one, show_rows
from openlatch.cli.register import list_command
from openlatch.errors import BadInput

ROUNDS: list[Column] = [
    ("ID", lambda r: str(r.id)),
    ("Name", lambda r: r.name),
    ("Decided", lambda r: f"{r.decided} of {r.items}"),
    ("Due", lambda r: day(r.due_at)),
    ("State", lambda r: f"closed {day(r.closed_at)}" if r.closed_at else "open"),
]
ITEMS: list[Column] = [
    ("No", lambda i: i.position),
    ("Holder", lambda i: i.facts["holder"]["name"]),
    ("Account", lambda i: i.facts["account"]["name"]),
    ("Level", lambda i: i.facts["level"]),
    ("Reach", lambda i: reach(i.facts["reach"])),
    ("Flags", lambda i: len(i.facts["flags"])),
    ("Reviewer", lambda i: i.reviewer.name if i.reviewer else "nobody"),
    ("Decision", lambda i: i.verdict),
    ("Reason", lambda i: i.reason),
]


@click.group("round")
def round_group() -> None:
    """Review rounds."""


round_group.add_command(list_command("rounds", ROUNDS, "There is no round."))


@round_group.command("open")
@click.argument("name")
@click.option("--scope", default="", help="A filter over grants, as in: account.sensitivity ge 3.")
@click.option("--days", default=14, show_default=True, help="Days to decide.")
@click.option("--reviewer", default="", help="Who decides; left out, each account's owner.")
@click.option("--at-close", is_flag=True, help="Carry decisions out at the close instead of at once.")
@output_option
def round_open(name: str, scope: str, days: int, reviewer: str, at_close: bool, output: str) -> None:
    """Open a round over the live grants that a filter matches."""
    with session.client() as service:
        person = session.find(service, "people", reviewer) if reviewer else None
        found = service.open_round(name, scope, days, person, "at_close" if at_close else "when_decided")
    show_one(found, output, lambda: _write_round(found))


def _write_round(found: wire.RoundPage) -> None:
    out.print(Text(found.name, style="bold"), str(found.id))
    state = f"closed {moment(found.closed_at)}" if found.closed_at else f"due {moment(found.due_at)}"
    out.print(f"{found.decided} of {found.items} decided ({found.kept} kept, {found.trimmed} trimmed, "
              f"{found.revoked} revoked); {state}")  # fmt: skip
    for reviewer in found.reviewers:
        out.print(f"  {reviewer.name or 'nobody yet'}: {reviewer.decided} of {reviewer.items}, {reviewer.kept} kept")


@round_group.command("show")
@click.argument("ident", type=click.UUID)
@output_option
def round_show(ident: UUID, output: str) -> None:
    """A round with its progress."""
    with session.client() as service:
        found = service.round(ident)
    show_one(found, output, lambda: _write_round(found))


@round_group.command("items")
@click.argument("ident", type=click.UUID)
@click.option("--undecided", is_flag=True, help="Only those without a decision.")
@output_option
def round_items(ident: UUID, undecided: bool, output: str) -> None:
    """The items of a round that are yours to decide; all of them for administrators."""
    with session.client() as service:
        rows = list(service.items(ident, filter="not (verdict pr)" if undecided else ""))
    show_rows(rows, ITEMS, output, "There is nothing to decide.")


@round_group.command("decide")
@click.argument("ident", type=click.UUID)
@click.argument("number", type=int)
@click.argument("verdict", type=click.Choice(["keep", "trim", "revoke"]))
@click.option("--reason", default="", help="Why.")
@click.option("--level", type=click.UUID, default=None, help="The lower level that a trim leaves.")
@click.option("--until", type=session.Day(), default=None, help="The earlier end that a trim sets.")
@click.option("--yes", is_flag=True, help="Do not ask.")
def round_decide(
    ident: UUID, number: int, verdict: str, reason: str, level: UUID | None, until: datetime | None, yes: bool
) -> None:
    """Decide item NUMBER of a round."""
    with session.client() as service:
        items = list(service.items(ident, filter=f"position eq {number}"))
        if not items:
            raise BadInput(f"The round has no item {number} of yours.", f"Look at: openlatch round items {ident}")
        facts = items[0].facts
        what = f"{verdict} “{facts['level']}” of {facts['holder']['name']} on {facts['account']['name']}"
        if verdict != "keep" and not yes:
            click.confirm(f"{what}?", abort=True)
        found = service.decide(items[0], verdict, reason, level, until)
    out.print(f"Decided: {what}.")
    if found.revocation_id:
        out.print(f"It is being carried out: openlatch revocation show {found.revocation_id}")


@round_group.command("close")
@click.argument("ident", type=click.UUID)
@click.option(
    "--undecided", type=click.Choice(["keep", "revoke"]), default=None, help="What becomes of undecided items."
)
@click.option("--yes", is_flag=True, help="Do not ask.")
def round_close(ident: UUID, undecided: str | None, yes: bool) -> None:
    """Close a round. Nothing in it can change afterwards."""
    with session.client() as service:
        before = service.round(ident)
        left = before.items - before.decided
        if not yes:
            click.confirm(
                f"Close “{before.name}” with {before.decided} decided and {left} undecided items?", abort=True
            )
        found = service.close_round(ident, undecided or "")
    _write_round(found)


COMMANDS = {"round": round_group}
