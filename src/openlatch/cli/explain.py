"""Meanings of words."""

from __future__ import annotations

import click

from openlatch.cli.output import out
from openlatch.core import glossary
from openlatch.errors import BadInput


def _known(_: click.Context, __: click.Parameter, typed: str) -> list[str]:
    return [word for word in glossary.WORDS if word.startswith(typed.lower())]


@click.command()
@click.argument("word", nargs=-1, required=True, shell_complete=_known)
def explain(word: tuple[str, ...]) -> None:
    """Say what a WORD of Open Latch means. Works without a service."""
    found = glossary.meaning(" ".join(word))
    if found is None:
        near = glossary.similar(" ".join(word))
        raise BadInput(
            f"The glossary has no word {' '.join(word)!r}.",
            f"Did you mean {', '.join(near)}?" if near else "See docs/reference/words.md.",
        )
    out.print(f"[bold]{found[0]}[/]", end=": ")
    out.print(found[1], markup=False, soft_wrap=True)


COMMANDS: dict[str, click.Command] = {"explain": explain}
