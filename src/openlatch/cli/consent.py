"""Before a command takes something away: its preview, a question, and the options that answer that beforehand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import click

from openlatch.cli.output import out
from openlatch.languages.terminal import say

_PLACE = "openlatch.consent"
Command = TypeVar("Command", bound=Callable[..., Any])


@dataclass
class _Consent:
    only_preview: bool = False
    is_given: bool = False


def _consent(ctx: click.Context) -> _Consent:
    held: _Consent = ctx.meta.setdefault(_PLACE, _Consent())
    return held


def _note_preview(ctx: click.Context, _option: click.Parameter, value: bool) -> None:
    _consent(ctx).only_preview = value


def _note_yes(ctx: click.Context, _option: click.Parameter, value: bool) -> None:
    _consent(ctx).is_given = value


def preview_option(command: Command) -> Command:
    """The option ``--preview``. The command does not see it itself: ``go_on`` and ``only_preview`` do."""
    return click.option(
        "--preview",
        is_flag=True,
        is_eager=True,
        expose_value=False,
        callback=_note_preview,
        help="Show what would happen, and stop.",
    )(command)


def consent_options(command: Command) -> Command:
    """The options ``--preview`` and ``--yes``, for ``go_on``."""
    yes = click.option("--yes", "-y", is_flag=True, expose_value=False, callback=_note_yes, help="Do not ask.")
    return preview_option(yes(command))


class _Prompted(click.Option):
    """An option that is asked for when it is left out, but not for a preview: that asks nothing."""

    def prompt_for_value(self, ctx: click.Context) -> object:
        """What somebody typed."""
        return "" if _consent(ctx).only_preview else super().prompt_for_value(ctx)


def reason_option(prompt: str = "Why", help: str = "Why.") -> Callable[[Command], Command]:
    """The option ``--reason``, asked for when it is left out."""
    return click.option("--reason", cls=_Prompted, prompt=prompt, help=help)


def only_preview() -> bool:
    """Whether the command was called with ``--preview``."""
    return _consent(click.get_current_context()).only_preview


def go_on(question: str, write: Callable[[str], object] | None = None, output: str = "table") -> None:
    """Return when the command may go on.

    With ``--preview`` it shows what would happen, in the form asked for, and ends the command with exit code 0.
    Otherwise, without ``--yes``, it shows that and asks; click.Abort when the answer is no. Without ``write``, the
    question says all that would happen.
    """
    consent = _consent(click.get_current_context())
    if consent.only_preview:
        if write is not None:
            write(output)
        else:
            out.print(f"{question} Nothing was done.", markup=False)
        raise click.exceptions.Exit(0)
    if not consent.is_given:
        if write is not None:
            write("table")
        click.confirm(say(question), abort=True, err=True)
