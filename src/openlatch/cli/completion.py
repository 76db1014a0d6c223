"""Names completed in the shell from the service: of accounts, people and whatever else a command names."""

from __future__ import annotations

import json
import os
import re

import click
import httpx
from click.shell_completion import CompletionItem

from openlatch.cli import session
from openlatch.errors import OpenLatchError

MOST = 20
# What arguments and options of these names are told by.
KINDS = {
    "account": "accounts",
    "person": "people",
    "to": "people",
    "owner": "people",
    "team": "teams",
    "app": "apps",
    "system": "systems",
    "level": "levels",
}


class Named(click.ParamType[str]):
    """The name of something that a list of the service has. Any text is taken: the service says what fits."""

    name = "text"

    def __init__(self, kind: str) -> None:
        self.kind = kind

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """The text as it is."""
        return str(value)

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """The names that begin so; none where nobody is signed in or no service answers: a shell shows no errors."""
        begins = json.dumps(incomplete.strip("'\"").replace("\\", ""))
        try:
            with session.client() as service:
                rows = service.list(self.kind, filter=f"name sw {begins}", limit=MOST, sort="name").rows
        except (OpenLatchError, httpx.HTTPError):
            return []
        return [CompletionItem(_as_typed(row.name)) for row in rows]


def _as_typed(name: str) -> str:
    """A name as one word: bash takes it as it is, other shells quote it themselves."""
    is_bash = os.environ.get("_OPENLATCH_COMPLETE", "").startswith("bash")
    return re.sub(r"([^\w.@%+=:,/-])", r"\\\1", name) if is_bash else name


def teach(command: click.Command, group: str = "") -> click.Command:
    """A command whose names are completed, and all below it; ``group`` is what it belongs to."""
    for param in command.params:
        kind = KINDS.get((param.name or "").removesuffix("_name").replace("name_or_id", group))
        if param.type is click.STRING and kind is not None:
            param.type = Named(kind)
    if isinstance(command, click.Group):
        for below in command.commands.values():
            teach(below, command.name or "")
    return command
