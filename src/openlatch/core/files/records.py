"""Reading imported files: CSV and JSON Lines to checked records.

Bytes are decoded by their byte order mark, else as UTF-8, else as windows-1252, which spreadsheets write when they do
not write UTF-8. CSV is RFC 4180 with the separators that spreadsheets use (comma, semicolon, tab), detected in the
header line. A record knows the number of the line on which it starts.
"""

from __future__ import annotations

import codecs
import csv
import json
import math
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime
from ipaddress import ip_network
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

from openlatch.core import addresses
from openlatch.core.time_windows import end_of_last_day, is_far_away, zone_of
from openlatch.core.vocabulary import HolderKind, Reach, Standing
from openlatch.errors import BadInput
from openlatch.instants import FIRST_YEAR
from openlatch.json_values import JsonList, JsonObject

LONGEST_FIELD = 10_000
LONGEST_HEADER = 5_000
# So many names that do not fit are told.
MOST_TOLD = 10
SEPARATORS = ",;\t"


@dataclass(frozen=True, slots=True)
class LineError:
    """One thing wrong with one line: its number (counting from 1), the field, and the reason."""

    line: int
    field: str
    reason: str


class BadField(ValueError):
    """A value that its field can't hold."""


# What a field of a line holds: text in a table, anything in JSON. Each reader checks what it takes.
Cell = Any
Reader = Callable[[Cell, ZoneInfo], object]


@dataclass(frozen=True, slots=True)
class Field:
    """A field of a kind of record: its name, how its text is read, and whether it may be empty."""

    name: str
    read: Reader
    required: bool = False
    default: object = None


@dataclass(frozen=True, slots=True)
class RecordKind:
    """A kind of record that can be imported: its fields, and which of them form its key.

    If it ``keeps``, fields missing in a file stay as they are in existing records.
    """

    name: str
    fields: tuple[Field, ...]
    key: tuple[str, ...]
    keeps: bool = False

    @property
    def names(self) -> tuple[str, ...]:
        """The names of all fields."""
        return tuple(f.name for f in self.fields)


# Readers of single fields. Each takes what the file had (text, or a JSON value) and the organisation's zone.


def text(value: object, zone: ZoneInfo) -> str:
    """Text without control characters or blanks around it."""
    if not isinstance(value, str):
        value = json.dumps(value)
    value = value.strip()
    if len(value) > LONGEST_FIELD:
        raise BadField(f"has {len(value)} characters; {LONGEST_FIELD} are the most")
    if not value.isprintable():
        raise BadField("holds control characters")
    return str(value)


def one_of(*words: str) -> Reader:
    """A reader of one word out of a few, ignoring case."""

    def read(value: Cell, zone: ZoneInfo) -> str:
        word = str(value).strip().lower()
        if word not in words:
            raise BadField(f"is {str(value)[:40]!r}; it has to be one of {', '.join(words)}")
        return word

    return read


def truth(value: object, zone: ZoneInfo) -> bool:
    """Yes or no, as people and spreadsheets write them."""
    if isinstance(value, bool):
        return value
    word = str(value).strip().lower()
    if word in ("true", "yes", "y", "1", "wahr", "vrai"):
        return True
    if word in ("false", "no", "n", "0", "falsch", "faux"):
        return False
    raise BadField(f"is {str(value)[:40]!r}; it has to be true or false")


def sensitivity(value: object, zone: ZoneInfo) -> int:
    """1 to 4, as a number or a word."""
    words = {"low": 1, "medium": 2, "high": 3, "critical": 4, "1": 1, "2": 2, "3": 3, "4": 4}
    found = words.get(str(value).strip().lower())
    if found is None:
        raise BadField(f"is {str(value)[:40]!r}; it has to be 1 (low) to 4 (critical)")
    return found


def address(value: Cell, zone: ZoneInfo) -> str:
    """An e-mail address, in lower case."""
    written = text(value, zone)
    try:
        return addresses.checked(written)
    except ValueError as error:
        raise BadField(f"is {written[:60]!r}, which is not an e-mail address: {error}") from None


def web_address(value: object, zone: ZoneInfo) -> str:
    """The address of a web page, which consoles will show as a link."""
    found = text(value, zone)
    if not re.fullmatch(r"https?://[^\s<>\"']+", found):
        raise BadField(f"is {found[:60]!r}; it has to begin with https:// or http://")
    return found


def zone_name(value: object, zone: ZoneInfo) -> str:
    """The name of a time zone."""
    name = text(value, zone)
    try:
        zone_of(name)
    except ValueError:
        raise BadField(f"is {name[:60]!r}, which is not a time zone; write one like Europe/London") from None
    return name


