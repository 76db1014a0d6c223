"""Merging two records of one person or one app: previewed, and undoable for thirty days.

All references to the one refer to the other afterwards, by set-based statements; resulting duplicates are dropped and
stored in the merge. The journal and closed rounds still name who was named then, so the merged record stays too, marked
as merged, and is shown nowhere.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from uuid import UUID

from sqlalchemy import Text, and_, cast, delete, func, insert, select, text, update
from sqlalchemy.dialects.postgresql import JSONB

from openlatch import schemas
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind, Standing
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonList, JsonObject
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.canonical_json import fingerprint, jsonable
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.latches import guard
from openlatch.service.records.edit import KINDS, counted_words
from openlatch.service.records.kinds import AnyKind, found
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.sql_types import AnyColumn, AnyRow, AnyTable, Expression
from openlatch.store.tables import Account, Base, Merge, Person, PersonAddress, Round, SignIn

UNDO_FOR = timedelta(days=30)
MERGEABLE = ("people", "apps")
MOST_TOUCHED = 500
MOST_NAMED = 50
# Tables where a merge can make two rows equal: the other columns by which they are equal.
_TWICE: dict[str, tuple[str, ...]] = {
    "memberships.person_id": ("team_id",),
    "marks.person_id": ("kind", "value"),
    # One for each person.
    "scim_records.person_id": (),
}
# Columns that refer to records without a foreign key.
_LOOSE = ("flags.holder_id",)
# Computed from the register.
_COMPUTED = ("flags.subject_id", "findings.subject_id")
# Rows removed together with the merged record.
_WITH_IT = frozenset({"calendars.person_id", "address_proofs.person_id"})
_FILLED = {"people": ("address", "job", "manager_id", "deputy_id"), "apps": ("publisher", "home_page", "purpose")}
_ALONE = {"manager_id", "deputy_id"}
_OF_ONESELF = ("people.manager_id", "people.deputy_id")
# Columns cleared in a merged record: unique values, and those that would still be looked up.
_AWAY: dict[str, JsonObject] = {
    "people": {"address": None, "key": None, "standing": "left", "manager_id": None, "deputy_id": None},
    "apps": {"key": None},
}


def _pair(unit: Unit, name: str, keep: UUID, drop: UUID, lock: bool = False) -> tuple[AnyKind, AnyRow, AnyRow]:
    unit.sight.require_administrator()
    if name not in MERGEABLE:
        raise BadInput(f"Two {name} can't be merged.", "People and apps can.", {"keep": "can't be merged"})
    if keep == drop:
        raise BadInput("These are one record already.", "Name two.", {"drop": "is the same"})
    kind = KINDS[name]
    # Both in one statement, so that the time taken does not reveal which of them exists.
    wanted = select(kind.table).where(kind.table.id.in_([keep, drop])).order_by(kind.table.id)
    rows = {row.id: row for row in unit.db.scalars(wanted.with_for_update() if lock else wanted)}
    if len(rows) < 2:
        raise NotFound(f"There is no such {kind.noun}, or you may not see it.")
    for row in rows.values():
        if row.merged_into_id is not None:
            raise Conflict(f"{row.name} was merged into another record already.", "Look at the list again.")
    return kind, rows[keep], rows[drop]


def preview(unit: Unit, name: str, keep: UUID, drop: UUID) -> schemas.MergePreview:
    """What merging would do: what moves, what is filled in, what is lost, where the kept record gains rights."""
    kind, kept, gone = _pair(unit, name, keep, drop)
    _refuse(unit, kept, gone)
    holder_kind = HolderKind.PERSON if name == "people" else HolderKind.APP
    reached = _reached(unit, holder_kind, drop)
    more = sorted(set(reached) - set(_reached(unit, holder_kind, keep)))
    with attempt(unit, keep=False) as within:
        with guard.guarded(within, reached, refuses=False) as warned:
            moved, _, filled = _carry_out(within, kind, kept, gone)
        broken = [guard.shown(breach) for breach in warned]
    named = unit.db.execute(select(Account.id, Account.name).where(Account.id.in_(more)).order_by(Account.name))
    shown = schemas.MergePreview(
        kept=schemas.Named(id=keep, name=kept.name),
        gone=schemas.Named(id=drop, name=gone.name),
        moves=[
            schemas.Dependent(what=counted_words(place.split(".")[0], len(ids)), count=len(ids))
            for place, ids in moved.items()
            if ids
        ],
        fills=[
            schemas.EditedValue(field=f.removesuffix("_id"), was=was, will=_value(gone, f)) for f, was in filled.items()
        ],
        loses=list(_lost(kind, kept, gone)),
        accounts=[schemas.Named(id=ident, name=account) for ident, account in named][:MOST_NAMED],
        latches=broken,
        fingerprint="",
    )
    return shown.model_copy(update={"fingerprint": fingerprint(shown)})


def _value(row: object, field: str) -> object:
    value = getattr(row, field)
    return str(value) if isinstance(value, UUID) else value


def _lost(kind: AnyKind, kept: object, gone: object) -> Iterator[schemas.EditedValue]:
    for field in ("name", "job", "publisher", "home_page", "purpose"):
        was, stays = getattr(gone, field, None), getattr(kept, field, None)
        if was and stays and was != stays:
            yield schemas.EditedValue(field=field, was=was, will=stays)


def _refuse(unit: Unit, kept: AnyRow, gone: AnyRow) -> None:
    """Conflict for two people who both sign in, or one who left and one who did not."""
    if not isinstance(kept, Person):
        return
    signs_in = set(unit.db.scalars(select(SignIn.person_id).where(SignIn.person_id.in_([kept.id, gone.id]))))
    if len(signs_in) == 2:
        raise Conflict(f"{kept.name} and {gone.name} both sign in here.", "Take one of the two sign-ins away first.")
    if (kept.standing == Standing.LEFT) != (gone.standing == Standing.LEFT):
        left = kept if kept.standing == Standing.LEFT else gone
        raise Conflict(
            f"{left.name} has left, and the other record has not.", "Let both leave, or say that neither has."
        )


def _reached(unit: Unit, kind: HolderKind, ident: UUID) -> list[UUID]:
    return subgraph.onward(unit.db, [Holder(kind, ident)])


def merge(unit: Unit, name: str, keep: UUID, drop: UUID, seen: str = "") -> schemas.MergeOf:
    """Merge two records. Needs a proof. Conflict when it would do something else than what was ``seen``."""
    unit.sight.require_administrator()
    locks.access(unit)
    kind, kept, gone = _pair(unit, name, keep, drop, lock=True)
    _refuse(unit, kept, gone)
    if seen and seen != preview(unit, name, keep, drop).fingerprint:
        raise Conflict("What this merge does has changed since it was shown.", "Look at the preview again.")
    unit.require_proof("Merging two records")
    kept, gone = found(unit, kind.table, keep, kind.noun, True), found(unit, kind.table, drop, kind.noun, True)
    kept_name, gone_name = kept.name, gone.name
    holder_kind = HolderKind.PERSON if name == "people" else HolderKind.APP
    touched = sorted({*_reached(unit, holder_kind, drop), *_reached(unit, holder_kind, keep)})
    # That two records are of one person is a fact: broken latches are flagged, not refused.
    with guard.guarded(unit, touched, refuses=False):
        moved, dropped, filled = _carry_out(unit, kind, kept, gone)
    row = Merge(
        organisation_id=unit.viewer.organisation,
        kind=name,
        kept_id=keep,
        kept_name=kept_name,
        gone_id=drop,
        gone_name=gone_name,
        merged_at=unit.now,
        merged_by=unit.viewer.name,
        moved={place: [str(ident) for ident in ids] for place, ids in moved.items() if ids},
        dropped=dropped,
        filled=jsonable(filled),
    )
    unit.db.add(row)
    unit.db.flush()
    unit.record(
        f"{kind.noun}.merged",
        kind.noun,
        keep,
        kept_name,
        gone=str(drop),
        gone_name=gone_name,
        moved={place: len(ids) for place, ids in moved.items() if ids},
    )
    _look_again(unit, kind, keep, moved)
    return shown(row)


def _carry_out(
    unit: Unit, kind: AnyKind, kept: AnyRow, gone: AnyRow
) -> tuple[dict[str, list[UUID]], dict[str, JsonList], JsonObject]:
    """Move every reference, drop duplicates, fill in what is missing, and mark the record as merged."""
    keep, drop, noun = kept.id, gone.id, kind.table.__tablename__
    filled = {
        f: getattr(kept, f)
        for f in _FILLED[kind.name]
        if not getattr(kept, f) and getattr(gone, f) and not (f in _ALONE and getattr(gone, f) == keep)
    }
    wanted = {f: getattr(gone, f) for f in filled}
    dropped: dict[str, JsonList] = {}
    moved: dict[str, list[UUID]] = {}
    unit.db.flush()
    own = kind.table.__table__
    dropped[noun] = _rows(unit, own, own.c.id == drop)
    for place in _COMPUTED:
        table, column = _column(place)
        unit.db.execute(delete(table).where(column == drop))
    if isinstance(gone, Person):
        _keep_address(unit, kept, gone)
    unit.db.execute(update(own).where(own.c.id == drop).values({"merged_into_id": keep, **_AWAY[kind.name]}))
    for place in _places(noun):
        table, column = _column(place)
        if place in _WITH_IT:
            _drop(unit, dropped, table, column == drop)
            continue
        if place in _TWICE:
            same = table.alias()
            equal = [same.c[by] == table.c[by] for by in _TWICE[place]]
            twice = select(same.c.id).where(same.c[column.name] == keep, *equal).exists()
            _drop(unit, dropped, table, and_(column == drop, twice))
        elif place in _OF_ONESELF:
            # Nobody becomes their own manager or deputy.
            unit.db.execute(update(table).where(column == drop, table.c.id == keep).values({column.name: None}))
        moving = update(table).where(column == drop, *_still_open(table)).values({column.name: keep})
        moved[place] = list(unit.db.scalars(moving.returning(table.c.id)))
    _in_text(unit, drop, keep)
    if wanted:
        unit.db.execute(update(own).where(own.c.id == keep).values(wanted))
    unit.db.expire_all()
    return moved, dropped, filled


def _still_open(table: AnyTable) -> JsonList:
    """Only items of open rounds: closed rounds do not change."""
    if table.name != "items":
        return []
    return [table.c.round_id.in_(select(Round.id).where(Round.closed_at.is_(None)))]


def _rows(unit: Unit, table: AnyTable, which: Expression) -> JsonList:
    """Rows without generated columns."""
    kept = [column for column in table.columns if column.computed is None]
    gone = select(*kept).where(which).subquery("gone")
    return list(unit.db.scalars(select(func.to_jsonb(text("gone.*"))).select_from(gone)))


def _keep_address(unit: Unit, kept: Person, gone: Person) -> None:
    """The address of the merged record becomes another address of the kept one."""
    address = (gone.address or "").lower()
    known = select(PersonAddress.id).where(func.lower(PersonAddress.address) == address)
    if not kept.address or kept.address.lower() == address or unit.db.scalar(known) is not None:
        return
    unit.db.add(PersonAddress(organisation_id=kept.organisation_id, person_id=gone.id, address=address))
    unit.db.flush()


def _places(table: str) -> list[str]:
    """Every column that refers to a record of a table."""
    keyed = [
        f"{other.name}.{column.name}"
        for other in Base.metadata.sorted_tables
        for column in other.columns
        if any(key.column.table.name == table for key in column.foreign_keys) and column.name != "merged_into_id"
    ]
    return [*keyed, *_LOOSE]


def _column(place: str) -> tuple[AnyTable, AnyColumn]:
    table, column = place.split(".")
    held = Base.metadata.tables[table]
    return held, held.c[column]


def _drop(unit: Unit, dropped: dict[str, JsonList], table: AnyTable, which: Expression) -> None:
    """Delete rows and return them."""
    rows = _rows(unit, table, which)
    if rows:
        dropped.setdefault(table.name, []).extend(rows)
        unit.db.execute(delete(table).where(which))


# JSON lists of people's ids: reviewers of schedules, and candidates for logins.
_IN_TEXT = ("schedules.reviewers", "handles.candidates")


def _in_text(unit: Unit, old: UUID, new: UUID) -> None:
    for place in _IN_TEXT:
        table, column = _column(place)
        written = cast(column, Text)
        replaced = cast(func.replace(written, str(old), str(new)), JSONB)
        unit.db.execute(update(table).where(written.contains(str(old))).values({column.name: replaced}))


def _look_again(unit: Unit, kind: AnyKind, keep: UUID, moved: dict[str, list[UUID]]) -> None:
    """Evaluate flags on what moved: a few here, many by the worker."""
    place = "grants.person_id" if kind.name == "people" else "grants.app_id"
    grants = moved.get(place, [])
    if len(grants) <= MOST_TOUCHED:
        evaluate_flags.evaluate(unit, grants=grants, people=[keep] if kind.name == "people" else [])
    unit.wake("evaluate")


def shown(row: Merge) -> schemas.MergeOf:
    """A merge as an answer."""
    return schemas.MergeOf(
        id=row.id,
        kind=row.kind,
        kept=schemas.Named(id=row.kept_id, name=row.kept_name),
        gone=schemas.Named(id=row.gone_id, name=row.gone_name),
        merged_at=row.merged_at,
        merged_by=row.merged_by,
        undone_at=row.undone_at,
        undo_until=row.merged_at + UNDO_FOR,
    )


def latest(unit: Unit) -> list[schemas.MergeOf]:
    """The latest merges, newest first."""
    unit.sight.require_administrator()
    return [shown(row) for row in unit.db.scalars(select(Merge).order_by(Merge.merged_at.desc(), Merge.id).limit(200))]


def undo(unit: Unit, ident: UUID) -> schemas.MergeOf:
    """Undo a merge: the record is back, and what moved refers to it again, where it still refers to the kept one.

    Conflict after thirty days, when it was undone already, or when its name or address is taken.
    """
    unit.sight.require_administrator()
    locks.access(unit)
    row = unit.db.get(Merge, ident, with_for_update=True)
    if row is None:
        raise NotFound("There is no such merge.")
    if row.undone_at is not None:
        raise Conflict("This merge was undone already.", "There is nothing more to do.")
    if unit.now > row.merged_at + UNDO_FOR:
        raise Conflict("This merge is older than thirty days.", "Create the record again.")
    unit.require_proof("Undoing a merge")
    kind = KINDS[row.kind]
    if unit.db.get(kind.table, row.kept_id) is None:
        raise Conflict("The record that was kept is gone.", "Create the other one again.")
    holder_kind = HolderKind.PERSON if row.kind == "people" else HolderKind.APP
    touched = guard.touched(unit, _reached(unit, holder_kind, row.kept_id))
    moved = {place: [UUID(i) for i in ids] for place, ids in row.moved.items()}
    with guard.guarded(unit, touched, refuses=False):
        _take_back(unit, kind, row, moved)
    row = unit.db.get_one(Merge, ident)
    row.undone_at = unit.now
    unit.record(
        f"{kind.noun}.merge_undone",
        kind.noun,
        row.kept_id,
        row.kept_name,
        gone=str(row.gone_id),
        gone_name=row.gone_name,
    )
    _look_again(unit, kind, row.gone_id, moved)
    unit.db.flush()
    return shown(row)


def _take_back(unit: Unit, kind: AnyKind, row: Merge, moved: dict[str, list[UUID]]) -> None:
    table = kind.table.__table__
    if row.filled:
        unit.db.execute(update(table).where(table.c.id == row.kept_id).values(row.filled))
    was = row.dropped[table.name][0]
    back = {name: was[name] for name in _AWAY[row.kind]}
    unit.db.execute(update(table).where(table.c.id == row.gone_id).values({"merged_into_id": None, **back}))
    for place, ids in moved.items():
        held, column = _column(place)
        which = and_(held.c.id.in_(ids), column == row.kept_id)
        unit.db.execute(update(held).where(which).values({column.name: row.gone_id}))
    if row.kind == "people" and was["address"]:
        # It had become another address of the kept record, and is this one's first again.
        same = func.lower(PersonAddress.address) == was["address"].lower()
        unit.db.execute(delete(PersonAddress).where(PersonAddress.person_id == row.gone_id, same))
    for name, rows in row.dropped.items():
        if name != table.name:
            _put_back(unit, Base.metadata.tables[name], rows)
    unit.db.flush()
    unit.db.expire_all()


def _put_back(unit: Unit, table: AnyTable, rows: JsonList) -> None:
    if not rows:
        return
    columns = [c for c in table.columns if c.computed is None]
    names = [c.name for c in columns]
    values = func.jsonb_populate_recordset(text(f"null::{table.name}"), cast(list(rows), JSONB))
    source = values.table_valued(*columns).alias("kept")
    unit.db.execute(insert(table).from_select(names, select(*(source.c[name] for name in names))))
