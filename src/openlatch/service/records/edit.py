"""Making, changing, archiving and removing records: one use case each, for every kind.

Every edit passes the latches, is journalled with the old and new values, and is refused when somebody else changed the
record since it was looked at.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from uuid import UUID

from sqlalchemy import delete, func, select

from openlatch import schemas
from openlatch.core import latches as core_latches
from openlatch.core.checks import require_count
from openlatch.core.vocabulary import GrantState
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError, Outdated
from openlatch.json_values import JsonObject
from openlatch.service.attempt import attempt
from openlatch.service.canonical_json import fingerprint, jsonable
from openlatch.service.latches import guard
from openlatch.service.records.accounts import Accounts, Groups, Resources
from openlatch.service.records.apps import Apps
from openlatch.service.records.kinds import AnyKind, Values, found, names_of
from openlatch.service.records.levels import Levels
from openlatch.service.records.people import People
from openlatch.service.records.teams import Memberships, Teams
from openlatch.service.unit import Unit
from openlatch.store.sql_types import AnyColumn, AnyRow, AnyTable
from openlatch.store.tables import Base, Grant, JournalEntry

KINDS: Mapping[str, AnyKind] = {
    kind.name: kind for kind in (People(), Teams(), Memberships(), Accounts(), Resources(), Groups(), Apps(), Levels())
}
# Tables that refer to records, in words; others go by their own names.
_WORDS = {
    "grants": ("grant", "grants"),
    "memberships": ("membership", "memberships"),
    "sessions": ("session", "sessions"),
    "accounts": ("account", "accounts"),
    "people": ("person", "people"),
    "teams": ("team", "teams"),
    "items": ("item of a review", "items of reviews"),
    "sign_ins": ("sign-in", "sign-ins"),
    "terms": ("term of a grant", "terms of grants"),
    "resource_groups": ("group", "groups"),
    "steps": ("step of a revocation", "steps of revocations"),
    "revocation_targets": ("revocation", "revocations"),
    "person_addresses": ("address", "addresses"),
    "handles": ("login", "logins"),
    "requests": ("request", "requests"),
}
MOST_MANY = 500
# A record of any kind: the form of each kind describes its values.
Record = schemas.Record[dict[str, object]]
# Archiving or removing needs more than the right to edit single fields.
WHOLE = ("archived_at",)


def _kind(name: str) -> AnyKind:
    return KINDS[name]


def shown(unit: Unit, name: str, ident: UUID, warned: Sequence[core_latches.Breach] = ()) -> Record:
    """A record for editing. NotFound for one that may not be seen or edited."""
    kind = _kind(name)
    row = kind.opened(unit, ident)
    values = kind.values(unit, row)
    return Record(
        id=row.id,
        name=kind.label(row),
        version=row.version,
        archived_at=getattr(row, "archived_at", None),
        values=dict(values),
        named=names_of(unit, values),
        dependents=dependents(unit, kind, ident),
        warnings=[guard.shown(breach) for breach in warned],
    )


def make(unit: Unit, name: str, given: Values) -> Record:
    """Make a record. BadInput naming the field at fault; Held when a latch refuses whom it would let in."""
    kind = _kind(name)
    kind.may_make(unit, given)
    with guard.guarded(unit, kind.lets_in(unit, None, {}, given)) as warned:
        with unit.db.no_autoflush:
            row = kind.fresh(unit, given)
            kind.write(unit, row, given)
        unit.db.flush()
    ident = row.id
    row = found(unit, kind.table, ident, kind.noun)
    unit.record(f"{kind.noun}.made", kind.noun, ident, kind.label(row), _account_of(row), **_noted(given))
    kind.afterwards(unit, row, {}, given)
    unit.db.flush()
    unit.db.expire(row)
    return shown(unit, name, ident, warned)


def change(unit: Unit, name: str, ident: UUID, given: Values, version: int | None = None) -> Record:
    """Change some fields of a record. Outdated, saying what changed, when ``version`` is not the present one."""
    kind = _kind(name)
    row = kind.opened(unit, ident, given, lock=True)
    if version is not None and version != row.version:
        raise _outdated(unit, kind, row, version)
    before = kind.values(unit, row)
    after = {**before, **given}
    if after == before:
        return shown(unit, name, ident)
    with guard.guarded(unit, kind.lets_in(unit, row, before, after), refuses=name != "people") as warned:
        row = found(unit, kind.table, ident, kind.noun, lock=True)
        kind.write(unit, row, after)
        unit.db.flush()
    unit.db.expire_all()
    row = found(unit, kind.table, ident, kind.noun)
    now = kind.values(unit, row)
    changed = {field: [before[field], now[field]] for field in now if now[field] != before[field]}
    if changed:
        unit.record(
            f"{kind.noun}.changed", kind.noun, ident, kind.label(row), _account_of(row), changed=jsonable(changed)
        )
        kind.afterwards(unit, row, before, now)
        unit.db.flush()
        unit.db.expire(row)
    return shown(unit, name, ident, warned)


def _outdated(unit: Unit, kind: AnyKind, row: AnyRow, version: int) -> Outdated:
    """What was changed since a version, and by whom, from the journal."""
    entries = unit.db.scalars(
        select(JournalEntry)
        .where(JournalEntry.subject_id == row.id, JournalEntry.action == f"{kind.noun}.changed")
        .order_by(JournalEntry.position.desc())
        .limit(max(1, min(row.version - version, 20)))
    ).all()
    fields: dict[str, str] = {}
    for entry in entries:
        for field, (was, will) in entry.facts.get("changed", {}).items():
            fields.setdefault(field, f"{entry.actor_name} changed it from {_said(was)} to {_said(will)}")
    who = ", ".join(dict.fromkeys(entry.actor_name for entry in entries)) or "Something else"
    return Outdated(f"{who} changed {kind.label(row)} meanwhile.", fields=fields)


def _said(value: object) -> str:
    return "nothing" if value in (None, "", []) else f"“{value}”"


def _noted(values: Values) -> JsonObject:
    """The values of a new record for the journal."""
    filled = {field: value for field, value in values.items() if value not in (None, "", [], False)}
    return {"values": jsonable(filled)}


def _account_of(row: AnyRow) -> UUID | None:
    account: UUID | None = getattr(row, "account_id", None)
    return row.id if row.__tablename__ == "accounts" else account


# What depends on a record.


def _references(kind: AnyKind) -> list[tuple[AnyTable, AnyColumn]]:
    """Every column that refers to records of a kind, with its table, except of rows that belong to them."""
    name = kind.table.__tablename__
    return [
        (table, column)
        for table in Base.metadata.sorted_tables
        for column in table.columns
        if any(key.column.table.name == name for key in column.foreign_keys)
        and f"{table.name}.{column.name}" not in kind.parts
    ]


def dependents(unit: Unit, kind: AnyKind, ident: UUID) -> list[schemas.Dependent]:
    """What refers to a record, counted by kind."""
    counted: dict[str, int] = {}
    for table, column in _references(kind):
        count = unit.db.scalar(select(func.count()).select_from(table).where(column == ident)) or 0
        if count:
            counted[table.name] = counted.get(table.name, 0) + count
    return [schemas.Dependent(what=counted_words(name, n), count=n) for name, n in counted.items()]


def counted_words(table: str, count: int) -> str:
    """A number of rows of a table, in words."""
    return f"{count:,} {_words(table)[count != 1]}"


def _words(name: str) -> tuple[str, str]:
    plain = name.replace("_", " ")
    return _WORDS.get(name, (plain.removesuffix("s"), plain))


def remove(unit: Unit, name: str, ident: UUID, version: int | None = None) -> None:
    """Remove a record. Conflict, listing what depends on it, while something refers to it."""
    kind = _kind(name)
    row = kind.opened(unit, ident, WHOLE, lock=True)
    if version is not None and version != row.version:
        raise _outdated(unit, kind, row, version)
    kind.refuse_removal(unit, row)
    left = dependents(unit, kind, ident)
    if left:
        listed = ", ".join(one.what for one in left)
        instead = "Let them leave instead." if name == "people" else "Archive it instead."
        raise Conflict(f"{kind.label(row)} can't be removed: {listed} refer to it.", instead)
    label, account = kind.label(row), _account_of(row)
    values = kind.values(unit, row)
    with guard.guarded(unit, kind.lets_in(unit, row, values, values)):
        row = found(unit, kind.table, ident, kind.noun)
        for part in sorted(kind.parts):
            table, column = part.split(".")
            held = Base.metadata.tables[table]
            unit.db.execute(delete(held).where(held.c[column] == ident))
        kind.remove(unit, row)
        unit.db.flush()
    unit.record(
        f"{kind.noun}.removed", kind.noun, ident, label, account if name != "accounts" else None, **_noted(values)
    )
    unit.wake("evaluate")


def archive(unit: Unit, name: str, ident: UUID, is_archived: bool) -> Record:
    """Archive a record, or take it out again. Conflict while it is in use, or for a kind that can't be archived."""
    kind = _kind(name)
    if not hasattr(kind.table, "archived_at"):
        raise BadInput(f"A {kind.noun} can't be archived.", "Let a person leave; take a member out.")
    row = kind.opened(unit, ident, WHOLE, lock=True)
    if (row.archived_at is not None) == is_archived:
        return shown(unit, name, ident)
    if is_archived:
        _refuse_in_use(unit, kind, row)
    row.archived_at = unit.now if is_archived else None
    unit.record(
        f"{kind.noun}.{'archived' if is_archived else 'unarchived'}",
        kind.noun,
        ident,
        kind.label(row),
        _account_of(row),
    )
    unit.db.flush()
    unit.db.expire(row)
    return shown(unit, name, ident)