def instant(value: object, zone: ZoneInfo) -> datetime | None:
    """An instant in UTC. A bare day is its first instant in ``zone``; a far-away date is none."""
    parsed = _parse_time(value)
    if is_far_away(parsed):
        return None
    if parsed.year < FIRST_YEAR:
        raise BadField(f"is {str(value)[:40]!r}; nothing before {FIRST_YEAR} is taken")
    if not isinstance(parsed, datetime):
        parsed = datetime(parsed.year, parsed.month, parsed.day, tzinfo=zone)
    return (parsed if parsed.tzinfo else parsed.replace(tzinfo=zone)).astimezone(UTC)


def end(value: object, zone: ZoneInfo) -> datetime | None:
    """An end in UTC. A bare day is a last day and counts to its end in ``zone``; a far-away date is none."""
    parsed = _parse_time(value)
    if isinstance(parsed, datetime) or parsed.year < FIRST_YEAR:
        return instant(value, zone)
    return end_of_last_day(parsed, zone)


def _parse_time(value: object) -> date | datetime:
    written = str(value).strip()
    try:
        if re.fullmatch(r"\d{4}-\d{2}-\d{2}", written):
            return date.fromisoformat(written)
        return datetime.fromisoformat(written)
    except ValueError:
        raise BadField(
            f"is {written[:40]!r}; write a day as 2026-03-31 or an instant as 2026-03-31T18:00:00Z"
        ) from None


def hours(value: Cell, zone: ZoneInfo) -> int:
    """A number of hours, 1 to 168."""
    if not str(value).strip().isdigit() or not 1 <= int(str(value)) <= 168:
        raise BadField(f"is {str(value)[:40]!r}; it has to be a number of hours, 1 to 168")
    return int(str(value))


def permissions(value: Cell, zone: ZoneInfo) -> list[dict[str, str]]:
    """Permissions as ``key|sentence|reach`` parts with ``//`` between them, or a JSON list of objects."""
    parts = value if isinstance(value, list) else [p.split("|") for p in str(value).split("//")]
    found = []
    for part in parts:
        if isinstance(part, Mapping):
            part = [part.get("key", ""), part.get("sentence", ""), part.get("reach", "")]
        if len(part) != 3 or not all(str(p).strip() for p in part):
            raise BadField("each permission has to be key|sentence|reach")
        key, sentence, reach = (str(p).strip() for p in part)
        try:
            found.append({"key": key, "sentence": sentence, "reach": Reach.from_word(reach).word})
        except ValueError:
            raise BadField(f"has the reach {reach!r}; it has to be observe, operate, spend or steward") from None
    return found


def network(value: object, zone: ZoneInfo) -> str:
    """A range of addresses in CIDR notation (RFC 4632), of IPv4 or IPv6."""
    try:
        return str(ip_network(text(value, zone)))
    except ValueError:
        raise BadField(f"is {str(value)[:60]!r}; write a range of addresses as 192.0.2.0/24") from None


def degrees(most: int) -> Reader:
    """A reader of degrees of latitude or longitude."""

    def read(value: Cell, zone: ZoneInfo) -> float:
        try:
            found = float(str(value))
        except ValueError:
            found = math.nan
        if not -most <= found <= most:
            raise BadField(f"is {str(value)[:40]!r}; it has to be degrees from -{most} to {most}")
        return found

    return read


_HOLDER = one_of(*HolderKind)
_ACTOR = one_of("person", "app")

