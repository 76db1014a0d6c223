"""The whole register as one open file (JSON Lines), to move elsewhere or start from.

The first line describes the file, each further one is a row as PostgreSQL writes it in JSON, and the last has the count
and the SHA-256 of everything before it. It never contains secrets, passwords and links, nor computed data (flags,
breaches). The journal and the evidence of reviews are exported separately, since they are signed.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import IO, cast
from uuid import UUID, uuid5

import orjson
from sqlalchemy import Table, Uuid, func, select, text, update

from openlatch import schemas
from openlatch.core.vocabulary import SystemKind
from openlatch.errors import BadInput, Conflict
from openlatch.json_values import JsonObject, JsonValue
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.latches import guard
from openlatch.service.unit import Unit
from openlatch.store.sql_types import AnyColumn
from openlatch.store.tables import Account, Base, Grant, Organisation, Person, System

FORMAT, VERSION = "openlatch-register", 1
# In an order in which references can be resolved.
TABLES = (
    "people",
    "person_addresses",
    "marks",
    "teams",
    "memberships",
    "systems",
    "accounts",
    "resources",
    "resource_groups",
    "resources_in_groups",
    "levels",
    "apps",
    "handles",
    "places",
    "grants",
    "terms",
    "uses",
    "hand_tasks",
    "sessions",
    "latches",
    "own_rules",
    "schedules",
    "requests",
    "revocations",
    "revocation_targets",
    "steps",
    "rounds",
    "items",
    "questions",
    "flags",
    "saved_filters",
)
# Secret columns, generated ones, and those meaningful only in the original organisation.
_LEFT_OUT: dict[str, frozenset[str]] = {
    "systems": frozenset({"secret", "has_secret", "reading_since", "reading_seen", "next_read_at"}),
    "grants": frozenset({"shown"}),
    # Columns that evidence of closed rounds refers to by the original ids.
    "rounds": frozenset({"items_hash"}),
}
# Flags are evaluated again; accepted ones are decisions and are kept.
_ONLY = {"flags": "where state = 'accepted'"}
_NEVER = frozenset({"organisation_id", "recorded_at"})
BATCH = 500


def columns_of(name: str) -> list[AnyColumn]:
    """The columns of a table that a file contains, in order."""
    table = Base.metadata.tables[name]
    left_out = _NEVER | _LEFT_OUT.get(name, frozenset())
    return [column for column in table.columns if column.name not in left_out and column.computed is None]


def schema() -> JsonObject:
    """The format as JSON Schema (2020-12): what each line may be."""
    rows = [
        {
            "type": "object",
            "properties": {
                "table": {"const": name},
                "row": {
                    "type": "object",
                    "additionalProperties": False,
                    "properties": {column.name: _schema_of(column) for column in columns_of(name)},
                    "required": [column.name for column in columns_of(name) if not column.nullable],
                },
            },
            "required": ["table", "row"],
            "additionalProperties": False,
        }
        for name in TABLES
    ]
    first = {
        "type": "object",
        "properties": {
            "format": {"const": FORMAT},
            "version": {"const": VERSION},
            "organisation": {
                "type": "object",
                "properties": {
                    "name": {"type": "string"},
                    "time_zone": {"type": "string"},
                    "settings": {"type": "object"},
                },
                "required": ["name", "time_zone", "settings"],
                "additionalProperties": False,
            },
            "taken_at": {"type": "string", "format": "date-time"},
        },
        "required": ["format", "version", "organisation", "taken_at"],
        "additionalProperties": False,
    }
    last = {
        "type": "object",
        "properties": {"lines": {"type": "integer"}, "sha256": {"type": "string", "pattern": "^[0-9a-f]{64}$"}},
        "required": ["lines", "sha256"],
        "additionalProperties": False,
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A line of a whole register",
        "description": "The first line is the header, the last one the end; all others are rows.",
        "oneOf": [first, *rows, last],
    }


def _schema_of(column: AnyColumn) -> JsonObject:
    kinds = {
        "UUID": {"type": "string", "format": "uuid"},
        "TEXT": {"type": "string"},
        "BOOLEAN": {"type": "boolean"},
        "INTEGER": {"type": "integer"},
        "SMALLINT": {"type": "integer"},
        "BIGINT": {"type": "integer"},
        "DOUBLE PRECISION": {"type": "number"},
        "DATETIME": {"type": "string"},
        "CIDR": {"type": "string"},
        "DATEMULTIRANGE": {"type": "string"},
    }
    kind = "UUID" if isinstance(column.type, Uuid) else str(column.type)
    found = kinds.get(kind, {})
    return {"anyOf": [found, {"type": "null"}]} if column.nullable and found else found


# Export.


def lines(unit: Unit) -> Iterator[bytes]:
    """Every line of the file, from one transaction, so from one instant."""
    digest, count = hashlib.sha256(), 0
    for line in _written(unit):
        written = orjson.dumps(line) + b"\n"
        digest.update(written)
        count += 1
        yield written
    yield orjson.dumps({"lines": count, "sha256": digest.hexdigest()}) + b"\n"


def _written(unit: Unit) -> Iterator[JsonObject]:
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation)
    about = {"name": organisation.name, "time_zone": organisation.time_zone, "settings": organisation.settings}
    yield {"format": FORMAT, "version": VERSION, "organisation": about, "taken_at": unit.now.isoformat()}
    for name in TABLES:
        columns = ", ".join(f'"{column.name}"' for column in columns_of(name))
        which = _ONLY.get(name, "")
        statement = text(f'select to_jsonb(r) from (select {columns} from "{name}" {which} order by id) r')  # noqa: S608
        for (row,) in unit.db.execute(statement.execution_options(yield_per=2_000)):
            yield {"table": name, "row": row}


# Import.


def bring(unit: Unit, held: IO[bytes]) -> schemas.RegisterBrought:
    """Import a file into an empty organisation; returns the number of rows by table.

    Every row gets a new id, so the file can be imported beside its original organisation. Whoever imports it stays who
    they are: a person with the same address in the file is them. BadInput for an incomplete or invalid file, Conflict
    when the organisation is not empty. All or nothing.
    """
    unit.sight.require_administrator()
    unit.require_proof("Bringing a whole register in")
    _refuse_filled(unit)
    _refuse_broken(held)
    ids = _Ids(unit)
    counts = dict.fromkeys(TABLES, 0)
    batch: list[JsonObject] = []
    later: list[tuple[str, str, UUID, UUID]] = []
    current = ""
    for number, line in _read(held):
        if "format" in line:
            _take_settings(unit, line["organisation"])
        elif "table" in line:
            name = line["table"]
            if name != current or len(batch) >= BATCH:
                _insert(unit, current, batch)
                batch, current = [], name
            row = _fitting(ids, number, name, line["row"], later)
            if row is not None:
                batch.append(row)
                counts[name] += 1
    _insert(unit, current, batch)
    for name, column, ident, target in later:
        unit.db.execute(
            text(f'update "{name}" set "{column}" = :target where id = :ident'),  # noqa: S608  of our tables
            {"target": target, "ident": ident},
        )
    # Secrets are not exported: systems have to be connected again before they are read.
    away = update(System).where(System.kind != SystemKind.BY_HAND).values(paused_at=unit.now)
    unit.db.execute(away)
    unit.db.expire_all()
    unit.record("register.brought", "organisation", unit.viewer.organisation, "The whole register", rows=counts)
    unit.db.flush()
    guard.evaluate(unit)
    evaluate_flags.forget(unit)
    return schemas.RegisterBrought(rows=counts, lines=sum(counts.values()))


def _refuse_filled(unit: Unit) -> None:
    others = select(func.count(Person.id)).where(Person.id != unit.viewer.person)
    filled = [
        name
        for name, count in (
            ("accounts", select(func.count(Account.id))),
            ("grants", select(func.count(Grant.id))),
            ("people", others),
        )
        if unit.db.scalar(count)
    ]
    if filled:
        raise Conflict(
            f"There are {' and '.join(filled)} already.",
            "A whole register comes into an organisation that is empty yet; bring single files otherwise.",
        )


def _refuse_broken(held: IO[bytes]) -> None:
    """BadInput unless the file is complete and of this format."""
    held.seek(0)
    digest, count, last = hashlib.sha256(), 0, b""
    for line in held:
        if last:
            digest.update(last)
            count += 1
        last = line
    end = _object(count + 1, last or b"{}")
    if end != {"lines": count, "sha256": digest.hexdigest()}:
        raise BadInput(
            "The file is not whole: its last line does not match what comes before it.",
            "Take it away once more.",
            {"file": "is not whole"},
        )
    held.seek(0)
    first = _object(1, held.readline())
    if first.get("format") != FORMAT or first.get("version") != VERSION:
        wanted = f"Its first line has to say {FORMAT} and version {VERSION}."
        raise BadInput("This is not the file of a whole register of this version.", wanted, {"file": "another format"})
    held.seek(0)


def _object(number: int, line: bytes) -> JsonObject:
    try:
        found = orjson.loads(line)
    except orjson.JSONDecodeError:
        found = None
    if not isinstance(found, dict):
        raise BadInput(f"Line {number} is no JSON object.", "Take the file away once more.", {"file": "not JSON"})
    return cast(JsonObject, found)


def _read(held: IO[bytes]) -> Iterator[tuple[int, JsonObject]]:
    held.seek(0)
    for number, line in enumerate(held, 1):
        yield number, _object(number, line)


def _take_settings(unit: Unit, given: JsonObject) -> None:
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    row.settings = {**given["settings"], **{k: v for k, v in row.settings.items() if k == "mail"}}
    row.time_zone = given["time_zone"]
    unit.db.flush()


class _Ids:
    """The new id of each id in the file."""

    def __init__(self, unit: Unit) -> None:
        self._space = unit.viewer.organisation
        self._known: dict[str, UUID] = {}
        me = unit.db.get(Person, unit.viewer.person) if unit.viewer.person else None
        self.me = me.id if me is not None else None
        self.address = (me.address or "").lower() if me is not None else ""

    def new(self, old: str) -> UUID:
        """A new id for a row of the file."""
        found = self._known.get(old)
        if found is None:
            found = self._known[old] = uuid5(self._space, old)
        return found

    def is_me(self, old: str) -> UUID | None:
        """Map a row of the file to whoever imports it."""
        assert self.me is not None
        self._known[old] = self.me
        return self.me

    def of(self, old: str) -> UUID | None:
        """The new id of something imported before; None for anything else."""
        return self._known.get(old)

    def within(self, value: object) -> JsonValue:
        """A value with the file's ids replaced by new ones."""
        if isinstance(value, str):
            return str(self._known[value]) if value in self._known else value
        if isinstance(value, list):
            return [self.within(one) for one in value]
        if isinstance(value, dict):
            return {key: self.within(one) for key, one in value.items()}
        return value