def _refuse_in_use(unit: Unit, kind: AnyKind, row: AnyRow) -> None:
    """Conflict while a live grant, an open session or a membership uses a record."""
    in_use: dict[str, int] = {}
    for table, column in _references(kind):
        statement = select(func.count()).select_from(table).where(column == row.id)
        if table.name == "grants" and column.name != "given_by_id":
            statement = statement.where(table.c.state != GrantState.ENDED)
        elif table.name == "sessions":
            statement = statement.where(table.c.ended_at.is_(None))
        elif table.name == "terms":
            live = select(Grant.id).where(Grant.state != GrantState.ENDED)
            statement = statement.where(table.c.grant_id.in_(live))
        elif table.name != "memberships" and not (table.name == "accounts" and column.name == "system_id"):
            continue
        count = unit.db.scalar(statement) or 0
        if count:
            in_use[table.name] = in_use.get(table.name, 0) + count
    if in_use:
        listed = ", ".join(counted_words(name, count) for name, count in in_use.items())
        raise Conflict(f"{kind.label(row)} is in use: {listed}.", "End those first; then it can be archived.")


# Many at once.


def change_many(
    unit: Unit, name: str, ids: Sequence[UUID], given: Values, only_preview: bool, seen: str = ""
) -> schemas.EditManyPreview:
    """Make the same change to several records; one refusal does not affect the others.

    Conflict when it would do something else than what was ``seen``.
    """
    kind = _kind(name)
    if not given:
        raise BadInput("Nothing is to be changed.", "Name a field, with its new value.", {"set": "is empty"})
    require_count(len(ids), MOST_MANY, "records", "ids", least=0)
    ids = list(dict.fromkeys(ids))
    lines, warned = _tried_many(unit, kind, ids, given, keep=False)
    result = _result(lines, warned)
    if only_preview:
        return result
    if seen and seen != result.fingerprint:
        raise Conflict("What this change does has changed since it was shown.", "Look at the preview again.")
    lines, warned = _tried_many(unit, kind, ids, given, keep=True)
    return _result(lines, warned)


