"""What to do first."""

from __future__ import annotations

import shlex
import time
from datetime import date, datetime

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import reason_option
from openlatch.cli.output import day, out, output_option, severity, short, show_one
from openlatch.client import Client
from openlatch.errors import BadInput

WAIT_SECONDS = 60


@click.group("next", invoke_without_command=True)
@click.option("--limit", "-n", type=click.IntRange(1, 100), default=7, show_default=True, help="How many actions.")
@click.option("--postponed", is_flag=True, help="Also those that you have put off.")
@output_option
@click.pass_context
def next_(context: click.Context, limit: int, postponed: bool, output: str) -> None:
    """The few actions that take away most risk, with the command for each."""
    if context.invoked_subcommand:
        return
    with session.client() as service:
        found = _current(service, limit, postponed)
    show_one(found, output, lambda: _write(found))


@next_.command("postpone")
@click.argument("number", type=click.IntRange(1))
@reason_option(help="Why it can wait.")
@click.option("--until", type=session.LastDay(), prompt="Until (day)", help="Until when.")
def next_postpone(number: int, reason: str, until: date | datetime) -> None:
    """Put action NUMBER of the list off, for yourself, until a day."""
    with session.client() as service:
        actions = service.next_actions(max(7, number)).actions
        if number > len(actions):
            raise BadInput(f"The list has {len(actions)} actions.", "See: openlatch next")
        service.postpone_action(actions[number - 1].key, reason, until)
    out.print(f"Put off: {actions[number - 1].title}.", markup=False)


def _current(service: Client, limit: int, postponed: bool) -> schemas.NextActions:
    """The actions; waits for their effects where these have not been worked out yet, or are about to be."""
    deadline = time.monotonic() + WAIT_SECONDS
    found = service.next_actions(limit, postponed)
    while ((found.as_of is None and found.flags) or found.is_due) and time.monotonic() < deadline:
        time.sleep(1)
        found = service.next_actions(limit, postponed)
    return found


def _write(found: schemas.NextActions) -> None:
    if not found.actions:
        out.print("Nothing to do: no open flag can be cleared by an action.")
        return
    for number, action in enumerate(found.actions, 1):
        gravest = action.clears[0].severity
        out.print(f"{number}.", Text(action.title, style="bold"), severity(gravest), soft_wrap=True)
        for flag in action.clears[:2]:
            out.print(f"   {flag.sentence}", markup=False, soft_wrap=True)
        count = len(action.clears)
        clears = f"Would clear {count} flag{'s' * (count != 1)}."
        out.print(f"   {' '.join([clears, *action.notes])}", markup=False, soft_wrap=True)
        if action.later_until:
            out.print(f"   Put off until {day(action.later_until)}: {action.later_because}", markup=False)
        if command := _command(action):
            out.print(f"   {command}", style="dim", markup=False, soft_wrap=True)
    out.print(_share(found), markup=False, soft_wrap=True)


def _share(found: schemas.NextActions) -> str:
    """How far the actions reach, in a sentence."""
    flags = f"{found.flags} open flags about {found.matters} matters"
    if found.covered < found.flags:
        flags += f"; actions are known for {found.covered}"
    told = [
        f"{count} would clear {share}"
        for count, share in ((found.half, "half of the risk"), (found.nine_tenths, "nine tenths"))
        if count is not None
    ]
    if found.is_due:
        flags += ". Flags have changed since the actions were worked out"
    put_off = f" You have put {found.postponed} off." if found.postponed else ""
    return f"{flags}. Of all actions {', '.join(told)}.{put_off}" if told else f"{flags}.{put_off}"


def _command(action: schemas.NextAction) -> str:
    """The command that shows what an action would do, and asks; empty where the console is needed."""
    grants = " ".join(map(short, action.grants))
    match action.kind:
        case "end":
            return f"openlatch revoke {grants}"
        case "end_sessions":
            return f"openlatch session end {' '.join(map(short, action.sessions))}"
        case "trim" if action.level:
            return f"openlatch trim {grants} --level {short(action.level.id)}"
        case "set_end":
            return f"openlatch trim {grants} --until {action.last_day or action.until}"
        case "record":
            return f"openlatch grant adopt {grants}"
        case "close_exposures":
            return f"openlatch exposure close {' '.join(map(short, action.exposures))}"
        case "accept":
            return f"openlatch flag accept {' '.join(short(flag.id) for flag in action.clears)}"
        case "hand_over" if action.account and action.successor:
            names = (shlex.quote(action.account.name), shlex.quote(action.successor.name))
            return f"openlatch account hand-over {names[0]} --to {names[1]}"
    return ""


COMMANDS = {"next": next_}
