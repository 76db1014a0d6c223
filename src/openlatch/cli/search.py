"""Search, saved filters, moves of people, and personal data."""

from __future__ import annotations

import json
from pathlib import Path
from uuid import UUID

import click
from rich.text import Text

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, Word, out, output_option, short, show_one, show_rows, table_options
from openlatch.cli.register import person
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.languages.terminal import say
from openlatch.private_files import write_new

FOUND: list[Column] = [
    ("Kind", lambda r: Word(r.kind)),
    ("What", lambda r: r.label),
    ("More", lambda r: r.detail),
    ("ID", lambda r: short(r.id)),
]


def _whose(row: schemas.FilterKept) -> str:
    mine = say("you") if row.is_mine else row.by.name
    return f"{mine}, {say('shared')}" if row.is_shared else mine


FILTERS: list[Column] = [
    ("Name", lambda r: r.name),
    ("List", lambda r: r.list),
    ("Filter", lambda r: r.filter),
    ("Of", lambda r: _whose(r)),
    ("Mail", lambda r: Word({"day": "daily", "week": "weekly", "never": "never"}[r.mail])),
]


@click.command()
@click.argument("words", nargs=-1, required=True)
@table_options
def search(words: tuple[str, ...], output: str) -> None:
    """Search everything that you may see: people, accounts, apps, teams, grants, flags, reviews, systems."""
    with session.client() as service:
        show_rows(service.search(" ".join(words)).found, FOUND, output, "Nothing that you may see fits.")


ATTRIBUTES: list[Column] = [
    ("Attribute", lambda a: a.name),
    ("Holds", lambda a: Word(a.kind)),
    ("Compare by", lambda a: ", ".join(a.operators)),
    ("Meaning", lambda a: a.sentence),
]


@click.group("filter")
def filter_group() -> None:
    """Saved filters; lists take one with --kept."""


@filter_group.command("list")
@table_options
def filter_list(output: str) -> None:
    """List your filters, and those that others share."""
    with session.client() as service:
        show_rows(service.saved_filters(), FILTERS, output, "No filter is kept.")


@filter_group.command("keep")
@click.argument("name")
@click.option("--list", "of", required=True, help="The list that it is for, as in: grants.")
@click.option("--filter", "-f", "filter_", default="", help='A filter, as in: state eq "active".')
@click.option("--search", "-s", "search_", default="", help="Words that have to occur.")
@click.option("--sort", default="", help="An attribute to sort by.")
@click.option("--shared", is_flag=True, help="Everybody may use it.")
@output_option
def filter_keep(name: str, of: str, filter_: str, search_: str, sort: str, shared: bool, output: str) -> None:
    """Save a filter under a name."""
    wish = schemas.KeepFilter(name=name, list=of, filter=filter_, search=search_, sort=sort, is_shared=shared)
    with session.client() as service:
        show_rows([service.keep_filter(wish)], FILTERS, output, "")


@filter_group.command("attributes")
@click.argument("list_", metavar="LIST")
@click.argument("attribute", required=False)
@click.option("--search", "-s", "words", default="", help="Only values that contain these words.")
@table_options
def filter_attributes(list_: str, attribute: str | None, words: str, output: str) -> None:
    """List what filters of LIST may name, or the values of one ATTRIBUTE."""
    with session.client() as service:
        if attribute is None:
            show_rows(service.attributes(list_), ATTRIBUTES, output, "There are none.")
            return
        found = service.values(list_, attribute, words)
    if output == "json":
        print(json.dumps(list(found), ensure_ascii=False))
    else:
        for value in found:
            out.print(value, markup=False)


@filter_group.command("remove")
@click.argument("name")
def filter_remove(name: str) -> None:
    """Remove one of your filters."""
    with session.client() as service:
        service.remove_filter(_named(service, name))
    out.print(f"“{name}” is kept no more.")


@filter_group.command("mail")
@click.argument("name")
@click.argument("every", type=click.Choice(["day", "week", "never"]))
@output_option
def filter_mail(name: str, every: str, output: str) -> None:
    """Get mail of what matches, daily or weekly."""
    with session.client() as service:
        show_rows([service.mail_filter(_named(service, name), every)], FILTERS, output, "")


def _named(service: Client, name: str) -> UUID:
    fits = [one for one in service.saved_filters() if name in (one.name, str(one.id))]
    mine = [one for one in fits if one.is_mine] or fits
    if len(mine) != 1:
        raise BadInput(f"{len(mine)} filters are called {name!r}.", "Look at: openlatch filter list.")
    return mine[0].id


