"""Every command with its options, as read from the program itself: for pages of the documentation and manual pages."""

from __future__ import annotations

import inspect
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import click

from openlatch import __version__
from openlatch.cli.examples import example_of
from openlatch.cli.output import out

TITLE = "Open Latch"


@dataclass(frozen=True, slots=True)
class Entry:
    """A command: its words, how it is used, what it does, its options with what they mean, and an example."""

    words: str
    usage: str
    about: str
    options: tuple[tuple[str, str], ...]
    is_group: bool
    example: str | None


def entries(command: click.Command, words: str) -> Iterator[Entry]:
    """A command, and all below it."""
    context = click.Context(command, info_name=words)
    records = (param.get_help_record(context) for param in command.params if isinstance(param, click.Option))
    usage = re.sub(r"\s+", " ", command.get_usage(context).removeprefix("Usage: "))
    about = inspect.cleandoc(command.help or "")
    options = tuple(record for record in records if record)
    example = example_of(command, words.partition(" ")[2])
    yield Entry(words, usage, about, options, isinstance(command, click.Group), example)
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            below = command.get_command(context, name)
            if below is not None and not below.hidden:
                yield from entries(below, f"{words} {name}")


def as_markdown(command: click.Command) -> str:
    """One page with everything."""
    told = ["# Every command", "", "As `openlatch COMMAND --help` shows it.", ""]
    for entry in entries(command, "openlatch"):
        depth = "##" if entry.words.count(" ") < 2 else "###"
        told += [f"{depth} {entry.words}", "", entry.about, "", "```", entry.usage, "```", ""]
        if entry.example:
            told += ["For example:", "", "```", f"openlatch {entry.example}", "```", ""]
        if entry.options:
            told += ["| Option | Meaning |", "| --- | --- |"]
            told += [f"| `{name}` | {_cell(meaning)} |" for name, meaning in entry.options]
            told.append("")
    return "\n".join(told)


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;")


def as_manual_page(command: click.Command, words: str) -> str:
    """A page of section 1 in the language of man(7): a command with all below it."""
    (first, *below) = entries(command, words)
    told = [
        f'.TH "{words.upper().replace(" ", "-")}" 1 "" "{TITLE} {__version__}" "User commands"',
        *(".SH NAME", f"{_plain(words.replace(' ', '-'))} \\- {_plain(_first_line(first.about))}"),
        *(".SH SYNOPSIS", f".B {_plain(first.usage)}", ".SH DESCRIPTION", _plain(first.about)),
        *_options(first, ".SH OPTIONS"),
        *_example(first),
    ]
    if below:
        told.append(".SH COMMANDS")
    for entry in below:
        told += [f".SS {_plain(entry.usage)}", _plain(entry.about), *_example(entry), *_options(entry, "")]
    told += [".SH SEE ALSO", f"{words.split()[0]} \\-\\-help, {words.split()[0]} explain WORD"]
    return "\n".join(line for line in told if line) + "\n"


def _first_line(about: str) -> str:
    return re.split(r"(?<=\.)\s", about, maxsplit=1)[0].rstrip(".")


def _options(entry: Entry, heading: str) -> list[str]:
    shown = [line for name, meaning in entry.options for line in (".TP", f".B {_plain(name)}", _plain(meaning))]
    return [heading, *shown] if shown and heading else shown


def _example(entry: Entry) -> list[str]:
    return [".PP", "For example:", ".PP", f"\\fBopenlatch {_plain(entry.example)}\\fR"] if entry.example else []


def _plain(text: str) -> str:
    """Text without anything that man(7) would take for an instruction."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line for line in escaped.splitlines())


@click.command("manual")
@click.argument("command", required=False)
@click.option("--write", type=click.Path(path_type=Path, file_okay=False), help="Write all pages into this folder.")
@click.pass_context
def manual(context: click.Context, command: str | None, write: Path | None) -> None:
    """Print the manual page of a COMMAND, or write all of them: openlatch manual --write ~/.local/share/man/man1."""
    program = context.find_root().command
    assert isinstance(program, click.Group)
    if write is not None:
        write.mkdir(parents=True, exist_ok=True)
        pages: dict[str, click.Command] = {"openlatch": program} | {
            f"openlatch {name}": _known(program, name) for name in program.list_commands(context)
        }
        for words, found in pages.items():
            (write / f"{words.replace(' ', '-')}.1").write_text(as_manual_page(_alone(found, words), words))
        out.print(f"Wrote {len(pages)} pages. Read them: man openlatch-next", markup=False)
        return
    words = f"openlatch {command}" if command else "openlatch"
    found = _known(program, command) if command else program
    print(as_manual_page(_alone(found, words), words), end="")


def _known(program: click.Group, name: str) -> click.Command:
    found = program.get_command(click.Context(program), name)
    if found is None:
        raise click.UsageError(f"There is no command {name!r}. See: openlatch --help")
    return found


def _alone(command: click.Command, words: str) -> click.Command:
    """The program itself without all below its commands, whose pages are their own."""
    if words != "openlatch" or not isinstance(command, click.Group):
        return command
    context = click.Context(command)
    shallow = click.Group(help=command.help, params=command.params)
    for name in command.list_commands(context):
        found = command.get_command(context, name)
        if found is not None:
            shallow.add_command(click.Command(name, help=found.get_short_help_str(200)))
    return shallow


COMMANDS: dict[str, click.Command] = {"manual": manual}
