"""Records: the same commands for people, teams, accounts, resources, and apps."""

from __future__ import annotations

import csv
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from typing import IO

import click
from pydantic import ValidationError

from openlatch import schemas
from openlatch.cli import access, latches, register, search, session, settings
from openlatch.cli.consent import consent_options, go_on, only_preview
from openlatch.cli.output import Column, Command, OptionValue, Word, err, out, output_option, show_one, show_rows, yes
from openlatch.cli.session import Answer
from openlatch.client import Client
from openlatch.core.vocabulary import SENSITIVITY_WORDS
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.languages.terminal import say


@dataclass(frozen=True, slots=True)
class Option:
    """An option of a form: the field that it sets, how it is parsed, and its help."""

    field: str
    read: str
    about: str

    @property
    def name(self) -> str:
        """Its name on the command line."""
        return "--" + self.field.removesuffix("s" if self.read in _MANY else "").removesuffix(
            "e" if self.field in ("other_addresses",) else ""
        ).replace("_", "-")


# Types of options that can be repeated.
_MANY = ("texts", "marks", "logins", "resources")
TEXT, FLAG, DAY, SENSITIVITY = "text", "flag", "day", "sensitivity"
OPTIONS: dict[str, tuple[Option, ...]] = {
    "people": (
        Option("address", TEXT, "Where mail goes to."),
        Option("other_addresses", "texts", "Another address."),
        Option("job", TEXT, "What they do."),
        Option("inside", FLAG, "Whether they are inside the trust boundary."),
        Option("standing", TEXT, "current, leaving or left."),
        Option("leaves_on", DAY, "Their last day."),
        Option("manager", "people", "Who they report to."),
        Option("marks", "marks", "By which systems tell them: uid=1001, fingerprint=…, employee=…"),
        Option("logins", "logins", "How a system knows them: SYSTEM=NAME."),
    ),
    "teams": (
        Option("partner", FLAG, "Whether it is a partner organisation."),
        Option("purpose", TEXT, "What it is for."),
        Option("speaker", "people", "Who answers offers to it."),
    ),
    "accounts": (
        Option("system", "systems", "The system that it is in."),
        Option("kind", TEXT, "The kind of account."),
        Option("sensitivity", SENSITIVITY, "low, medium, high or critical."),
        Option("owner", "people", "Who owns it."),
        Option("time_zone", TEXT, "Its time zone; left out, the organisation's."),
        Option("purpose", TEXT, "What it is for."),
        Option("handle", TEXT, "What its system calls it."),
        Option("is_closed", FLAG, "Whether nobody can be given anything on it."),
        Option("payer", "payer", "Who pays: person:NAME, team:NAME or account:NAME."),
        Option("paid_until", DAY, "The last day that is paid for."),
    ),
    "resources": (
        Option("account", "accounts", "The account that it is a part of."),
        Option("kind", TEXT, "What kind of part it is."),
    ),
    "groups": (
        Option("account", "accounts", "The account that it belongs to."),
        Option("resources", "resources", "A resource in it."),
    ),
    "apps": (
        Option("publisher", TEXT, "Who publishes it."),
        Option("home_page", TEXT, "Its home page."),
        Option("purpose", TEXT, "What it is for."),
        Option("logins", "logins", "How a system knows it: SYSTEM=NAME."),
    ),
}


def read(service: Client, option: Option, given: OptionValue) -> OptionValue:
    """The form's value of an option. BadInput for an unknown name."""
    if given == "" and option.read in ("text", "day", "people", "payer"):
        return None
    if option.read in ("people", "systems", "accounts"):
        return session.find(service, option.read, given)
    if option.read == DAY:
        return session.LastDay().convert(given, click.Option([option.name]), None).isoformat()
    if option.read == "resources":
        return [session.find(service, "resources", one) for one in given]
    if option.read == "marks":
        return [dict(zip(("kind", "value"), _pair(option, one), strict=True)) for one in given]
    if option.read == "logins":
        pairs = [_pair(option, one) for one in given]
        return [{"system": session.find(service, "systems", system), "name": name} for system, name in pairs]
    if option.read == "payer":
        kind, name = _pair(option, given, ":")
        listed = {"person": "people", "team": "teams", "account": "accounts"}.get(kind)
        if listed is None:
            raise BadInput(f"{kind!r} can't pay.", "Write person:NAME, team:NAME or account:NAME.")
        return {"kind": kind, "id": session.find(service, listed, name)}
    return list(given) if option.read == "texts" else given