@person.command("move")
@click.argument("name_or_id")
@click.option("--job", default=None, help="The new job; left out, the one that they have.")
@click.option("--join", "joins", multiple=True, help="A team that they join.")
@click.option("--leave", "leaves", multiple=True, help="A team that they leave.")
@output_option
def person_move(name_or_id: str, job: str | None, joins: tuple[str, ...], leaves: tuple[str, ...], output: str) -> None:
    """Preview a move: what somebody keeps, loses, gets and might need."""
    with session.client() as service:
        wish = schemas.MoveWish(
            job=job,
            joins=[session.find(service, "teams", one) for one in joins],
            leaves=[session.find(service, "teams", one) for one in leaves],
        )
        found = service.preview_move(session.find(service, "people", name_or_id), wish)
    show_one(found, output, lambda: _write_move(found))


def _write_move(found: schemas.MovePlan) -> None:
    out.print(Text(say(f"{found.person.name}, as {found.job}") if found.job else found.person.name, style="bold"))
    for title, rows in (("Loses:", found.loses), ("Gets:", found.gets)):
        out.print(title, "" if rows else "nothing")
        for row in rows:
            out.print(f"  {row.account.name}: {', '.join(row.rights)}")
    out.print("Keeps:", "" if found.keeps else "nothing")
    for kept in found.keeps:
        alone = "  (nobody else in that job holds it)" if found.peers and kept.held_by == 0 else ""
        out.print(f"  {kept.level} on {kept.account.name}{alone}")
    out.print(
        f"Might need, as at least half of the {found.peers} others in that job hold it:"
        if found.might_need
        else "Might need: nothing that others in that job show"
    )
    for need in found.might_need:
        out.print(f"  {need.level.name} on {need.account.name} ({need.held_by} hold it)")
    for review in found.rounds:
        out.print(f"Under review: {review.name}")


@person.command("erase")
@click.argument("name_or_id")
@consent_options
@output_option
def person_erase(name_or_id: str, output: str) -> None:
    """Erase what identifies somebody who left: a pseudonym takes its place everywhere. It can't be undone."""
    with session.client() as service:
        ident = session.find(service, "people", name_or_id)
        found = service.preview_erasing(ident)
        question = f"Erase them? From then on they are “{found.person.name}”."
        go_on(question, lambda how: show_one(found, how, lambda: _write_erased(found, "Would be erased")), output)
        done = session.proving(service, lambda: service.erase_person(ident))
    show_one(done, output, lambda: _write_erased(done, f"They are “{done.person.name}” now. Erased"))


def _write_erased(found: schemas.Erased, words: str) -> None:
    counts = found.erased
    out.print(
        f"{words}: {counts['records']} values in records, {counts['sessions']} sessions’ devices and places, "
        f"what {counts['journal']} entries of the journal told."
    )
    for kept in found.kept:
        out.print(f"Kept: {kept}")


@person.command("held-data")
@click.argument("name_or_id")
@click.option("--to", "path", type=click.Path(dir_okay=False, path_type=Path), default=None, help="A new file.")
def person_held_data(name_or_id: str, path: Path | None) -> None:
    """Print all personal data held about somebody, as JSON: about yourself, or as administrator."""
    with session.client() as service:
        written = service.held_data(session.find(service, "people", name_or_id)).model_dump_json(indent=2)
    if path is None:
        print(written)
        return
    try:
        write_new(path, written.encode())
    except OSError as error:
        raise BadInput(f"{path} can't be written: {error.strerror}.", "Name a new file.") from None
    out.print(f"All that is held about them is in {path}, for nobody else to read.")


@click.group()
def register() -> None:
    """The whole register as one open file, for moving elsewhere or starting again."""


@register.command("export")
@click.argument("path", type=click.Path(dir_okay=False, path_type=Path))
def register_export(path: Path) -> None:
    """Export the register into a new file, without secrets. It contains personal data: keep it safe."""
    with session.client() as service:
        lines = session.proving(service, lambda: list(service.export_register()))
    try:
        write_new(path, "".join(f"{line}\n" for line in lines).encode())
    except OSError as error:
        raise BadInput(f"{path} can't be written: {error.strerror}.", "Name a new file.") from None
    out.print(f"{len(lines) - 2} rows are in {path}, for nobody else to read.")


@register.command("import")
@click.argument("path", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def register_import(path: Path) -> None:
    """Import such a file into an empty organisation: all of it, or nothing."""
    with session.client() as service, path.open("rb") as file:
        content = file.read()
        found = session.proving(service, lambda: service.import_register(iter([content])))
    for name, count in found.rows.items():
        if count:
            out.print(f"{count:>8,}  {name.replace('_', ' ')}")
    out.print("Systems are paused: give each its secret again, and let it be read.")


@register.command("schema")
def register_schema() -> None:
    """Print the format as JSON Schema."""
    with session.client() as service:
        print(service.register_schema())


COMMANDS: dict[str, click.Command] = {"search": search, "filter": filter_group, "register": register}
