"""The journal."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from openlatch.cli import session
from openlatch.cli.output import Column, err, moment, out, output_option
from openlatch.cli.register import list_command
from openlatch.core import journal as core
from openlatch.errors import BadInput

ENTRIES: list[Column] = [
    ("No", lambda r: r.position),
    ("When", lambda r: moment(r.at)),
    ("Who", lambda r: r.actor.name if r.actor else "Open Latch"),
    ("What", lambda r: r.action),
    ("On", lambda r: r.subject.name if r.subject else None),
]


@click.group()
def journal() -> None:
    """The tamper-evident record of all that happened."""


journal.add_command(list_command("journal", ENTRIES, "Nothing has happened."))


@journal.command("export")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def journal_export(file: Path) -> None:
    """Take the whole journal away as JSON Lines."""
    count = 0
    with session.client() as service, file.open("w") as target, err.status("Taking the journal away"):
        for line in service.export_journal():
            target.write(line + "\n")
            count += 1
    out.print(f"{count} entries written to {file}.")


@journal.command("verify")
@click.option(
    "--file", type=click.Path(exists=True, dir_okay=False, path_type=Path), help="An export, verified offline."
)
@click.option("--expect", default="", metavar="POSITION:HASH", help="A position and hash noted earlier.")
@output_option
def journal_verify(file: Path | None, expect: str, output: str) -> int:
    """Find an altered, missing or reordered entry. Works offline on an export."""
    expected = _expected(expect)
    if file is not None:
        verdict = core.verify(_entries(file), expected)
    else:
        with session.client() as service, err.status("Verifying"):
            # Taken away and verified here: the service is not asked to vouch for itself.
            head = service.verify_journal(*(expected or ()))
            noted = expected or (head.position, head.hash)
            verdict = core.verify((json.loads(line) for line in service.export_journal()), noted)
    if output == "json":
        found = {"sound": verdict.sound, "entries": verdict.entries, "position": verdict.position, "hash": verdict.hash}
        faults = [{"position": f.position, "what": f.what} for f in verdict.faults]
        print(json.dumps({**found, "faults": faults}, indent=2))
    else:
        _write(verdict)
    return 0 if verdict.sound else 4


def _write(verdict: core.Verdict) -> None:
    for fault in verdict.faults[:50]:
        out.print(f"position {fault.position}: {fault.what}", markup=False)
    if verdict.sound:
        out.print(f"Sound: {verdict.entries} entries. Note this, to prove it later: {verdict.position}:{verdict.hash}")
    else:
        out.print(f"Not sound: {len(verdict.faults)} faults in {verdict.entries} entries.")


def _expected(given: str) -> tuple[int, str] | None:
    if not given:
        return None
    position, _, digest = given.partition(":")
    if not position.isdigit() or len(digest) != 64:
        raise BadInput(f"{given!r} is not a position and a hash.", "Give what verify told you: POSITION:HASH")
    return int(position), digest.lower()


def _entries(file: Path) -> Iterator[dict[str, Any]]:
    with file.open() as lines:
        for number, line in enumerate(lines, 1):
            try:
                entry = json.loads(line)
            except json.JSONDecodeError as error:
                raise BadInput(
                    f"Line {number} of {file} is not JSON: {error}", "Use an export as it was written."
                ) from None
            if not isinstance(entry, dict) or "position" not in entry or "hash" not in entry:
                raise BadInput(f"Line {number} of {file} is not a journal entry.", "Use an export as it was written.")
            yield entry


COMMANDS: dict[str, click.Command] = {"journal": journal}
