"""Who can do what: now, at any instant, and after supposed changes; use, the map, expiry dates."""

from __future__ import annotations

import json
from datetime import datetime
from functools import partial
from typing import IO
from uuid import UUID

import click
from pydantic import TypeAdapter, ValidationError
from rich import box
from rich.table import Table
from rich.text import Text

from openlatch import schemas
from openlatch.cli import offers, session
from openlatch.cli.output import (
    Column,
    Command,
    OptionValue,
    Word,
    day,
    end,
    out,
    output_option,
    path_in_words,
    reach,
    show_one,
    show_rows,
    table_options,
    yes,
)
from openlatch.cli.register import REACHES, account, grant, person
from openlatch.client import Client
from openlatch.json_values import JsonList, JsonObject

INSTANT = session.Instant(is_past=True)
EVERYONE: list[Column] = [
    ("Who", lambda p: p.holder.name),
    ("Level", lambda p: p.level),
    ("Reach", lambda p: reach(p.reach)),
    ("Until", end),
    ("By which path", path_in_words),
]
SHIFTS: list[Column] = [
    ("Who", lambda s: s.holder.name),
    ("Account", lambda s: s.account.name),
    ("Gains", lambda s: _told(s.gained, s.owns_now and not s.owned_before)),
    ("Loses", lambda s: _told(s.lost, s.owned_before and not s.owns_now)),
    ("", lambda s: "loses the last path" if s.last_path_lost else "gets in" if s.first_path_gained else ""),
]
ENDS: list[Column] = [
    ("Day", lambda d: d.day),
    ("Grants", lambda d: d.grants or ""),
    ("People leave", lambda d: d.people or ""),
    ("Offers", lambda d: d.offers or ""),
    ("Reviews due", lambda d: d.rounds or ""),
    ("What", lambda d: ", ".join(d.names)),
]
RIGHTS: list[Column] = [
    ("Permission", lambda r: r.key),
    ("Says", lambda r: r.sentence),
    ("Days used", lambda r: r.days_used),
    ("Last used", lambda r: r.last_used.isoformat() if r.last_used else Word("never")),
    ("Within", lambda r: yes(r.within)),
]


def _told(permissions: JsonList, owns: bool) -> str:
    return ", ".join([*(["owning it"] if owns else []), *(p.sentence for p in permissions)])


def when_options(command: Command) -> Command:
    """The options of commands about an instant."""
    for option in (
        click.option("--at", type=INSTANT, help="At this instant; left out, now. A day means its first moment."),
        click.option("--believed", type=INSTANT, help="As it was known at this instant."),
        click.option("--permission", default="", help="Only who can do this one thing, by its key."),
        click.option("--shortest", is_flag=True, help="Only the shortest path of each."),
        click.option("--limit", type=click.IntRange(1), help="So many paths at most, the shortest first."),
    ):
        command = option(command)
    return command


def _question(
    at: datetime | None, believed: datetime | None, permission: str, shortest: bool, limit: int | None
) -> JsonObject:
    about = {"permission": permission, "shortest": shortest, "limit": limit}
    return {"at": at, "believed": believed, **about}


def _show(found: schemas.Paths, columns: list[Column], output: str, empty: str) -> None:
    """Paths, followed by ended access whose end is not proved."""
    if found.paths or output != "table" or not found.ended:
        show_rows(found.paths, columns, output, empty)
    for sentence in found.ended if output == "table" else ():
        out.print(sentence, markup=False)


@click.command("paths")
@click.argument("person_name")
@click.argument("account_name")
@when_options
@table_options
def who_can(person_name: str, account_name: str, output: str, **when: OptionValue) -> None:
    """Show the paths by which a person can act in an account, now or at any instant."""
    with session.client() as service:
        found = service.access(
            session.find(service, "people", person_name),
            session.find(service, "accounts", account_name),
            **_question(**when),
        )
    _show(found, REACHES, output, "No path is known by which they can.")


@account.command("access")
@click.argument("name_or_id")
@when_options
@table_options
def account_access(name_or_id: str, output: str, **when: OptionValue) -> None:
    """Show everyone who can act in an account, with the path."""
    with session.client() as service:
        found = service.account_access(session.find(service, "accounts", name_or_id), **_question(**when))
    _show(found, EVERYONE, output, "Nobody can.")


@person.command("access")
@click.argument("name_or_id")
@when_options
@table_options
def person_access(name_or_id: str, output: str, **when: OptionValue) -> None:
    """Show everything that a person can act in, with the path."""
    with session.client() as service:
        found = service.person_access(session.find(service, "people", name_or_id), **_question(**when))
    _show(found, REACHES, output, "They can act in nothing.")


@account.command("matrix")
@click.argument("name_or_id")
@when_options
@output_option
def account_matrix(name_or_id: str, output: str, **when: OptionValue) -> None:
    """Show everyone in an account against everything that can be done there."""
    with session.client() as service:
        found = service.matrix(session.find(service, "accounts", name_or_id), **_question(**when))
    columns: list[Column] = [("Who", lambda r: r.holder.name), ("Owner", lambda r: yes(r.owner, ""))]
    columns += [(p.key, partial(_mark, p.key)) for p in found.permissions]
    if output == "json":
        print(found.model_dump_json(indent=2))
    else:
        show_rows(found.rows, columns, output, "Nobody can.")