def _pair(option: Option, written: str, between: str = "=") -> tuple[str, str]:
    first, found, second = written.partition(between)
    if not found or not first or not second:
        raise BadInput(f"{written!r} can't be read for {option.name}.", option.about)
    return first, second


class _Sensitivity(click.ParamType[int]):
    """A sensitivity by its word, as lists show it, or by its number."""

    name = "sensitivity"

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """Its number."""
        numbers = {word: number for number, word in SENSITIVITY_WORDS.items()}
        found = numbers.get(value.lower()) or int(value if value.isdecimal() else 0)
        if found not in SENSITIVITY_WORDS:
            self.fail(f"{value!r} is no sensitivity; it is one of {', '.join(SENSITIVITY_WORDS.values())}.", param, ctx)
        return found


def _click(option: Option) -> Callable[[Command], Command]:
    if option.read == FLAG:
        plain = option.field.removeprefix("is_").replace("_", "-")
        off = {"inside": "outside", "closed": "open"}.get(plain, f"no-{plain}")
        return click.option(f"--{plain}/--{off}", option.field, default=None, help=option.about)
    if option.read == SENSITIVITY:
        return click.option(option.name, option.field, type=_Sensitivity(), default=None, help=option.about)
    many = option.read in _MANY
    metavar = "DAY" if option.read == DAY else None
    return click.option(option.name, option.field, multiple=many, default=None, metavar=metavar, help=option.about)


def form_options(kind: str) -> Callable[[Command], Command]:
    """The options by which a form of a kind is filled in."""

    def decorate(command: Command) -> Command:
        for option in reversed(OPTIONS[kind]):
            command = _click(option)(command)
        return command

    return decorate


def _values(service: Client, kind: str, given: JsonObject) -> JsonObject:
    found = {}
    for option in OPTIONS[kind]:
        value = given.get(option.field)
        if value is not None and value != ():
            found[option.field] = read(service, option, value)
    return found


def _checked(call: Callable[[], Answer]) -> Answer:
    """The result of a call; BadInput if the values don't fit the form."""
    try:
        return call()
    except ValidationError as error:
        told = "; ".join(f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in error.errors(include_url=False))
        raise BadInput(f"That does not fit: {told}.", "See --help.") from None


def write_record(found: schemas.Record[object], done: Callable[[str], str], output: str) -> None:
    """Write the result for a record, with warnings of latches; ``done`` says what was done with the name."""

    def write() -> None:
        out.print(done(found.name), f"({found.id})", markup=False)
        for breach in found.warnings:
            err.print(f"A latch warns ({breach.latch}): {breach.fact}. {breach.remedy}", markup=False)

    show_one(found, output, write)


def _shown(value: object, named: dict[str, str]) -> str:
    if isinstance(value, list):
        return "; ".join(_shown(one, named) for one in value)
    if isinstance(value, dict):
        return " ".join(_shown(one, named) for one in value.values())
    return named.get(
        str(value),
        "–" if value in (None, "") else yes(value).said() if isinstance(value, bool) else str(value),
    )


# Imported for the commands that they add to the same groups.
_WITH = (latches, access, search, settings)


def _add(group: click.Group, kind: str, noun: str) -> None:
    _add_edit(group, kind, noun)
    _add_removal(group, kind, noun)
    if kind != "people":
        _add_archive(group, kind, noun)


