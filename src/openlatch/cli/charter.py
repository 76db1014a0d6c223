"""The charter: how the organisation wants its register to be, as files."""

from __future__ import annotations

import json
import sys
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import click
import tomli_w
from pydantic import ValidationError

from openlatch import schemas
from openlatch.cli import session
from openlatch.cli.consent import consent_options, go_on
from openlatch.cli.output import Column, day, err, out, output_option, show_one, show_rows
from openlatch.json_values import JsonObject, JsonValue

PARTS = tuple(name for name in schemas.Charter.model_fields if name != "format")
DIFFER = 9
_WORDS = {"add": "added", "change": "changed", "remove": "removed"}
_IDLE = {"schedules": "paused", "teams": "archived", "levels": "archived", "latches": "switched off"}


class _Line(NamedTuple):
    """A line of a table: a value that differs, or an entry that comes or goes as a whole."""

    change: schemas.CharterChange
    value: schemas.EditedValue | None


COLUMNS: list[Column] = [
    ("Part", lambda r: r.change.part.replace("_", " ")),
    ("Name", lambda r: r.change.name),
    ("Would be", lambda r: _becomes(r.change)),
    ("Value", lambda r: r.value.field.replace("_", " ") if r.value else ""),
    ("In the register", lambda r: _said(r.value.was) if r.value else ""),
    ("In the files", lambda r: _said(r.value.will) if r.value else _entry(r.change)),
]
# What the name of an entry says already.
_IN_NAMES = {"name", "key", "team", "member", "kind", "account", "account_kind", "system"}


def _entry(change: schemas.CharterChange) -> str:
    """What an entry that comes says beyond its name."""
    told = [(v.field, v.will) for v in change.values if v.will and v.field not in _IN_NAMES]
    return "; ".join(f"{field.replace('_', ' ')}: {_said(value)}" for field, value in told)


def _becomes(change: schemas.CharterChange) -> str:
    return _IDLE.get(change.part, "removed") if change.change == "remove" else _WORDS[change.change]


def _said(value: JsonValue) -> str:
    if value is None or value in ("", []):
        return "–"
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


@click.group()
def charter() -> None:
    """How the organisation wants its register to be, as files.

    Teams, levels, latches, rules, schedules, and what is meant to be open.

    A part that the files leave out is left alone; one that they have is the whole of it.
    """


_PLACES = "FOLDER|FILE"


def _wrong(told: str) -> click.BadParameter:
    return click.BadParameter(told, param_hint=_PLACES)


def read(places: Sequence[Path]) -> schemas.Charter:
    """The charter in some files, or in all .toml files of folders. BadParameter, naming the place, for what it can't
    be.
    """
    files = [file for place in places for file in (sorted(place.glob("*.toml")) if place.is_dir() else [place])]
    if not files:
        raise _wrong(f"There is no .toml file in {', '.join(map(str, places))}.")
    found: JsonObject = {}
    told: dict[str, Path] = {}
    for file in files:
        try:
            parts = tomllib.loads(file.read_text("utf-8"))
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise _wrong(f"{file} is not TOML: {error}.") from None
        if parts.pop("format", None) != schemas.CHARTER_FORMAT:
            raise click.BadParameter(
                f'{file} does not begin with: format = "{schemas.CHARTER_FORMAT}"', param_hint=_PLACES
            )
        for part, entries in parts.items():
            if part in found and not (isinstance(entries, list) and isinstance(found[part], list)):
                raise click.BadParameter(
                    f"{part} is in {told[part]} and in {file}: it can be in one only.", param_hint=_PLACES
                )
            found[part] = found[part] + entries if part in found else entries
            told[part] = file
    try:
        return schemas.Charter.model_validate(found)
    except ValidationError as error:
        faults = "\n".join(_fault(found, told, dict(one)) for one in error.errors()[:10])
        raise _wrong(faults) from None


def _fault(found: JsonObject, told: dict[str, Path], error: JsonObject) -> str:
    """One fault: which file, which entry by its name, which field, and what is wrong."""
    part, *rest = error["loc"]
    where = [str(told.get(part, "the files")), str(part)]
    at: JsonValue = found.get(part)
    for step in rest:
        at = at[step] if isinstance(at, dict | list) and (isinstance(step, int) or step in at) else None
        named = at.get("name") or at.get("key") if isinstance(at, dict) else None
        where.append(str(named or (f"entry {step + 1}" if isinstance(step, int) else step)))
    words = "is not known here" if error["type"] == "extra_forbidden" else error["msg"]
    return f"{': '.join(where[:1])}: {', '.join(where[1:])}: {words}"


places_argument = click.argument(
    "places", nargs=-1, required=True, metavar=f"{_PLACES}...", type=click.Path(exists=True, path_type=Path)
)