def _mark(key: str, row: schemas.MatrixRow) -> Word:
    return yes(key in row.whole, "part" if key in row.partly else "")


@account.command("difference")
@click.argument("name_or_id")
@click.argument("one", type=INSTANT)
@click.argument("other", type=INSTANT)
@click.option("--believed", type=INSTANT, help="As it was known at this instant.")
@table_options
def account_difference(name_or_id: str, one: datetime, other: datetime, believed: datetime | None, output: str) -> None:
    """Show whose rights differ between two times."""
    with session.client() as service:
        ident = session.find(service, "accounts", name_or_id)
        found = service.difference(ident, one, other, believed)
    show_rows(found, SHIFTS, output, "Nobody's rights differ.")


@click.command("what-if")
@click.argument("file", type=click.File())
@output_option
def what_if(file: IO[str], output: str) -> None:
    """Show what changes would do to who can do what. FILE is a JSON list; - reads standard input.

    Each is an object with a kind: give, end, suspend, resume, level, join, leave, left, back, owner or latch. People,
    teams, accounts and levels can be given by name.
    """
    with session.client() as service:
        found = service.suppose(_changes(service, file.read()))

    def write() -> None:
        show_rows(found.shifts, SHIFTS, "table", "Nobody's rights would change.")
        for breach in found.breaches:
            out.print(f"Breaks “{breach.latch}”: {breach.fact}", markup=False)

    show_rows(found.shifts, SHIFTS, "csv", "") if output == "csv" else show_one(found, output, write)


_KINDS = {"account": "accounts", "team": "teams", "person": "people", "level": "levels"}


def _changes(service: Client, text: str) -> list[schemas.SupposedChange]:
    try:
        rows = json.loads(text)
        for row in rows:
            for name, kind in _KINDS.items():
                if row.get(name):
                    row[name] = str(session.find(service, kind, row[name]))
            if isinstance(row.get("holder"), dict) and "id" not in row["holder"]:
                held = row["holder"]
                (kind, name), *_ = held.items()
                row["holder"] = {"kind": kind, "id": str(session.find(service, _plural(kind), name))}
        return TypeAdapter(list[schemas.SupposedChange]).validate_python(rows)
    except (json.JSONDecodeError, ValidationError, AttributeError, TypeError, ValueError) as error:
        raise click.BadParameter(f"The file can't be read: {error}", param_hint="FILE") from None


def _plural(kind: str) -> str:
    return {"person": "people"}.get(kind, f"{kind}s")


@grant.command("use")
@click.argument("ident", type=session.Reference("grants"))
@click.option("--days", default=180, show_default=True, help="Over how many days.")
@output_option
def grant_use(ident: UUID, days: int, output: str) -> None:
    """Show the use of a grant by permission, and the smallest level that would cover it."""
    with session.client() as service:
        found = service.use(ident, days)
    if output == "csv":
        return show_rows(found.rights, RIGHTS, output, "")

    def write() -> None:
        show_rows(found.rights, RIGHTS, "table", "It gives nothing.")
        out.print(f"Used on {found.days_used} days, last {day(found.last_used_at)}. {found.words}")
        if found.level is not None:
            out.print(Text(f"“{found.level.name}” would have been enough", style="bold"), f"({found.sure} % sure);")
            out.print(f"it gives up: {', '.join(found.gives_up)}.")
        else:
            out.print("No smaller level would do.")

    return show_one(found, output, write)


@click.command("map")
@output_option
def risk_map(output: str) -> None:
    """Show all live grants by danger and by how long they went unused."""
    with session.client() as service:
        found = service.risk_map()
    if output == "json":
        print(found.model_dump_json(indent=2))
        return
    counts = {(cell.danger, cell.idle): cell.count for cell in found.cells}
    if output == "csv":
        print("danger,unused,grants")
        for (danger, idle), count in sorted(counts.items()):
            print(f"{found.dangers[danger]},{found.idles[idle]},{count}")
        return
    table = Table("Danger", *(f"used {n}" if n != "never" else "never used" for n in found.idles), box=box.SIMPLE_HEAD)
    for danger in range(len(found.dangers) - 1, -1, -1):
        table.add_row(found.dangers[danger], *(str(counts.get((danger, i), "–")) for i in range(len(found.idles))))
    out.print(table)


@click.command("ends")
@click.option("--since", type=session.Instant(is_past=False), help="From this day; left out, today.")
@click.option("--months", default=3, show_default=True, help="For how many months.")
@table_options
def ends(since: datetime | None, months: int, output: str) -> None:
    """Show what ends on each day: grants, people who leave, offers, reviews that are due."""
    with session.client() as service:
        found = service.ends(since, months)
    show_rows(found.days, ENDS, output, "Nothing ends in that time.")


COMMANDS: dict[str, click.Command] = {
    **offers.COMMANDS,
    "person": person,
    "paths": who_can,
    "what-if": what_if,
    "map": risk_map,
    "ends": ends,
}
