"""The journal."""

from __future__ import annotations

import dataclasses
import json
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from uuid import UUID

import click

from openlatch.cli import session, trust
from openlatch.cli.output import Column, Word, err, moment, out, output_option, show_rows
from openlatch.cli.register import list_command
from openlatch.client import Client
from openlatch.core.journal import chain as core
from openlatch.core.journal import tree_heads
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject, JsonValue

# The exit code of verifying when nothing is altered, but no external tree head vouches for it.
UNVOUCHED = 6
FILES: list[Column] = [
    ("What", lambda r: Word("journal" if r.kind == "journal" else "earlier versions")),
    ("From", lambda r: moment(r.since)),
    ("Until", lambda r: moment(r.until)),
    ("Rows", lambda r: r.rows),
    ("Entries", lambda r: f"{r.first}–{r.last}" if r.first is not None else None),
    ("File", lambda r: r.file.rpartition("/")[2]),
    ("State", lambda r: r.fault or Word("as written")),
]
ENTRIES: list[Column] = [
    ("No", lambda r: r.position),
    ("When", lambda r: moment(r.at)),
    ("Who", lambda r: r.actor.name if r.actor else "Open Latch"),
    ("What", lambda r: r.action),
    ("On", lambda r: r.subject.name if r.subject else None),
]


@click.group()
def journal() -> None:
    """The tamper-evident record of everything that happened."""


def _say_what_is_archived(service: Client) -> None:
    until = service.me().archived_until
    if until is not None:
        err.print(f"Entries before {moment(until)} are in the archive: openlatch journal archived")


journal.add_command(list_command("journal", ENTRIES, "Nothing has happened.", note=_say_what_is_archived))


@journal.command("export")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def journal_export(file: Path) -> None:
    """Export the whole journal as JSON Lines."""
    count = 0
    with session.client() as service, file.open("w") as target, err.status("Taking the journal away"):
        for line in service.export_journal():
            target.write(line + "\n")
            count += 1
    out.print(f"Entries written to {file}: {count}.")


@journal.command("events")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--after", type=click.IntRange(0), default=0, show_default=True, help="Where the last time ended.")
def journal_events(file: Path, after: int) -> None:
    """Add the journal's entries after a position to FILE, as OCSF events in JSON Lines.

    Continue from the last line's metadata.sequence the next time.
    """
    count = 0
    with session.client() as service, file.open("a") as target:
        while True:
            lines = list(service.journal_events(after))
            if not lines:
                break
            target.writelines(line + "\n" for line in lines)
            count += len(lines)
            after = json.loads(lines[-1])["metadata"]["sequence"]
    out.print(f"{count} events added to {file}; continue with --after {after}.")


@journal.command("heads")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def journal_heads(file: Path) -> None:
    """Export the signed tree heads of the journal, one per line of FILE.

    Store them where nobody who can change the database can change them: they reveal an altered journal.
    """
    with session.client() as service:
        heads = service.tree_heads().heads
    file.write_text("".join(head.model_dump_json() + "\n" for head in heads))
    out.print(f"Signed heads written to {file}: {len(heads)}.")


@journal.command("archive")
@output_option
def journal_archive(output: str) -> None:
    """List the files of the archive: what is older than the database keeps, and whether it is as it was written."""
    with session.client() as service:
        show_rows(service.archive().parts, FILES, output, "Nothing is in the archive.")


@journal.command("archived")
@click.option(
    "--after", type=click.IntRange(0), default=0, show_default=True, help="The position after which to begin."
)
@click.option("--about", type=click.UUID, help="Only entries about one thing, by its whole id.")
@click.option("--limit", type=click.IntRange(1, 1000), default=100, show_default=True, help="How many at most.")
@output_option
def journal_archived(after: int, about: UUID | None, limit: int, output: str) -> None:
    """List entries of the journal that are in the archive, oldest first. They are not in `journal list`."""
    with session.client() as service:
        show_rows(service.archived_entries(after, about, limit), ENTRIES, output, "No such entry is in the archive.")


