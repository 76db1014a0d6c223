"""Tasks to do by hand in systems that Open Latch can't change."""

from __future__ import annotations

from uuid import UUID

import click

from openlatch.cli import session
from openlatch.cli.output import Column, Word, moment, output_option, short, show_rows
from openlatch.cli.register import list_command
from openlatch.languages.terminal import say

TASKS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("What", lambda r: r.sentence),
    ("Who", lambda r: r.assigned_to.name if r.assigned_to else Word("whoever answers for it")),
    ("Asked", lambda r: moment(r.asked_at)),
    ("State", lambda r: say(f"done, says {r.done_by}: {r.words}") if r.done_by else Word(r.state)),
]


@click.group()
def task() -> None:
    """Tasks to do by hand: access to give, change or remove in systems that Open Latch can't change."""


task.add_command(list_command("tasks", TASKS, "There is nothing to be done by hand."))


@task.command("done")
@click.argument("ident", type=session.Reference("tasks"))
@click.option("--words", prompt="What you did", help="What you did, in your own words.")
@output_option
def task_done(ident: UUID, words: str, output: str) -> None:
    """Mark a task as done; the register records it as your statement."""
    with session.client() as service:
        show_rows([service.task_done(ident, words)], TASKS, output, "")


@task.command("assign")
@click.argument("ident", type=session.Reference("tasks"))
@click.option("--to", default=None, help="Who does it; left out, whoever answers for the account.")
@output_option
def task_assign(ident: UUID, to: str | None, output: str) -> None:
    """Assign a task to somebody, who is notified."""
    with session.client() as service:
        person = session.find(service, "people", to) if to else None
        show_rows([service.assign_task(ident, person)], TASKS, output, "")


COMMANDS: dict[str, click.Command] = {"task": task}
