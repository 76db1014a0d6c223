"""What the how-tos show is typed here, command by command, on the demo."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path

import click
import pytest

from openlatch.cli.main import cli
from openlatch.client import Client
from openlatch.runtime.demo import Demo
from tests.cli.conftest import Run

HOW_TOS = Path(__file__).parents[2] / "docs" / "how-to"
# Commands that are not typed here, by how they begin, and why.
ELSEWHERE = {
    "charter": "files in a folder: the tests of the charter write and adopt them",
    "run": "a service of its own: the tests of the runtime follow that guide",
    "connect": "a server that is not there: the tests of systems connect one",
    "provider add": "an issuer that is not there: the tests of providers have one",
    "provider remove": "the provider that is not there",
    "me rename-passkey": "a passkey needs a browser: the tests of passkeys have one",
    "me remove-passkey": "the passkey that is not there",
    "signal source": "a transmitter that is not there: the tests of signals have one",
    "signal clear": "somebody who was reported: the tests of signals have one",
    "host-program": "a file for another host: the tests of hosts write it",
    "archive": "the configuration of the owner: its tests call it",
    "routes": "a service of its own: the tests of several databases do it",
    "organisation": "a service of its own: the tests of several databases do it",
    "login": "another service: the tests of several databases do it",
    "doctor": "the configuration of the worker: its tests call it",
    "request grant": "what can be given as it was asked: the tests of requests ask for it",
    "leaver report": "somebody whose access is ending: the tests of leaving have one",
    "register": "a file of an empty organisation: the tests of moving have one",
}
# Who types it, where it is not the administrator.
TYPED_BY = {
    **dict.fromkeys(("request ask", "request withdraw", "my-access", "grant longer", "grant give-up"), "delegate"),
}

# Whom a command is about here, where the how-to names somebody with whom that is not so.
OTHERS = {
    ("leaver show", "Gwil Tresco"): "Anselm Roe",
}

HELD = 'state eq "active" and recorded eq true and until pr and holder.kind eq "person"'
BY_THEM = 'holder.name eq "Fenna Aldous"'


def commands() -> Iterator[tuple[str, str]]:
    """Every command of a block, with the document it is in."""
    for path in sorted(HOW_TOS.glob("*.md")):
        for block in re.findall(r"^```sh\n(.*?)^```", path.read_text(), re.DOTALL | re.MULTILINE):
            for line in block.replace("\\\n", " ").splitlines():
                if line.startswith("openlatch ") and path.name != "run-it.md":
                    yield path.stem, line


def meant(words: list[str]) -> tuple[str, click.Command]:
    """The command that is meant, and what it is called."""
    found: click.Command = cli
    name: list[str] = []
    for word in words:
        if not isinstance(found, click.Group):
            break
        command = found.get_command(click.Context(found), word)
        if command is None:
            break
        found, name = command, [*name, word]
    assert not isinstance(found, click.Group) or found.invoke_without_command, f"no command: {words}"
    return " ".join(name), found


@pytest.fixture
def placeholders(stack: Demo, tokens: dict[str, str], tmp_path: Path) -> Mapping[str, Callable[[str], str]]:
    """What stands in the place of a word in capitals, or of an id that is left out, for a kind of sign-in."""

    def first(kind: str, condition: str, role: str) -> str:
        with Client(stack.address, tokens[role]) as client:
            rows = client.list(kind, filter=condition, limit=1).rows
        assert rows, f"the demo has no {kind} with {condition}"
        return str(rows[0].id)

    def holder(role: str) -> str:
        with Client(stack.address, tokens[role]) as client:
            held = client.list("grants", filter='state eq "active" and holder.kind eq "person"', limit=1).rows[0].holder
        assert held is not None
        return str(held.id)

    (tmp_path / "people.csv").write_text("key,name,address\nnell,Nell Ardern,nell@hollinfell.example.org\n")
    return {
        "GRANT": lambda role: first("grants", HELD if role == "administrator" else f"{HELD} and {BY_THEM}", role),
        "SESSION": partial(first, "sessions", "not (ended_at pr)"),
        "REVOCATION": partial(first, "revocations", 'state eq "confirmed"'),
        "ROUND": partial(first, "rounds", "closed_at pr"),
        "FLAG": partial(first, "flags", 'state eq "open" and severity eq 2'),
        "REQUEST": partial(first, "requests", 'state eq "pending"'),
        "LOGIN": lambda _: "user:gwil",
        "…": holder,
    }


def test_every_command_of_the_how_tos_works(
    run: Run, tokens: dict[str, str], placeholders: Mapping[str, Callable[[str], str]], tmp_path: Path
) -> None:
    """Where a command takes something away it stops at its preview; everything else is done."""
    tried = 0
    for document, line in commands():
        words = shlex.split(line.partition(" > ")[0], comments=True)[1:]
        name, command = meant(words)
        if any(name.startswith(each) for each in ELSEWHERE):
            continue
        role = TYPED_BY.get(name, "administrator")
        words = [_filled(OTHERS.get((name, word), word), placeholders, tmp_path, role) for word in words]
        offered = {option for each in command.params for option in each.opts}
        words += [one for one in ("--preview",) if one in offered and one not in words]
        words += ["--yes"] if "--yes" in offered and "--preview" not in words and "--yes" not in words else []
        done = run(*words, OPENLATCH_TOKEN=tokens[role])
        assert done.returncode == 0, f"{document}: {line}\n{words}\n{done.stdout}{done.stderr}"
        tried += 1
    assert tried > 60
    assert run("webhook", "remove", "Duty channel", "--yes").returncode == 0


def _filled(word: str, placeholders: Mapping[str, Callable[[str], str]], folder: Path, role: str) -> str:
    if re.search(r"\.(csv|json|jsonl|zip)$", word) and not word.startswith("-"):
        return str(folder / Path(word).name)
    if word in placeholders and word != "…":
        return placeholders[word](role)
    return word.replace('"…"', f'"{placeholders["…"](role)}"') if '"…"' in word else word.replace("…", "As agreed.")
