"""The command line in the language of the terminal."""

from __future__ import annotations

import json

import pytest

from tests.cli.conftest import Run


def test_help_lists_and_refusals_are_in_the_language_of_the_terminal(run: Run) -> None:
    """With the same names of commands and options, and of what is in the register."""
    told = run("--help", OPENLATCH_LANGUAGE="de").stdout
    assert told.startswith("Aufruf: openlatch")
    assert "Optionen:" in told
    assert "Wer und was jedes gemeinsame Konto erreicht" in told
    assert "Alles durchsuchen, was Sie sehen dürfen" in told
    flags = run("flag", "list", "-n", "2", "--filter", 'rule eq "holder_left"', OPENLATCH_LANGUAGE="de").stdout
    assert ("Schwere" in flags, "Zustand" in flags) == (True, True)
    assert "gegangen und hat noch „" in flags
    one = run("flag", "list", "-n", "1", "--columns", "Schwere,State", OPENLATCH_LANGUAGE="de").stdout.split()
    assert one[:2] == ["Schwere", "Zustand"]
    refused = run("account", "show", "No such account", OPENLATCH_LANGUAGE="de")
    assert (refused.returncode, refused.stderr.splitlines()[0].startswith("Ungültige Anfrage. ")) == (1, True)
    typed = run("frobnicate", OPENLATCH_LANGUAGE="de")
    assert (typed.returncode, "Einen Befehl 'frobnicate' gibt es nicht." in typed.stderr) == (2, True)


def test_what_programs_read_is_the_same_in_every_language(run: Run) -> None:
    """But for sentences."""
    english, german = (
        json.loads(run("flag", "list", "-n", "3", "--output", "json", OPENLATCH_LANGUAGE=language).stdout)
        for language in ("en", "de")
    )
    said = {"title", "sentence", "remedy"}
    assert [row["sentence"] for row in english] != [row["sentence"] for row in german]
    assert [{k: v for k, v in row.items() if k not in said} for row in english] == [
        {k: v for k, v in row.items() if k not in said} for row in german
    ]


@pytest.mark.parametrize(
    ("variables", "is_german"),
    [
        ({"OPENLATCH_LANGUAGE": "", "LC_ALL": "de_AT.UTF-8"}, True),
        ({"OPENLATCH_LANGUAGE": "", "LC_ALL": "", "LC_MESSAGES": "", "LANG": "de"}, True),
        ({"OPENLATCH_LANGUAGE": "en", "LC_ALL": "de_AT.UTF-8"}, False),
        ({"OPENLATCH_LANGUAGE": "", "LC_ALL": "C.UTF-8", "LANG": "de_DE.UTF-8"}, False),
        ({"OPENLATCH_LANGUAGE": "cy"}, False),
    ],
)
def test_the_language_is_found_as_any_program_finds_it(run: Run, variables: dict[str, str], is_german: bool) -> None:
    """By POSIX, after our own variable; a language that is not spoken is English."""
    assert ("Optionen:" in run("today", "--help", **variables).stdout) is is_german