def _add_edit(group: click.Group, kind: str, noun: str) -> None:
    @group.command("add", help=f"Add {noun}.")
    @click.argument("name")
    @form_options(kind)
    @output_option
    def add(name: str, output: str, **given: OptionValue) -> None:
        with session.client() as service:
            values = {"name": name, **_values(service, kind, given)}
            found = _checked(lambda: session.proving(service, lambda: service.make_record(kind, values)))
        write_record(found, lambda name: f"{name} is added.", output)

    @group.command("edit", help=f"Edit {noun}; what is not named stays. An empty value empties a field.")
    @click.argument("name_or_id")
    @click.option("--name", default=None, help="Another name.")
    @form_options(kind)
    @click.option("--version", type=int, default=None, help="Only if it is still this version.")
    @output_option
    def edit(name_or_id: str, name: str | None, version: int | None, output: str, **given: object) -> None:
        with session.client() as service:
            changes = {**({"name": name} if name else {}), **_values(service, kind, given)}
            if not changes:
                raise BadInput("Nothing is to be changed.", "Name a field: see --help.")
            ident = session.find(service, kind, name_or_id)
            found = _checked(
                lambda: session.proving(service, lambda: service.edit_record(kind, ident, changes, version))
            )
        write_record(found, lambda name: f"{name} is changed.", output)


def _add_removal(group: click.Group, kind: str, noun: str) -> None:
    @group.command("record", help=f"Show {noun} as it is edited, and what depends on it.")
    @click.argument("name_or_id")
    @output_option
    def record(name_or_id: str, output: str) -> None:
        with session.client() as service:
            found = service.record(kind, session.find(service, kind, name_or_id))

        def write() -> None:
            for field, value in found.values.model_dump().items():
                out.print(f"{say(field.replace('_', ' ')):16} {_shown(value, found.named)}", markup=False)
            if found.dependents:
                out.print("Depends on it:", ", ".join(one.what for one in found.dependents))

        show_one(found, output, write)

    @group.command("remove", help=f"Remove {noun} to which nothing refers.")
    @click.argument("name_or_id")
    @consent_options
    def remove(name_or_id: str) -> None:
        with session.client() as service:
            found = service.record(kind, session.find(service, kind, name_or_id))
            if only_preview() or not found.dependents:
                listed = ", ".join(one.what for one in found.dependents)
                go_on(f"{found.name} can't be removed: {listed} depend on it." if listed else f"Remove {found.name}?")
            session.proving(service, lambda: service.remove_record(kind, found.id, found.version))
        out.print(f"{found.name} is removed.")


def _again(name: str) -> str:
    return f"{name} is among the others again."


def _archived(name: str) -> str:
    return f"{name} is archived."


def _add_archive(group: click.Group, kind: str, noun: str) -> None:
    @group.command("archive", help=f"Put {noun} away, out of lists and choices.")
    @click.argument("name_or_id")
    @click.option("--undo", is_flag=True, help="Take it out of the archive.")
    @output_option
    def archive(name_or_id: str, undo: bool, output: str) -> None:
        with session.client() as service:
            found = service.archive_record(kind, session.find(service, kind, name_or_id), not undo)
        write_record(found, _again if undo else _archived, output)


def _add_merge(group: click.Group, kind: str) -> None:
    @group.command("merge", help="Merge a second record into the first: they are one.")
    @click.argument("keep")
    @click.argument("drop")
    @consent_options
    @output_option
    def merge(keep: str, drop: str, output: str) -> None:
        with session.client() as service:
            first, second = session.find(service, kind, keep), session.find(service, kind, drop)
            preview = service.preview_merge(kind, first, second)
            question = f"Merge {preview.gone.name} into {preview.kept.name}?"
            go_on(question, lambda how: show_one(preview, how, lambda: _write_merge(preview)), output)
            found = session.proving(service, lambda: service.merge(kind, first, second, preview.fingerprint))
        show_one(
            found,
            output,
            lambda: out.print(
                f"{found.gone.name} is merged into {found.kept.name}. To undo it until {found.undo_until:%Y-%m-%d}: "
                f"openlatch person unmerge {found.id}"
            ),
        )

    @group.command("unmerge", help="Undo a merge.")
    @click.argument("merge")
    def unmerge(merge: str) -> None:
        with session.client() as service:
            ident = session.among(merge, _merges(service, kind), "merges", lambda one: [one.gone.name])
            found = session.proving(service, lambda: service.undo_merge(ident))
        out.print(f"{found.gone.name} and {found.kept.name} are two again.")


