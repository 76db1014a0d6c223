"""The language of the command line: the terminal's, unless OPENLATCH_LANGUAGE names another.

What the program says is written in English where it is said, and put into the language last, as the service does it.
Names of commands and options, JSON and CSV are the same in every language: they are typed, and read by programs.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import click
from rich.console import Console

from openlatch.languages import ENGLISH
from openlatch.languages.terminal import chosen, say


class Speaker(Console):
    """A terminal that is written to in the language that is asked for."""

    def print(self, *objects: Any, **more: Any) -> None:
        """Print; texts of the program are translated, and what is made of cells and names is not."""
        super().print(*(say(one) if isinstance(one, str) else one for one in objects), **more)


class Formatter(click.HelpFormatter):
    """Help in the language that is asked for."""

    def write_usage(self, prog: str, args: str = "", prefix: str | None = None) -> None:
        """The first line."""
        super().write_usage(prog, args, say("Usage: ") if prefix is None else prefix)

    def write_heading(self, heading: str) -> None:
        """The heading of a list."""
        super().write_heading(say(heading))

    def write_text(self, text: str) -> None:
        r"""Paragraphs, each of which is a text by itself; what begins with \b is laid out already."""
        paragraphs = text.split("\n\n")
        super().write_text(
            "\n\n".join(one if one.startswith("\b") else say(" ".join(one.split())) for one in paragraphs)
        )

    def write_dl(self, rows: Iterable[tuple[str, str]], col_max: int = 30, col_spacing: int = 2) -> None:
        """A list of commands or options; behind the help of an option stands its default."""
        super().write_dl([(name, _entry(told)) for name, told in rows], col_max, col_spacing)


def _entry(told: str) -> str:
    """An entry of a list: help that is cut off, or is the first of several sentences, is so in the other language."""
    told, cut, default = told.partition("  [")
    said = say(told)
    if told and (said == told or told.endswith("...")):
        from openlatch.languages.catalogue import catalogue_of

        catalogue = catalogue_of(chosen())
        begun = told.removesuffix("...")
        whole = next((one for one in catalogue.whole if one.startswith(begun)), "") if catalogue else ""
        if whole and told.endswith("..."):
            said = say(whole)[: len(told)].rsplit(" ", 1)[0].rstrip(",;:") + "..."
        elif whole:
            said = say(whole).partition(". ")[0].removesuffix(".") + "."
    return f"{said}{cut}{default}"


def show(error: click.ClickException) -> None:
    """What does not fit the command line, on standard error."""
    if chosen() == ENGLISH:
        error.show()
        return
    if isinstance(error, click.UsageError) and error.ctx is not None:
        click.echo(error.ctx.get_usage(), err=True)
        click.echo(say(f"Try '{error.ctx.command_path} --help' for help."), err=True)
    click.echo(say(f"Error: {error.format_message()}"), err=True)
