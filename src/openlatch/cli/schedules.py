"""Schedules of reviews."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import click
from rich.text import Text

from openlatch import wire
from openlatch.cli import session
from openlatch.cli.output import Column, moment, out, output_option, show_one
from openlatch.cli.register import list_command

SCHEDULES: list[Column] = [
    ("ID", lambda r: str(r.id)),
    ("Name", lambda r: r.name),
    ("Which grants", lambda r: r.scope or "all"),
    ("Recurs", lambda r: r.recurrence),
    ("From", lambda r: f"{r.starts.replace('T', ' ')} {r.time_zone}"),
    ("State", lambda r: "paused" if r.paused else "on"),
    ("Last time", lambda r: r.answer),
]


@click.group()
def schedule() -> None:
    """Reviews that open by themselves."""


schedule.add_command(list_command("schedules", SCHEDULES, "There is no schedule."))


@schedule.command("make")
@click.argument("name")
@click.option("--scope", default="", help="A filter over grants; left out, all.")
@click.option("--every", "recurrence", required=True, help="month, quarter, half-year, year, or a rule by RFC 5545.")
@click.option("--starts", type=click.DateTime(["%Y-%m-%dT%H:%M", "%Y-%m-%d"]), required=True, help="As clocks show it.")
@click.option("--time-zone", default="", help="Of those clocks; left out, the organisation's.")
@click.option("--days", type=int, default=14, show_default=True, help="Days to decide.")
@click.option("--reviewer", default=None, help="Who decides; left out, each account's owner.")
@click.option("--undecided", type=click.Choice(["keep", "revoke"]), default="keep", help="What becomes of the rest.")
@click.option("--preview", "only_preview", is_flag=True, help="Show the next times, and stop.")
@output_option
def schedule_make(
    name: str, scope: str, recurrence: str, starts: datetime, time_zone: str, days: int, reviewer: str | None,
    undecided: str, only_preview: bool, output: str,
) -> None:  # fmt: skip
    """Have a review open by itself, again and again."""
    with session.client() as service:
        plan = wire.SchedulePlan.model_validate(
            {
                "name": name,
                "scope": scope,
                "recurrence": recurrence,
                "starts": starts,
                "time_zone": time_zone,
                "days_to_decide": days,
                "reviewer": session.find(service, "people", reviewer) if reviewer else None,
                "undecided": undecided,
            }
        )
        if only_preview:
            dates = wire.ScheduleDates(next=list(service.preview_schedule(plan)))
            return show_one(dates, output, lambda: _write_dates(dates.next))
        found = service.make_schedule(plan)
    show_one(found, output, lambda: _write(found))
    return None


@schedule.command("show")
@click.argument("name_or_id")
@output_option
def schedule_show(name_or_id: str, output: str) -> None:
    """A schedule, and when it is due next."""
    with session.client() as service:
        found = service.schedule(session.find(service, "schedules", name_or_id))
    show_one(found, output, lambda: _write(found))


def _pausing(name: str, paused: bool, words: str) -> Any:
    @schedule.command(name, help=words)
    @click.argument("name_or_id")
    def command(name_or_id: str) -> None:
        with session.client() as service:
            found = service.schedule(session.find(service, "schedules", name_or_id))
            kept = found.model_dump(include=set(wire.SchedulePlan.model_fields) - {"reviewer"})
            reviewer = found.reviewer.id if found.reviewer else None
            plan = wire.SchedulePlan.model_validate({**kept, "reviewer": reviewer, "paused": paused})
            _write(service.change_schedule(found.id, plan, found.version))

    return command


_pausing("pause", True, "Open nothing for now.")
_pausing("go-on", False, "Open rounds again; what was due in between is not caught up on.")


def _write(found: wire.SchedulePage) -> None:
    out.print(Text(found.name, style="bold"), found.recurrence, "paused" if found.paused else "")
    out.print(
        f"Over {found.scope or 'all grants'}; {found.days_to_decide} days to decide; {found.rounds} rounds so far"
    )
    if found.answer:
        out.print(f"Last time: {found.answer}")
    _write_dates(found.next)


def _write_dates(dates: list[datetime]) -> None:
    for at in dates:
        out.print(f"  {moment(at)} UTC")


COMMANDS: dict[str, click.Command] = {"schedule": schedule}