def _merges(service: Client, kind: str) -> list[schemas.MergeOf]:
    return [one for one in service.merges() if one.kind == kind and one.undone_at is None]


def _write_merge(found: schemas.MergePreview) -> None:
    if found.moves:
        out.print("Moves:", ", ".join(one.what for one in found.moves))
    for heading, values in (("Fills:", found.fills), ("Does not keep:", found.loses)):
        for value in values:
            out.print(heading, f"{say(value.field.replace('_', ' '))}: {value.will or value.was}", markup=False)
    if found.accounts:
        out.print(f"{found.kept.name} can act in more:", ", ".join(one.name for one in found.accounts), markup=False)
    for breach in found.latches:
        out.print(f"A latch would be broken ({breach.latch}): {breach.fact}", markup=False)


for _group, _kind, _noun in (
    (register.person, "people", "a person"),
    (register.team, "teams", "a team"),
    (register.account, "accounts", "an account"),
    (latches.resource, "resources", "a part of an account"),
    (register.app, "apps", "an app"),
):
    _add(_group, _kind, _noun)


@latches.resource.group("group")
def resource_group() -> None:
    """Groups of an account's resources that are given together."""


_add(resource_group, "groups", "a group of resources")
resource_group.add_command(register.list_command("groups", latches.GROUPS, "There are no groups of resources."))
_add_merge(register.person, "people")
_add_merge(register.app, "apps")

MEMBERS: list[Column] = [
    ("Member", lambda m: m.member.name),
    ("Kind", lambda m: Word(m.kind)),
    ("Since", lambda m: m.since),
    ("Until", lambda m: m.until),
]


@register.team.command("show")
@click.argument("name_or_id")
@output_option
def team_show(name_or_id: str, output: str) -> None:
    """Show a team with its members."""
    with session.client() as service:
        found = service.team(session.find(service, "teams", name_or_id))
    if output == "csv":
        return show_rows(found.members, MEMBERS, output, "")

    def write() -> None:
        out.print(f"{found.name}: {'a partner organisation; ' if found.partner else ''}{found.purpose}", markup=False)
        show_rows(found.members, MEMBERS, "table", "It has no members.")
        if found.belongs_to:
            out.print("Belongs to", ", ".join(one.name for one in found.belongs_to), markup=False)

    show_one(found, output, write)
    return None


@register.team.command("add-member")
@click.argument("team_name")
@click.argument("member")
@click.option("--team", "is_team", is_flag=True, help="The member is a team.")
@click.option("--until", type=session.Day(), default=None, help="Their last day in it.")
@output_option
def team_add_member(team_name: str, member: str, is_team: bool, until: date | None, output: str) -> None:
    """Add a person or a team to a team."""
    with session.client() as service:
        kind = "member_team" if is_team else "person"
        values = {
            "team": session.find(service, "teams", team_name),
            kind: session.find(service, "teams" if is_team else "people", member),
            "last_day": until,
        }
        found = session.proving(service, lambda: service.make_record("memberships", values))
    write_record(found, lambda name: f"{name} is added.", output)


@register.team.command("remove-member")
@click.argument("team_name")
@click.argument("member")
@consent_options
def team_remove_member(team_name: str, member: str) -> None:
    """Remove a member from a team, with the access that they had by it."""
    with session.client() as service:
        found = service.team(session.find(service, "teams", team_name))
        named = [m for m in found.members if member in (m.member.name, str(m.member.id))]
        if not named:
            raise BadInput(f"{member} is no member of {found.name}.", f"Look at: openlatch team show {found.name!r}")
        go_on(f"Take {named[0].member.name} out of {found.name}?")
        session.proving(service, lambda: service.remove_record("memberships", named[0].id))
    out.print(f"{named[0].member.name} does not belong to {found.name} any more.")


# Recording existing access.

