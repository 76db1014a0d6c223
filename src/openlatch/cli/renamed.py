"""Earlier names of commands, which work until the next release and name the present one."""

from __future__ import annotations

import copy
from collections.abc import Callable

import click

from openlatch.languages.terminal import say

# Where a command of the program is now: its module and the words that call it.
COMMANDS = {
    "who-can": ("access", "paths"),
    "mine": ("latches", "my-access"),
    "enter": ("latches", "switch in"),
    "leave": ("latches", "switch out"),
}


def old(command: click.Command, name: str, now: str) -> click.Command:
    """The command under an earlier name: hidden, and with a hint."""
    earlier = copy.copy(command)
    earlier.name, earlier.hidden = name, True
    earlier.callback = _hinting(command.callback, name, now)
    return earlier


def keep(group: click.Group, name: str, now: str) -> None:
    """Keep an earlier name of a command of a group."""
    group.add_command(old(group.commands[now], name, f"{group.name} {now}"))


def _hinting(callback: Callable[..., object] | None, name: str, now: str) -> Callable[..., object]:
    def call(*args: object, **kwargs: object) -> object:
        click.echo(say(f"“{name}” is called “openlatch {now}” now; the old name ends with the next release."), err=True)
        assert callback is not None
        return callback(*args, **kwargs)

    return call