PEOPLE = RecordKind(
    "people",
    (
        Field("key", text, required=True),
        Field("name", text, required=True),
        Field("address", address),
        Field("inside", truth, default=True),
        Field("standing", one_of(*Standing), default="current"),
        Field("leaves_on", end),
        Field("job", text, default=""),
        Field("second_factor", truth, default=False),
        Field("manager", text),
    ),
    ("key",),
    keeps=True,
)
TEAMS = RecordKind(
    "teams",
    (
        Field("key", text, required=True),
        Field("name", text, required=True),
        Field("partner", truth, default=False),
        Field("purpose", text, default=""),
        Field("speaker", text),
    ),
    ("key",),
    keeps=True,
)
MEMBERSHIPS = RecordKind(
    "memberships",
    (
        Field("team", text, required=True),
        Field("member_kind", one_of("person", "team"), default="person"),
        Field("member", text, required=True),
        Field("since", instant),
        Field("until", end),
    ),
    ("team", "member_kind", "member"),
)
ACCOUNTS = RecordKind(
    "accounts",
    (
        Field("key", text, required=True),
        Field("name", text, required=True),
        Field("system", text, required=True),
        Field("kind", text, default="account"),
        Field("sensitivity", sensitivity, required=True),
        Field("owner", text),
        Field("time_zone", zone_name),
        Field("purpose", text, default=""),
        Field("emergency_hours", hours),
    ),
    ("key",),
    keeps=True,
)
LEVELS = RecordKind(
    "levels",
    (
        Field("system", text, required=True),
        Field("key", text, required=True),
        Field("name", text, required=True),
        Field("sentence", text, required=True),
        Field("permissions", permissions, required=True),
    ),
    ("system", "key"),
)
APPS = RecordKind(
    "apps",
    (
        Field("key", text, required=True),
        Field("name", text, required=True),
        Field("publisher", text, default=""),
        Field("home_page", web_address, default=""),
        Field("purpose", text, default=""),
    ),
    ("key",),
    keeps=True,
)
GRANTS = RecordKind(
    "grants",
    (
        Field("account", text, required=True),
        Field("holder_kind", _HOLDER, default="person"),
        Field("holder", text, required=True),
        Field("level", text, required=True),
        Field("since", instant),
        Field("until", end),
        Field("given_by", text),
        Field("given_at", instant),
        Field("last_used_at", instant),
        Field("credential_since", instant),
        Field("reason", text, default=""),
        Field("state", one_of("pending", "active", "suspended", "ended"), default="active"),
        Field("ended_as", one_of("revoked", "expired", "declined", "withdrawn", "given_up", "replaced")),
    ),
    ("account", "holder_kind", "holder", "level"),
)
SESSIONS = RecordKind(
    "sessions",
    (
        Field("key", text, required=True),
        Field("account", text, required=True),
        Field("holder_kind", _ACTOR, default="person"),
        Field("holder", text, required=True),
        Field("device", text, default=""),
        Field("address", text, default=""),
        Field("place", text, default=""),
        Field("started_at", instant, required=True),
        Field("last_seen_at", instant),
        Field("ended_at", instant),
    ),
    ("key",),
)
USE = RecordKind(
    "use",
    (
        Field("account", text, required=True),
        Field("holder_kind", _HOLDER, default="person"),
        Field("holder", text, required=True),
        Field("last_used_at", instant, required=True),
        Field("permission", text, default=""),
    ),
    ("account", "holder_kind", "holder", "permission", "last_used_at"),
)
HANDLES = RecordKind(
    "handles",
    (
        Field("system", text, required=True),
        Field("name", text, required=True),
        Field("holder_kind", _ACTOR, default="person"),
        Field("holder", text, required=True),
    ),
    ("system", "name"),
)
MARKS = RecordKind(
    "marks",
    (
        Field("person", text, required=True),
        Field("kind", one_of("uid", "fingerprint", "employee"), required=True),
        Field("value", text, required=True),
    ),
    ("person", "kind", "value"),
)
RESOURCES = RecordKind(
    "resources",
    (
        Field("account", text, required=True),
        Field("key", text, required=True),
        Field("name", text, required=True),
        Field("kind", text, default="part"),
        Field("public", truth, default=False),
        Field("group", text, default=""),
    ),
    ("account", "key"),
)
PLACES = RecordKind(
    "places",
    (
        Field("network", network, required=True),
        Field("place", text, required=True),
        Field("country", text, required=True),
        Field("latitude", degrees(90), required=True),
        Field("longitude", degrees(180), required=True),
    ),
    ("network",),
)
# In the order in which they have to be brought, since later kinds name earlier ones.
_KINDS = (
    PLACES,
    PEOPLE,
    TEAMS,
    MEMBERSHIPS,
    ACCOUNTS,
    RESOURCES,
    LEVELS,
    APPS,
    HANDLES,
    MARKS,
    GRANTS,
    SESSIONS,
    USE,
)
RECORD_KINDS = {kind.name: kind for kind in _KINDS}


# Files.


def encoding_of(source: BinaryIO) -> str:
    """The encoding of a file, by its mark or by whether it is valid UTF-8. Leaves the file at its start."""
    head = source.read(4)
    source.seek(0)
    if head.startswith(codecs.BOM_UTF8):
        return "utf-8-sig"
    if head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    decoder = codecs.getincrementaldecoder("utf-8")()
    try:
        while block := source.read(1 << 20):
            decoder.decode(block)
        decoder.decode(b"", final=True)
    except UnicodeDecodeError:
        return "windows-1252"
    finally:
        source.seek(0)
    return "utf-8"


# Which of our fields each column of a file is, by the column's name; one that is none of them is left out.
Matching = Mapping[str, str]