def _fitting(
    ids: _Ids, number: int, name: str, row: object, later: list[tuple[str, str, UUID, UUID]]
) -> JsonObject | None:
    """A row with new ids; None for one that exists already, or belongs to something not imported."""
    if name not in TABLES or not isinstance(row, dict):
        raise BadInput(f"Line {number} names an unknown table.", "Take the file away once more.", {"file": "unknown"})
    table = Base.metadata.tables[name]
    known = {column.name: column for column in columns_of(name)}
    if not set(row) <= set(known) or not isinstance(row.get("id"), str):
        raise BadInput(
            f"Line {number} has columns that {name} has not.",
            "Is it of another version?",
            {"file": ", ".join(sorted(set(row) - set(known)))[:200] or "no id"},
        )
    if name == "people" and ids.address and str(row.get("address") or "").lower() == ids.address:
        ids.is_me(row["id"])
        return None
    ident = ids.new(row["id"])
    found: JsonObject = {"id": ident}
    for column, value in row.items():
        if column == "id":
            continue
        refers = _target(table, known[column])
        if refers is None or value is None:
            found[column] = _without_reference(ids, known[column], value)
        elif refers == name:
            # References within a table may point to a later row.
            found[column] = None
            later.append((name, column, ident, ids.new(value)))
        else:
            found[column] = ids.of(value)
            if found[column] is None and not known[column].nullable:
                return None
    return found


