"""What takes access away can be looked at first, without being asked anything, and without doing it."""

from __future__ import annotations

import inspect
from collections.abc import Iterator
from types import SimpleNamespace
from typing import Any
from uuid import UUID

import click
import pytest

from openlatch.cli import session
from openlatch.cli.main import cli
from openlatch.client import Client
from openlatch.errors import BadInput
from openlatch.runtime.demo import Demo
from tests.cli.conftest import Run

TAKES_AWAY = {
    "revoke",
    "trim",
    "end",
    "end-own",
    "end-access",
    "remove",
    "remove-member",
    "disconnect",
    "close",
    "erase",
}
TAKES_AWAY |= {
    "disconnect-apps",
    "give-up",
    "start",
    "lift",
    "suspend",
    "take-away",
    "set-end",
    "set-level",
    "set-term",
}
# What somebody merely wrote down for themselves, or can be done again at once.
OWN = {"filter remove", "factor remove", "calendar end", "exposure expected remove"}


def commands(group: click.Command, path: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    if not isinstance(group, click.Group):
        yield path, group
        return
    with click.Context(group, info_name=" ".join(path)) as ctx:
        for name in group.list_commands(ctx):
            command = group.get_command(ctx, name)
            assert command is not None, name
            yield from commands(command, (*path, name))


def options(command: click.Command) -> set[str]:
    return {written for one in command.params for written in one.opts}


def test_whatever_takes_access_away_or_asks_has_a_preview() -> None:
    known = {" ".join(path): command for path, command in commands(cli)}
    without = {name for name, command in known.items() if "--preview" not in options(command)}
    assert {name for name in without if "--yes" in options(known[name])} == {"restore"}
    assert {name for name in without if name.split()[-1] in TAKES_AWAY} == OWN


def test_what_a_command_takes_is_what_it_is_given() -> None:
    """An option under another name than its function knows would end every call of it."""
    wrong = {}
    for path, command in commands(cli):
        assert command.callback is not None, path
        taken = inspect.signature(command.callback, follow_wrapped=False).parameters.values()
        given = {one.name for one in command.params if one.expose_value and one.name != "context"}
        required = {one.name for one in taken if one.default is one.empty and one.kind is one.POSITIONAL_OR_KEYWORD}
        takes_all = any(one.kind is one.VAR_KEYWORD for one in taken)
        unknown = set() if takes_all else given - {one.name for one in taken}
        wrong[" ".join(path)] = unknown | required - given - {"context"}
    assert {name: both for name, both in wrong.items() if both} == {}


def test_a_preview_of_what_can_not_be_removed_removes_nothing_and_says_why(run: Run) -> None:
    """It would not even ask the service, which might find that nothing depends on it any more."""
    for command in (("team", "remove", "Wardens of the season"), ("system", "remove", "Camera host")):
        shown = run(*command, "--preview")
        assert (shown.returncode, "is removed" in shown.stdout) == (0, False), shown.stderr
        assert "Nothing was done" in shown.stdout


@pytest.mark.parametrize(
    ("command", "expected"),
    [
        (["revoke", "GRANT"], "Steps:"),
        (["trim", "GRANT", "--until", "in 2 weeks"], "remains: "),
        (["grant", "end", "GRANT"], "Gwil Tresco"),
        (["leaver", "start", "Saskia Lund"], "Saskia Lund"),
        (["app", "disconnect", "APP"], "APP"),
        (["sign-in", "suspend", "Lene Marsh"], "Nothing was done"),
    ],
)
def test_a_preview_asks_nothing_and_does_nothing(
    run: Run, stack: Demo, tokens: dict[str, str], command: list[str], expected: str
) -> None:
    with Client(stack.address, tokens["administrator"]) as client:
        wanted = 'holder.name eq "Gwil Tresco" and state eq "active" and not (until pr)'
        grant = client.list("grants", filter=wanted, limit=1).rows[0]
        position = client.list("journal", limit=1, sort="-position").rows[0].position
        app = client.list("grants", filter='holder.kind eq "app" and state eq "active"', limit=1).rows[0].holder
        named = {"GRANT": str(grant.id), "APP": str(app.name)}
        shown = run(*[named.get(word, word) for word in command], "--preview")
        # There is nothing to read an answer from: a question would end it.
        assert shown.returncode == 0, shown.stderr
        assert named.get(expected, expected) in shown.stdout
        after = client.list("journal", filter=f"position gt {position}").rows
        assert [row.action for row in after if row.action.startswith(("revocation", "leaver", "grant", "sign"))] == []


def test_one_of_a_few_rows_is_given_by_name_or_the_end_of_its_id_and_what_fits_two_asks() -> None:
    """Never the wrong one: a name may be spelled like the end of another's id."""
    phone, desk = (
        SimpleNamespace(id=UUID(int=number), name=name) for number, name in ((0xABCDEF1, "Phone"), (2, "Desk"))
    )

    def one(words: str, *rows: Any) -> UUID:
        return session.among(words, rows or (phone, desk), "tokens", lambda row: [row.name])

    assert (one("phone"), one("abcdef1"), one(str(desk.id))) == (phone.id, phone.id, desk.id)
    alike = SimpleNamespace(id=UUID(int=3), name="ABCDEF1")
    for words, told in (("abcdef1", "Several of the tokens fit"), ("x", "None of the tokens fits"), ("", "None")):
        with pytest.raises(BadInput, match=told):
            one(words, phone, desk, alike)


def test_every_list_can_be_shown_by_chosen_columns_and_whole() -> None:
    """Whatever it lists."""
    lists = {path: command for path, command in commands(cli) if path[-1] == "list"}
    wanted = {"--columns", "--wide", "--ids", "--output"}
    assert len(lists) > 30
    assert {path for path, command in lists.items() if not wanted <= options(command)} == set()