@journal.command("verify")
@click.option(
    "--file", type=click.Path(exists=True, dir_okay=False, path_type=Path), help="An export, verified offline."
)
@click.option("--expect", default="", metavar="POSITION:HASH", help="A position and hash noted earlier.")
@click.option(
    "--head",
    "heads",
    multiple=True,
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Signed tree heads that were kept elsewhere, or a bundle of evidence. Repeat it.",
)
@click.option("--key", default="", help="The public key that heads have to be signed with; left out, the trusted ones.")
@output_option
def journal_verify(file: Path | None, expect: str, heads: tuple[Path, ...], key: str, output: str) -> int:
    """Find an altered, missing or reordered entry. Works offline on an export.

    Exit code 0: sound, as far as external tree heads vouch for it. 4: not sound. 6: unaltered in itself, but no
    external tree head vouches for it.
    """
    expected = _expected(expect)
    given = [head for path in heads for head in _heads(path)]
    faults: list[core.Fault] = []
    if file is not None:
        entries: Iterable[JsonObject] = _entries(file)
        verdict = core.verify(entries, expected, tree_heads.Watch(_trusted(given, key, faults)))
    else:
        with session.client() as service, err.status("Verifying"):
            # Exported and verified here: the service does not vouch for itself.
            said = service.verify_journal(*(expected or ()))
            given += [tree_heads.parse(head.model_dump(mode="json")) for head in service.tree_heads().heads]
            watch = tree_heads.Watch(_trusted(given, key, faults))
            entries = (json.loads(line) for line in service.export_journal())
            verdict = core.verify(entries, expected, watch)
        if verdict.position < said.head_position:
            what = f"cut off: the journal's own head is at position {said.head_position}"
            faults.append(core.Fault(verdict.position + 1, what))
    verdict = dataclasses.replace(verdict, faults=(*faults, *verdict.faults))
    if output == "json":
        found = {
            "sound": verdict.sound,
            "entries": verdict.entries,
            "position": verdict.position,
            "hash": verdict.hash,
            "vouched": verdict.vouched,
            "heads": len(given),
        }
        told = [{"position": f.position, "what": f.what} for f in verdict.faults]
        print(json.dumps({**found, "faults": told}, indent=2))
    else:
        _write(verdict, len(given))
    return 4 if not verdict.sound else 0 if verdict.vouched else UNVOUCHED


def _heads(path: Path) -> list[tree_heads.Head]:
    """The heads in a file, or the one in a bundle of evidence. BadInput says what is wrong with it."""
    content = path.read_bytes()
    if not zipfile.is_zipfile(path):
        try:
            return tree_heads.read(content)
        except BadInput as error:
            raise BadInput(f"{path}: {error.detail}", error.remedy) from None
    try:
        with zipfile.ZipFile(path) as archive:
            return [tree_heads.parse(json.loads(archive.read("tree_head.json"))["head"])]
    except (KeyError, ValueError, OSError, zipfile.BadZipFile) as error:
        raise BadInput(
            f"{path} holds no tree head: {error}", "Give a bundle of evidence, or a file of heads."
        ) from None


def _trusted(heads: Sequence[tree_heads.Head], key: str, faults: list[core.Fault]) -> list[tree_heads.Head]:
    """The heads that vouch: validly signed by a trusted key. A forged one is a fault; without a key none do."""
    faults += tree_heads.unsigned(heads)
    keys = trust.keys(key)
    if heads and not keys:
        err.print("No key is trusted, so the signed heads vouch for nothing: openlatch evidence trust, or give --key.")
    strange = sorted({head.key for head in heads if head.key not in keys}) if keys else []
    if strange:
        err.print(f"Left out: heads signed by a key that is not trusted ({', '.join(strange)}).")
    return [head for head in heads if head.is_signed and head.key in keys]


def _write(verdict: core.Verdict, heads: int) -> None:
    for fault in verdict.faults[:50]:
        out.print(f"position {fault.position}: {fault.what}", markup=False)
    note = f"Note this, to prove it later: {verdict.position}:{verdict.hash}"
    if not verdict.sound:
        out.print(f"Not sound. Faults: {len(verdict.faults)}. Entries: {verdict.entries}.")
    elif verdict.vouched:
        after = verdict.entries - verdict.vouched
        more = f"; the {after} after it hold together" if after else ""
        out.print(f"Sound up to position {verdict.vouched}{more}. {note}")
    else:
        out.print(f"Its {verdict.entries} entries fit together. But nothing that was kept outside vouches for them.")
        out.print("A journal that was sealed anew would look the same. Give --head or --expect.")
        out.print(note)


def _expected(given: str) -> tuple[int, str] | None:
    if not given:
        return None
    position, _, digest = given.partition(":")
    if not position.isdigit() or len(digest) != 64:
        raise BadInput(f"{given!r} is not a position and a hash.", "Give what verify told you: POSITION:HASH")
    return int(position), digest.lower()


def _entries(file: Path) -> Iterator[JsonObject]:
    """The entries of an export. BadInput names an invalid line; an empty file is no journal."""
    number = 0
    with file.open("rb") as lines:
        for number, line in enumerate(lines, 1):
            try:
                entry = json.loads(line)
            except (json.JSONDecodeError, UnicodeDecodeError) as error:
                raise BadInput(
                    f"Line {number} of {file} is not JSON: {error}", "Use an export as it was written."
                ) from None
            if not _is_entry(entry):
                raise BadInput(f"Line {number} of {file} is not a journal entry.", "Use an export as it was written.")
            yield entry
    if not number:
        raise BadInput(f"{file} is empty: there is no journal in it.", "Use an export as it was written.")


def _is_entry(entry: JsonValue) -> bool:
    whole = isinstance(entry, dict) and type(entry.get("position")) is int
    return whole and isinstance(entry.get("hash"), str)


COMMANDS: dict[str, click.Command] = {"journal": journal}