def _without_reference(ids: _Ids, column: AnyColumn, value: object) -> JsonValue:
    """A value without a foreign key, which may name rows of the file all the same."""
    if isinstance(column.type, Uuid) and isinstance(value, str):
        return ids.of(value) or value
    return ids.within(value) if isinstance(value, dict | list) else value


def _target(table: Table, column: AnyColumn) -> str | None:
    return next((key.column.table.name for key in column.foreign_keys), None)


def _insert(unit: Unit, name: str, rows: Iterable[dict[str, object]]) -> None:
    rows = list(rows)
    if not rows:
        return
    names = [column.name for column in columns_of(name) if any(column.name in row for row in rows)]
    listed = ", ".join(f'"{one}"' for one in names)
    filled = [{**dict.fromkeys(names), **row} for row in rows]
    statement = f"""
        insert into "{name}" (organisation_id, {listed})
        select :organisation, {listed} from jsonb_populate_recordset(null::"{name}", cast(:rows as jsonb))
    """  # noqa: S608  of our tables and columns
    written = orjson.dumps(filled, default=_plain).decode()
    unit.db.execute(text(statement), {"organisation": unit.viewer.organisation, "rows": written})


def _plain(value: object) -> JsonValue:
    if isinstance(value, UUID | datetime):
        return str(value)
    raise TypeError