def csv_rows(
    lines: Iterable[str], kind: RecordKind, matching: Matching | None = None
) -> Iterator[tuple[int, JsonObject | LineError]]:
    """Numbered rows of a CSV file as dictionaries. BadInput when its header does not fit the kind."""
    columns, rows = csv_table(lines)
    header = [name.lower() for name in columns]
    if matching is not None:
        header = [matching.get(name, "") for name in columns]
        _refuse_unfit_header([name for name in header if name], kind)
    else:
        _refuse_unfit_header(header, kind)
    for line, row in rows:
        if isinstance(row, LineError):
            yield line, row
        elif len(row) != len(header):
            yield line, LineError(line, "", f"has {len(row)} fields; the header has {len(header)}")
        else:
            yield line, {name: value for name, value in zip(header, row, strict=True) if name}


def csv_table(lines: Iterable[str]) -> tuple[list[str], Iterator[tuple[int, list[str] | LineError]]]:
    """The columns of a CSV file as they are called there, and its numbered rows. BadInput for an endless header."""
    source = iter(lines)
    header_line = next(source, "")
    separator = max(SEPARATORS, key=header_line.count)
    if len(header_line) > LONGEST_HEADER:
        raise BadInput(
            f"The header has {len(header_line):,} characters; {LONGEST_HEADER:,} are the most.",
            "Let the first line hold the names of the fields.",
        )
    columns = [name.strip() for name in next(csv.reader([header_line], delimiter=separator), [])]
    return columns, _numbered(csv.reader(source, delimiter=separator, strict=True))


def _numbered(reader: Any) -> Iterator[tuple[int, list[str] | LineError]]:
    while True:
        line = reader.line_num + 2
        try:
            row = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            yield line, LineError(line, "", f"the line can't be read: {error}")
            continue
        if row:
            yield line, row


def _refuse_unfit_header(header: list[str], kind: RecordKind) -> None:
    counted = Counter(header)
    missing = [f.name for f in kind.fields if f.required and f.name not in counted]
    unknown = [name for name in counted if name not in kind.names]
    twice = sorted(name for name, times in counted.items() if times > 1)
    if missing or unknown or twice:
        told = [
            f"{label}: {', '.join(repr(n[:60]) for n in names[:MOST_TOLD])}{' …' if len(names) > MOST_TOLD else ''}"
            for label, names in (("missing", missing), ("unknown", unknown), ("twice", twice))
            if names
        ]
        raise BadInput(
            f"The header of this {kind.name} file does not fit ({'; '.join(told)}).",
            f"The fields are: {', '.join(kind.names)}.",
        )


def jsonl_rows(
    lines: Iterable[str], kind: RecordKind, matching: Matching | None = None
) -> Iterator[tuple[int, JsonObject | LineError]]:
    """Numbered rows of a JSON Lines file as dictionaries."""
    for line, row in json_objects(lines):
        if isinstance(row, LineError):
            yield line, row
            continue
        if matching is not None:
            yield line, {matching[name]: value for name, value in row.items() if matching.get(name)}
            continue
        unknown = [name for name in row if name not in kind.names]
        if unknown:
            yield line, LineError(line, unknown[0], f"is not a field; the fields are {', '.join(kind.names)}")
        else:
            yield line, row


def json_objects(lines: Iterable[str]) -> Iterator[tuple[int, JsonObject | LineError]]:
    """The numbered lines of a JSON Lines file as the objects that they are."""
    for line, written in enumerate(lines, 1):
        if not written.strip():
            continue
        try:
            row = json.loads(written)
        except (json.JSONDecodeError, RecursionError) as error:
            yield line, LineError(line, "", f"is not JSON: {error}"[:200])
            continue
        if isinstance(row, dict):
            yield line, row
        else:
            yield line, LineError(line, "", "is not a JSON object")


def check(
    line: int, row: Mapping[str, object], kind: RecordKind, zone: ZoneInfo
) -> tuple[object, ...] | list[LineError]:
    """One row as a tuple in the order of the kind's fields, or everything that is wrong with it."""
    values: JsonList = []
    errors: list[LineError] = []
    for field in kind.fields:
        given = row.get(field.name)
        if given is None or given == "":
            if field.required:
                errors.append(LineError(line, field.name, "is empty"))
            values.append(field.default)
            continue
        try:
            values.append(field.read(given, zone))
        except BadField as error:
            errors.append(LineError(line, field.name, str(error)))
    if not errors and "since" in kind.names and "until" in kind.names:
        since, until = values[kind.names.index("since")], values[kind.names.index("until")]
        if since is not None and until is not None and until <= since:
            errors.append(LineError(line, "until", "is not after since"))
    return errors or tuple(values)
