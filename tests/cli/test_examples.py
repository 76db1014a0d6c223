"""The examples of commands, and what is told where a line could not be used."""

from __future__ import annotations

import json
import shlex
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import click
import pytest

from openlatch.cli import examples, session
from openlatch.cli.main import cli
from tests.cli.conftest import Run


def every(command: click.Command, words: tuple[str, ...] = ()) -> Iterator[tuple[str, click.Command]]:
    """Each command that does something, with its words."""
    if isinstance(command, click.Group):
        for name in command.list_commands(click.Context(command)):
            below = command.get_command(click.Context(command), name)
            assert below is not None
            if not below.hidden:
                yield from every(below, (*words, name))
    if not isinstance(command, click.Group) or command.invoke_without_command:
        yield " ".join(words), command


def as_given(self: click.ParamType, value: object, param: object, context: object) -> object:
    """What is typed, where something of the service or a file is named."""
    return value


def test_every_command_has_an_example_that_it_takes(monkeypatch: pytest.MonkeyPatch) -> None:
    """And no example is left of a command that is no more."""
    for kind in (session.Reference, click.Path, click.File):
        monkeypatch.setattr(kind, "convert", as_given)
    monkeypatch.setattr(session, "zone", lambda: UTC)
    # What is asked for at the terminal, as a reason is.
    monkeypatch.setattr(click.Option, "prompt_for_value", lambda self, _: True if self.is_flag else "x")
    left = examples.lines()
    for words, command in every(cli):
        if not words:
            continue
        line = examples.example_of(command, words)
        assert line, f"{words} has no example"
        left.remove(line)
        # Options at fault, unknown ones and those that are lacking are refused here.
        command.make_context(words, shlex.split(line.removeprefix(words)))
    assert left == []


def test_a_line_that_does_not_fit_is_answered_with_one_that_does(run: Run) -> None:
    """Whether the program refuses it or the service; where it is the example itself, it is not said again."""
    wrong = run("trim")
    assert wrong.returncode == 2
    assert 'For example: openlatch trim 5b1c7d02 --until "31 Mar"' in wrong.stderr
    refused = run("schedule", "make", "Calendars", "--scope", 'state eq "active"', "--every", "quarter")
    assert refused.returncode == 1
    assert "At fault: --starts\nFor example: openlatch schedule make " in refused.stderr
    nothing = run("grant", "end", "--reason", "x", "--preview")
    assert "At fault: GRANTS\n" in nothing.stderr
    again = run("app", "unmerge", "Old Exporter")
    assert "None of the merges fits" in again.stderr
    assert "For example" not in again.stderr
    assert "For example:\n    openlatch round decide " in run("round", "decide", "--help").stdout


def test_an_instant_without_a_zone_is_meant_where_the_organisation_is(
    run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Not where the terminal is; and a day as people write it is one, too."""
    monkeypatch.setattr(session, "zone", lambda: ZoneInfo("Europe/Oslo"))
    for written in ("2026-07-01", "1 Jul 2026"):
        read = session.Instant(is_past=True).convert(written, None, None)
        assert read == datetime(2026, 6, 30, 22, tzinfo=UTC)
    shown = run("exposure", "past", "Press room", "--at", "1 Nov")
    assert shown.returncode == 0, shown.stderr


def test_options_take_what_lists_show(run: Run, tmp_path: Path) -> None:
    """Words of a sensitivity, days as people write them, groups and archived records by name."""
    for given, kept in (("critical", 4), ("2", 2), ("low", 1)):
        edited = run("account", "edit", "Hut calendar", "--sensitivity", given, "-o", "json")
        assert edited.returncode == 0, edited.stderr
        shown = json.loads(run("account", "record", "Hut calendar", "-o", "json").stdout)
        assert shown["values"]["sensitivity"] == kept
    assert "'9' is no sensitivity; it is one of low, medium" in run("account", "edit", "x", "--sensitivity", "9").stderr
    assert run("team", "add-member", "Trustees", "Kit Varley", "--until", "in 6 weeks").returncode == 0
    assert run("team", "remove-member", "Trustees", "Kit Varley", "-y").returncode == 0
    assert (
        run("resource", "group", "add", "Season", "--account", "Hut web pages", "--resource", "Front page").returncode
        == 0
    )
    groups = run("resource", "group", "list", "-o", "csv")
    assert "Hut web pages,Season,Front page" in groups.stdout
    assert run("resource", "group", "archive", "Season").returncode == 0
    assert "Season" not in run("resource", "group", "list", "-o", "csv").stdout
    assert run("resource", "group", "archive", "Season", "--undo").returncode == 0
    assert run("resource", "group", "remove", "Season", "-y").returncode == 0
    assert (
        "recorded already"
        in run(
            "grant", "record", "Petty cash book", "Noor Ashdown", "Enter bookings", "--evidence", "Its page of users"
        ).stdout
    )