def _tried_many(
    unit: Unit, kind: AnyKind, ids: Sequence[UUID], given: Values, keep: bool
) -> tuple[list[schemas.EditedLine], list[schemas.Breach]]:
    lines: list[schemas.EditedLine] = []
    warned: list[schemas.Breach] = []
    for ident in ids:
        line = schemas.EditedLine(id=ident, name="", changes=[], refused=None, remedy="")
        try:
            row = kind.opened(unit, ident, given)
            before = kind.values(unit, row)
            line.name = kind.label(row)
            with attempt(unit, keep) as within:
                after = change(within, kind.name, ident, given)
                warned += [one for one in after.warnings if one not in warned]
                line.changes = [
                    schemas.EditedValue(field=field, was=before[field], will=after.values[field])
                    for field in before
                    if before[field] != after.values[field]
                ]
        except NotFound as error:
            line.refused = error.detail
        except OpenLatchError as error:
            line.refused, line.remedy = error.detail, error.remedy
        lines.append(line)
    return lines, warned


def _result(lines: list[schemas.EditedLine], warned: list[schemas.Breach]) -> schemas.EditManyPreview:
    plain = jsonable({"lines": lines, "latches": warned})
    return schemas.EditManyPreview(
        lines=lines,
        changed=sum(1 for line in lines if line.changes),
        refused=sum(1 for line in lines if line.refused),
        latches=warned,
        fingerprint=fingerprint(plain),
    )