RECORDED: list[Column] = [
    ("Line", lambda r: r.line),
    ("Who", lambda r: r.holder.name if r.holder else None),
    ("Account", lambda r: r.account.name if r.account else None),
    ("Level", lambda r: r.level),
    ("What", lambda r: r.refused or r.does),
]
_HOLDERS = {"person": "people", "team": "teams", "app": "apps", "account": "accounts"}


@register.grant.command("record")
@click.argument("account_name", required=False)
@click.argument("holder", required=False)
@click.argument("level", required=False)
@click.option("--holder-kind", type=click.Choice(list(_HOLDERS)), default="person", show_default=True)
@click.option("--since", type=session.PastDay(), default=None, help="Since when.")
@click.option("--until", type=session.Day(), default=None, help="The last day; left out, no end.")
@click.option("--given-by", default=None, help="Who gave it, where that is known.")
@click.option("--evidence", default="", help="How it is known.")
@click.option(
    "--file",
    "table",
    type=click.File("r"),
    default=None,
    help="A table (CSV) with the columns account, holder, level and, as needed, the options' names.",
)
@consent_options
@output_option
def grant_record(
    account_name: str | None,
    holder: str | None,
    level: str | None,
    table: IO[str] | None,
    output: str,
    **more: OptionValue,
) -> None:
    """Record access that exists already, without asking anybody.

    It is marked as recorded by you, not as given by you.
    """
    with session.client() as service:
        rows = (
            [dict(row) for row in csv.DictReader(table)]
            if table is not None
            else [{"account": account_name, "holder": holder, "level": level, **more}]
        )
        lines = [_known(service, number, row) for number, row in enumerate(rows, 1)]
        preview = service.preview_recording(lines)
        if preview.refused:
            show_rows(preview.lines, RECORDED, "table", "There is nothing in it.")
            raise BadInput(f"{preview.refused} of {len(lines)} can't be recorded.", "Mend these, or leave them out.")
        if not preview.new:
            show_one(preview, output, lambda: out.print("All of it is recorded already."))
            return
        question = f"Record {preview.new} (and leave {preview.same} as they are)?"
        go_on(question, lambda how: show_rows(preview.lines, RECORDED, how, "There is nothing in it."), output)
        found = session.proving(service, lambda: service.record_access(lines, preview.fingerprint))
    show_one(found, output, lambda: out.print(f"{found.new} recorded, {found.same} were recorded already."))


def _known(service: Client, number: int, row: JsonObject) -> schemas.RecordAccessLine:
    lacking = [name for name in ("account", "holder", "level") if not row.get(name)]
    if lacking:
        raise BadInput(f"Line {number} has no {lacking[0]}.", "Give account, holder and level.")
    account = service.account(session.find(service, "accounts", row["account"]))
    kind = row.get("holder_kind") or "person"
    if kind not in _HOLDERS:
        raise BadInput(f"Line {number}: {kind!r} holds nothing.", f"Use one of: {', '.join(_HOLDERS)}.")
    exact = json.dumps(str(row["level"]))
    levels = service.list("levels", filter=f'system.id eq "{account.system.id}" and name eq {exact}', limit=1).rows
    if not levels:
        raise BadInput(f"{account.system.name} has no level {row['level']!r}.", "Look at: openlatch level list")
    giver = row.get("given_by")
    found: schemas.RecordAccessLine = _checked(
        lambda: schemas.RecordAccessLine.model_validate(
            {
                "account": account.id,
                "holder_kind": kind,
                "holder": session.find(service, _HOLDERS[kind], row["holder"]),
                "level": levels[0].id,
                "since": row.get("since") or None,
                "last_day": row.get("until") or row.get("last_day") or None,
                "given_by": session.find(service, "people", giver) if giver else None,
                "evidence": row.get("evidence") or "",
            }
        )
    )
    return found


def commands_of(names: Sequence[str]) -> dict[str, click.Command]:
    """The command groups of this module."""
    groups = {
        "person": register.person,
        "team": register.team,
        "account": register.account,
        "app": register.app,
        "resource": latches.resource,
        "grant": register.grant,
    }
    return {name: groups[name] for name in names}


COMMANDS: dict[str, click.Command] = commands_of(("person", "team", "account", "app", "resource", "grant"))