def _lines(changes: Sequence[schemas.CharterChange]) -> list[_Line]:
    """A line for each value that changes, and one for each entry that comes or goes."""
    return [
        _Line(change, value) for change in changes for value in (change.values if change.change == "change" else [None])
    ]


def _show(changes: Sequence[schemas.CharterChange], output: str, empty: str) -> None:
    if output == "json":
        show_rows(changes, [], output, empty)
        return
    show_rows(_lines(changes), COLUMNS, output, empty)  # type: ignore[arg-type]


SAME = "The register is as the files say."


@charter.command("compare")
@places_argument
@output_option
def charter_compare(places: tuple[Path, ...], output: str) -> None:
    """Show what adopting the files would change. Nothing is changed.

    Exit code 0 when register and files agree, 9 when they differ, 1 when the register would refuse the files.
    """
    with session.client() as service:
        found = service.compare_charter(read(places))
    if output == "json":
        show_one(found, output, lambda: None)
    else:
        _show(found.changes, output, SAME)
    if found.refused:
        err.print(f"The register would refuse this: {found.refused}", markup=False)
        sys.exit(1)
    if found.changes:
        err.print(f"To adopt just this: openlatch charter adopt … --as-compared {found.fingerprint}", markup=False)
        sys.exit(DIFFER)


@charter.command("adopt")
@places_argument
@click.option(
    "--as-compared", "seen", default="", metavar="FINGERPRINT", help="Adopt only what that comparison showed."
)
@click.option("--source", default="", help="Where the files come from, such as their revision.")
@consent_options
@output_option
def charter_adopt(places: tuple[Path, ...], seen: str, source: str, output: str) -> None:
    """Change the register to what the files say, all in one transaction, after showing what that changes."""
    wanted = read(places)
    with session.client() as service:
        if not seen:
            found = service.compare_charter(wanted)
            if found.refused:
                err.print(f"The register would refuse this: {found.refused}", markup=False)
                sys.exit(1)
            if not found.changes:
                err.print(f"{SAME} They are recorded as the charter.")
            else:
                go_on("Change the register so?", lambda how: _show(found.changes, how, SAME), output)
            seen = found.fingerprint
        done = session.proving(service, lambda: service.adopt_charter(wanted, seen, source))
    count = len(done.changes)
    show_one(done, output, lambda: out.print(f"Adopted: {count} {'entry' if count == 1 else 'entries'} changed."))


@charter.command("status")
@output_option
def charter_status(output: str) -> None:
    """Show which files were adopted last, and what differs from them by now.

    Exit code 9 when the register differs.
    """
    with session.client() as service:
        found = service.charter()

    def write() -> None:
        if found.adopted is None:
            out.print("No charter was adopted. Begin with: openlatch charter write FOLDER", markup=False)
            return
        source = f", from {found.adopted.source}" if found.adopted.source else ""
        out.print(f"Adopted {day(found.adopted.at)} by {found.adopted.by}{source}.", markup=False)
        if found.outdated:
            out.print(f"It can't be compared any more. {found.outdated}", markup=False)
        else:
            _show(found.changes, "table", "The register is as it says.")

    show_one(found, output, write)
    if found.changes or found.outdated:
        sys.exit(DIFFER)


@charter.command("write")
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path))
@click.option("--part", "parts", multiple=True, type=click.Choice(PARTS), help="Only this part.")
@consent_options
def charter_write(folder: Path, parts: tuple[str, ...]) -> None:
    """Write the register's own charter, a file for each part."""
    with session.client() as service:
        found = service.charter().charter
    files = {folder / f"{part.replace('_', '-')}.toml": written(found, part) for part in parts or PARTS}
    there = [file for file in files if file.exists() and file.read_text("utf-8") != files[file]]
    if there:
        go_on(f"Write over {', '.join(map(str, there))}, with whatever comments they have?")
    folder.mkdir(parents=True, exist_ok=True)
    for file, text in files.items():
        file.write_text(text, "utf-8")
    out.print(f"Written to {folder}: {', '.join(file.name for file in files)}.", markup=False)


def written(found: schemas.Charter, part: str) -> str:
    """One part of a charter as TOML."""
    plain = found.model_dump(include={part}, exclude_defaults=True)
    # An empty part is the whole of it, too: it is there, with nothing in it.
    return tomli_w.dumps(
        {"format": schemas.CHARTER_FORMAT, part: _without_none(plain.get(part, getattr(found, part)))},
        multiline_strings=False,
    )


def _without_none(value: JsonValue) -> JsonValue:
    """TOML has no null: what is None is left out."""
    if isinstance(value, dict):
        return {key: _without_none(inner) for key, inner in value.items() if inner is not None}
    return [_without_none(inner) for inner in value] if isinstance(value, list) else value


@charter.command("schema")
def charter_schema() -> None:
    """Print the JSON Schema of the files."""
    print(json.dumps(schemas.Charter.model_json_schema(), indent=2))


COMMANDS: dict[str, click.Command] = {"charter": charter}
