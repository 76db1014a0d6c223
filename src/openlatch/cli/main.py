"""The program ``openlatch``. Its exit codes:

0  done
1  the service said no
2  the command line does not fit
3  no service answered
4  done, but something is not right: bad lines in an import, a journal that is not sound
5  the question was answered with no
6  nothing is altered, but nothing that is trusted vouches for it: evidence, a journal
"""

from __future__ import annotations

import importlib
import os
import sys
from collections.abc import Iterable

import click

from openlatch import __version__
from openlatch.cli import examples, language, renamed
from openlatch.cli.output import err
from openlatch.client import CallFailed, Unreachable
from openlatch.errors import BadInput, OpenLatchError
from openlatch.imports import many_imports
from openlatch.languages import ENGLISH
from openlatch.languages.terminal import chosen, say

_CLIENT = {
    "login": "login",
    "logout": "login",
    "whoami": "login",
    "today": "register",
    "next": "next_actions",
    "trends": "trends",
    "charter": "charter",
    "explain": "explain",
    "manual": "manual",
    "my-access": "latches",
    "account": "records",
    "person": "records",
    "team": "records",
    "grant": "records",
    "app": "records",
    "resource": "records",
    "session": "revocations",
    "level": "latches",
    "offer": "offers",
    "request": "offers",
    "search": "search",
    "register": "search",
    "filter": "search",
    "task": "tasks",
    "latch": "latches",
    "switch": "latches",
    "exchange": "latches",
    "visit": "latches",
    "notice": "latches",
    "factor": "latches",
    "me": "identity",
    "settings": "systems",
    "set-up": "systems",
    "sign-in": "identity",
    "invitation": "identity",
    "provider": "providers",
    "directory": "providers",
    "webhook": "webhooks",
    "signal": "signals",
    "password": "identity",
    "partner": "partners",
    "organisations": "partners",
    "paths": "access",
    "what-if": "access",
    "map": "access",
    "ends": "access",
    "rule": "rules",
    "facts": "rules",
    "flag": "flags",
    "round": "rounds",
    "schedule": "schedules",
    "evidence": "evidence",
    "question": "evidence",
    "calendar": "evidence",
    "away": "evidence",
    "exposure": "exposure",
    "guard": "exposure",
    "boundary": "exposure",
    "revoke": "revocations",
    "trim": "revocations",
    "revocation": "revocations",
    "import": "imports",
    "system": "systems",
    "drift": "leavers",
    "leaver": "leavers",
    "journal": "journal",
}
# Set by the shell that asks how a word goes on.
COMPLETING = "_OPENLATCH_COMPLETE"
_SERVICE = (
    *("run", "restore", "move", "serve", "worker", "migrate", "new-key", "organisation", "connect"),
    *("doctor", "archive", "routes", "host-program", "demo"),
)


class _Commands(click.Group):
    """Finds a command's module when it is used: the client starts fast, and needs no part of the service."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [*_CLIENT, *_SERVICE]

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name in _CLIENT:
            with many_imports():
                module = importlib.import_module(f"openlatch.cli.{_CLIENT[name]}")
        elif name in _SERVICE:
            with many_imports():
                module = importlib.import_module("openlatch.runtime.commands")
        elif name in renamed.COMMANDS:
            place, now = renamed.COMMANDS[name]
            module = importlib.import_module(f"openlatch.cli.{place}")
            first, _, second = now.partition(" ")
            found: click.Command = module.COMMANDS[first]
            return renamed.old(found.commands[second] if isinstance(found, click.Group) else found, name, now)
        else:
            return None
        command: click.Command = module.COMMANDS[name]
        examples.teach(command, name)
        if COMPLETING in os.environ:
            from openlatch.cli import completion

            completion.teach(command)
        return command


@click.command(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="openlatch")
def cli() -> None:
    """Who and what can reach each shared account: see it, review it, revoke it.

    Sign in once with `openlatch login`. The last ten commands run the service itself.
    """


def _fields(error: OpenLatchError) -> Iterable[str]:
    """The parts at fault that an error names, ours or the service's."""
    if isinstance(error, CallFailed):
        return error.problem.fields
    return error.fields if isinstance(error, BadInput) else ()


def main(arguments: list[str] | None = None) -> None:
    """Run the program; errors come out as a sentence and what to do about it."""
    if chosen() != ENGLISH:
        click.Context.formatter_class = language.Formatter
    try:
        result: object = cli.main(args=arguments, prog_name="openlatch", standalone_mode=False)
    except click.exceptions.Abort:
        err.print("Nothing was done.")
        sys.exit(5)
    except click.ClickException as error:
        language.show(error)
        example = examples.after(error) if isinstance(error, click.UsageError) else None
        if example:
            click.echo(example, err=True)
        sys.exit(error.exit_code)
    except OpenLatchError as error:
        err.print(f"[bold]{say(error.title)}.[/] ", end="")
        err.print(error.detail, markup=False)
        if error.remedy:
            err.print(error.remedy, markup=False)
        if error.status == BadInput.status:
            told = examples.after_refusal(cli, sys.argv[1:] if arguments is None else arguments, _fields(error))
            click.echo(told or "", nl=bool(told), err=True)
        sys.exit(3 if isinstance(error, Unreachable) else 1)
    sys.exit(result if isinstance(result, int) else 0)
