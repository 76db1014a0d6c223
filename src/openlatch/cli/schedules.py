"""Schedules of reviews, and their options."""

from __future__ import annotations

import functools
from datetime import datetime
from typing import Any, cast

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import renamed, session
from openlatch.cli.consent import only_preview, preview_option
from openlatch.cli.output import Column, Command, Word, moment, out, output_option, short, show_one, show_rows
from openlatch.cli.register import list_command
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.languages.terminal import say

REACHES = ("observe", "operate", "spend", "steward")
FATES = ("keep", "suspend", "revoke")
COVERS = ("grant", "link", "session", "exposure", "ownership", "latch", "acceptance")
EVENTS = ("person_leaves", "person_moves", "app_grows", "more_sensitive", "emergency_ended")

SCHEDULES: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Name", lambda r: r.name),
    ("Covers", lambda r: Word(*r.covers)),
    ("Filter", lambda r: r.scope or Word("all")),
    ("Opens", lambda r: _opens(r)),
    ("State", lambda r: Word("paused" if r.paused else "on")),
    ("Last time", lambda r: r.answer),
]


def _opens(row: schemas.ScheduleRow) -> str:
    parts = [f"{row.recurs}, {say('from')} {row.starts.replace('T', ' ')} {row.time_zone}"] if row.recurrence else []
    return "; ".join([*parts, *(say(event.replace("_", " ")) for event in row.events)])


def review_options(command: Command) -> Command:
    """The options by which a review says how it goes. They come as ``review``: the fields of a plan."""

    @click.option("--scope", default="", help="A filter over what it covers, as in: account.sensitivity ge 3.")
    @click.option("--covers", type=click.Choice(COVERS), multiple=True, help="What it covers; grants and links.")
    @click.option("--days", type=int, default=14, show_default=True, help="Days to decide.")
    @click.option(
        "--reviewer",
        "line",
        multiple=True,
        metavar="WHO",
        help="Who is asked, in this order: owner, manager, team:NAME, or a person; KIND=WHO for accounts of a kind. "
        "After them come the account's owner and the administrators.",
    )
    @click.option("--at-close", is_flag=True, help="Carry decisions out at the close instead of at once.")
    @click.option("--second-from", type=click.IntRange(1, 4), help="Flags of this severity need a second reviewer.")
    @click.option("--remind", type=int, multiple=True, help="Days before it is due; may be given again.")
    @click.option("--closes-after", type=int, help="Close by itself so many days after it is due.")
    @click.option(
        "--undecided",
        multiple=True,
        metavar="FATE",
        help="What becomes of undecided items: keep, suspend or revoke; REACH=FATE for one reach.",
    )
    @functools.wraps(command)
    def wrapped(
        scope: str,
        covers: tuple[str, ...],
        days: int,
        line: tuple[str, ...],
        at_close: bool,
        second_from: int | None,
        remind: tuple[int, ...],
        closes_after: int | None,
        undecided: tuple[str, ...],
        **kwargs: object,
    ) -> Any:
        review = {
            "scope": scope,
            "covers": list(covers) or ["grant", "link"],
            "days_to_decide": days,
            "reviewers": line,
            "acts": "at_close" if at_close else "when_decided",
            "second_from": second_from,
            "reminders": list(remind),
            "closes_after": closes_after,
            "undecided": fates(undecided),
        }
        return command(review=review, **kwargs)

    return cast(Command, wrapped)


def fates(given: tuple[str, ...]) -> dict[str, str] | None:
    """What becomes of undecided items, from options like ``keep`` and ``spend=revoke``; None for none."""
    found: dict[str, str] = {}
    for one in given:
        reach, _, fate = one.rpartition("=")
        if fate not in FATES or (reach and reach not in REACHES):
            raise BadInput(f"{one!r} can't become of undecided items.", "Use keep, suspend, revoke, or REACH=FATE.")
        found |= {reach: fate} if reach else dict.fromkeys(REACHES, fate)
    return found or None


