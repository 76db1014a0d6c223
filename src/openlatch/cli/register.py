"""Showing the register."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.output import (
    Column,
    Word,
    ago,
    day,
    end,
    list_options,
    moment,
    out,
    output_option,
    path_in_words,
    proof,
    reach,
    sensitivity,
    severity,
    short,
    show_one,
    show_rows,
    yes,
)
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.languages.terminal import say

ACCOUNTS: list[Column] = [
    ("Name", lambda r: r.name),
    ("System", lambda r: r.system.name),
    ("Sensitivity", lambda r: sensitivity(r.sensitivity)),
    ("Owner", lambda r: r.owner.name if r.owner else None),
    ("Shared by", lambda r: r.holders),
    ("Sessions", lambda r: r.sessions),
    ("Flags", lambda r: r.open_flags),
]
PEOPLE: list[Column] = [
    ("Name", lambda r: r.name),
    ("Address", lambda r: r.address),
    ("Inside", lambda r: yes(r.inside, "outside")),
    ("Standing", lambda r: Word(r.standing if r.recognised else "not recognised")),
    ("Grants", lambda r: r.grants),
    ("Sessions", lambda r: r.sessions),
    ("Flags", lambda r: r.open_flags),
]
GRANTS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Holder", lambda r: r.holder.name),
    ("Account", lambda r: r.account.name),
    ("Level", lambda r: say(f"{r.level} (only {r.part})") if r.part else r.level),
    ("Reach", lambda r: reach(r.reach)),
    ("State", lambda r: Word(r.state, None if r.recorded else "unrecorded")),
    ("Until", end),
    ("Last used", lambda r: ago(r.last_used_at)),
]
APPS: list[Column] = [
    ("Name", lambda r: r.name),
    ("Publisher", lambda r: r.publisher),
    ("Links", lambda r: r.links),
    ("Last used", lambda r: ago(r.last_used_at)),
    ("Flags", lambda r: r.open_flags),
]
SESSIONS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("Who", lambda r: r.holder.name),
    ("Account", lambda r: r.account.name),
    ("Device", lambda r: r.device),
    ("From", lambda r: r.place or r.address),
    ("Started", lambda r: moment(r.started_at)),
    ("Last seen", lambda r: moment(r.last_seen_at)),
    ("Ended", lambda r: proof(r.proof, r.proved_by) or Word(r.ended_as) if r.ended_at else None),
]
TEAMS: list[Column] = [
    ("Name", lambda r: r.name),
    ("Partner", lambda r: yes(r.partner)),
    ("Speaker", lambda r: r.speaker.name if r.speaker else None),
    ("Members", lambda r: r.members),
    ("Grants", lambda r: r.grants),
]
LEVELS: list[Column] = [
    ("ID", lambda r: short(r.id)),
    ("System", lambda r: r.system.name),
    ("Name", lambda r: r.name),
    ("Reach", lambda r: reach(r.reach)),
    ("What it lets one do", lambda r: r.sentence),
]
PATHS: list[Column] = [
    ("Who", lambda p: p.holder.name),
    ("Level", lambda p: p.level),
    ("Reach", lambda p: reach(p.reach)),
    ("Until", end),
    ("Given by", lambda p: p.given_by or (Word(f"recorded by {p.recorded_by}") if p.recorded_by else None)),
    ("Last used", lambda p: ago(p.last_used_at) if p.grant_id else None),
    ("By", path_in_words),
]
REACHES: list[Column] = [("Account", lambda p: p.account.name), *PATHS[1:]]


def rows_of(service: Client, name: str, filter_: str, search: str, sort: str, limit: int) -> Iterator[Any]:
    """The first ``limit`` rows of a list; 0 for all."""
    if limit == 0:
        return service.every(name, filter=filter_, search=search, sort=sort)
    return iter(service.list(name, filter=filter_, search=search, sort=sort, limit=limit).rows)


def kept_filter(service: Client, kind: str, name: str, filter_: str, search: str, sort: str) -> tuple[str, str, str]:
    """A saved filter of a list by its name, combined with other options."""
    fits = [one for one in service.saved_filters(kind) if one.name == name]
    mine = [one for one in fits if one.is_mine] or fits
    if len(mine) != 1:
        raise BadInput(f"{len(mine)} filters over {kind} are called {name!r}.", "Look at: openlatch filter list.")
    both = f"({mine[0].filter}) and ({filter_})" if mine[0].filter and filter_ else mine[0].filter or filter_
    return both, f"{mine[0].search} {search}".strip(), sort or mine[0].sort


def list_command(
    kind: str,
    columns: Sequence[Column],
    empty: str,
    always: str = "",
    note: Callable[[Client], None] = lambda _: None,
) -> click.Command:
    """The command ``list`` of a kind of records; ``always`` is its default filter, and a ``note`` may follow."""

    @click.command("list", help=f"List {kind} that you may see.")
    @click.option("--kept", default="", help="A filter that is kept, by its name.")
    @list_options
    def command(filter_: str, kept: str, search: str, sort: str, limit: int, output: str) -> None:
        with session.client() as service:
            if kept:
                filter_, search, sort = kept_filter(service, kind, kept, filter_, search, sort)
            show_rows(rows_of(service, kind, filter_ or always, search, sort, limit), columns, output, empty)
            note(service)

    return command


@click.command()
@output_option
def today(output: str) -> None:
    """Show what needs your attention today."""
    with session.client() as service:
        found = service.today()
    show_one(found, output, lambda: _write_today(found))


def _write_today(found: schemas.Today) -> None:
    counts = found.flags.by_severity
    out.print(Text(say("Flags"), style="bold"), ", ".join(f"{n} {word}" for word, n in reversed(counts.items())))
    for flag in found.flags.worst:
        out.print("  ", severity(flag.severity), f" {flag.sentence}", sep="")
    out.print(Text(say("To decide"), style="bold"), f"{found.items_to_decide} item{'s' * (found.items_to_decide != 1)}")
    for row in found.rounds:
        out.print(f"  {row.name}: {row.decided} of {row.items} decided, due {day(row.due_at)}")
    if found.exposures.open:
        out.print(
            Text(say("Open to outsiders"), style="bold"),
            f"{found.exposures.open} exposure{'s' * (found.exposures.open != 1)}, "
            f"{found.exposures.unjudged} not judged; anyone can change something by "
            f"{found.exposures.anyone_changes}",
        )
    out.print(Text(say("Revocations"), style="bold"), f"{found.revocations_going_on} going on")
    for revocation in found.revocations:
        out.print(
            f"  {revocation.title}: {revocation.state.replace('_', ' ')}, "
            f"{revocation.steps_done} of {revocation.steps} steps"
        )
    for change in found.changes:
        out.print(
            f"  {change.kind.replace('_', ' ').capitalize()}, asked by {change.asked_by}: "
            f"{change.done} of {change.grants} grants, {change.state.replace('_', ' ')}"
        )
    for system in found.systems_down:
        out.print(Text(f"{system.name} has not answered since {moment(system.down_since)}", style="bold"))


@click.group()
def account() -> None:
    """Shared accounts, and who can reach them."""


@account.command("show")
@click.argument("name_or_id")
@output_option
def account_show(name_or_id: str, output: str) -> None:
    """Show an account, with everyone and everything that can reach it."""
    with session.client() as service:
        found = service.account(session.find(service, "accounts", name_or_id))
    if output == "csv":
        return show_rows(found.paths, PATHS, output, "")
    show_one(found, output, lambda: _write_account(found))
    return None


def _write_account(found: schemas.AccountPage) -> None:
    owner = found.owner.name if found.owner else "nobody"
    out.print(Text(found.name, style="bold"), f"in {found.system.name}; {found.purpose}")
    out.print(
        f"Sensitivity {sensitivity(found.sensitivity)}, owned by {owner}, "
        f"{found.sessions} session{'s' * (found.sessions != 1)}, "
        f"{found.open_flags} open flag{'s' * (found.open_flags != 1)}"
    )
    show_rows(found.paths, PATHS, "table", "Nobody is known to reach it.")
    if found.partial_since:
        out.print("Not all of it could be read: what is not shown may be there.")
    if found.path_count > len(found.paths):
        more = found.path_count - len(found.paths)
        out.print(f"And {more:,} more paths. All of them: openlatch account access {found.name!r}")
    if found.not_in_force:
        out.print("Not in force:")
        show_rows(found.not_in_force, GRANTS, "table", "")


@click.group()
def person() -> None:
    """People, and what they can reach."""


@person.command("show")
@click.argument("name_or_id")
@output_option
def person_show(name_or_id: str, output: str) -> None:
    """Show a person, with everything that they can reach."""
    with session.client() as service:
        found = service.person(session.find(service, "people", name_or_id))
    if output == "csv":
        return show_rows(found.paths, REACHES, output, "")
    show_one(found, output, lambda: _write_person(found))
    return None


def _write_person(found: schemas.PersonPage) -> None:
    where = "inside" if found.inside else "outside"
    standing = found.standing + (f" {found.leaves_on}" if found.leaves_on else "")
    out.print(Text(found.name, style="bold"), f"{found.address or ''} {found.job}; {where}, {standing}")
    if found.teams:
        out.print("Belongs to", ", ".join(team.name for team in found.teams))
    show_rows(found.paths, REACHES, "table", "They can reach nothing.")


@click.group()
def team() -> None:
    """Teams and partner organisations."""


@click.group()
def grant() -> None:
    """Grants."""


@grant.command("show")
@click.argument("ident", type=session.Reference("grants"))
@output_option
def grant_show(ident: UUID, output: str) -> None:
    """Show a grant."""
    with session.client() as service:
        found = service.grant(ident)
    show_rows([found], GRANTS, output, "")


@click.group()
def app() -> None:
    """Connected apps, and their links."""


@app.command("show")
@click.argument("name_or_id")
@output_option
def app_show(name_or_id: str, output: str) -> None:
    """Show an app, with the accounts that it is linked to."""
    with session.client() as service:
        found = service.app(session.find(service, "apps", name_or_id))
    if output == "csv":
        return show_rows(found.grants, GRANTS, output, "")

    def write() -> None:
        out.print(Text(found.name, style="bold"), f"by {found.publisher or 'nobody known'}; {found.purpose}")
        show_rows(found.grants, GRANTS, "table", "It is linked to nothing.")

    show_one(found, output, write)
    return None


@click.group("session")
def session_group() -> None:
    """Sessions."""


@click.group()
def level() -> None:
    """Levels, and what they allow."""


for _group, _kind, _columns, _always in (
    (account, "accounts", ACCOUNTS, ""),
    (person, "people", PEOPLE, ""),
    (team, "teams", TEAMS, ""),
    (grant, "grants", GRANTS, 'state ne "ended"'),
    (app, "apps", APPS, ""),
    (session_group, "sessions", SESSIONS, "not (ended_at pr)"),
    (level, "levels", LEVELS, "single eq false"),
):
    _group.add_command(list_command(_kind, _columns, f"There are no {_kind} like that.", _always))

COMMANDS: dict[str, click.Command] = {
    "today": today,
    "account": account,
    "person": person,
    "team": team,
    "grant": grant,
    "app": app,
    "level": level,
}