def line_of(service: Client, given: tuple[str, ...]) -> list[JsonObject]:
    """Who is asked, in order, from options like ``manager``, ``team:Wardens`` and ``mailbox=Ines Calder``."""
    found = []
    for one in given:
        kind, _, who = one.rpartition("=")
        if who in ("owner", "manager"):
            place: JsonObject = {"kind": who}
        elif who.startswith("team:"):
            place = {"kind": "team", "id": session.find(service, "teams", who.removeprefix("team:"))}
        else:
            place = {"kind": "person", "id": session.find(service, "people", who)}
        found.append({**place, "account_kind": kind})
    return found


@click.group()
def schedule() -> None:
    """Reviews that open on a schedule."""


schedule.add_command(list_command("schedules", SCHEDULES, "There is no schedule."))


@schedule.command("make")
@click.argument("name")
@review_options
@click.option(
    "--every",
    "recurrence",
    default="",
    help="month, quarter, half-year, year, sensitivity (the more sensitive the more often), or a rule by RFC 5545.",
)
@click.option("--starts", type=session.ClockTime(is_past=False), default=None, help="As clocks show it.")
@click.option("--time-zone", default="", help="Of those clocks; left out, the organisation's.")
@click.option("--when", "events", type=click.Choice(EVENTS), multiple=True, help="What opens a small round of its own.")
@preview_option
@output_option
def schedule_make(
    name: str,
    review: JsonObject,
    recurrence: str,
    starts: datetime | None,
    time_zone: str,
    events: tuple[str, ...],
    output: str,
) -> None:
    """Schedule a review: recurring, or on events."""
    with session.client() as service:
        plan = schemas.SchedulePlan.model_validate(
            {
                **review,
                "name": name,
                "reviewers": line_of(service, review["reviewers"]),
                "undecided": review["undecided"] or {},
                "recurrence": recurrence,
                "starts": starts,
                "time_zone": time_zone,
                "events": list(events),
            }
        )
        if only_preview():
            dates = schemas.ScheduleDates(next=list(service.preview_schedule(plan)))
            return show_one(dates, output, lambda: _write_dates(dates.next))
        if recurrence == "sensitivity":
            return show_rows(service.make_schedules(plan), SCHEDULES, output, "")
        found = service.make_schedule(plan)
    show_one(found, output, lambda: _write(found))
    return None


@schedule.command("show")
@click.argument("name_or_id")
@output_option
def schedule_show(name_or_id: str, output: str) -> None:
    """Show a schedule, and when it is due next."""
    with session.client() as service:
        found = service.schedule(session.find(service, "schedules", name_or_id))
    show_one(found, output, lambda: _write(found))


def _pausing(name: str, paused: bool, words: str) -> Any:
    @schedule.command(name, help=words)
    @click.argument("name_or_id")
    def command(name_or_id: str) -> None:
        with session.client() as service:
            found = service.schedule(session.find(service, "schedules", name_or_id))
            kept = found.model_dump(include=set(schemas.SchedulePlan.model_fields))
            plan = schemas.SchedulePlan.model_validate({**kept, "starts": found.starts or None, "paused": paused})
            _write(service.change_schedule(found.id, plan, found.version))

    return command


_pausing("pause", True, "Open nothing for now.")
_pausing("resume", False, "Open rounds again; those that were due meanwhile are skipped.")


def _write(found: schemas.SchedulePage) -> None:
    out.print(Text(found.name, style="bold"), _opens(found), "paused" if found.paused else "")
    out.print("Covers:", f"{Word(*found.covers).said()};", found.scope or "all of them", markup=False)
    out.print(f"Days to decide: {found.days_to_decide}; rounds so far: {found.rounds}")
    fates = [f"{say(reach)}: {say(found.undecided[reach])}" for reach in REACHES if reach in found.undecided]
    out.print("Undecided:", ", ".join(fates))
    if found.answer:
        out.print(f"Last time: {found.answer}")
    _write_dates(found.next)


def _write_dates(dates: list[datetime]) -> None:
    for at in dates:
        out.print(f"  {moment(at)} {session.zone().key}")


renamed.keep(schedule, "go-on", "resume")

COMMANDS: dict[str, click.Command] = {"schedule": schedule}
