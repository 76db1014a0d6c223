"""The kinds of records that are edited by hand, and what each needs besides its columns."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, ClassVar, Generic, TypeVar
from uuid import UUID

from sqlalchemy import func, select

from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind, Standing
from openlatch.errors import BadInput, NotFound
from openlatch.json_values import JsonObject, JsonView
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account, Person, Resource, Team

Values = JsonView
# A class of rows of any table: each kind of record knows the columns of its own.
Table = type[Any]
Row = TypeVar("Row", bound=Any)
# Tables whose rows values can refer to, for showing their names.
_NAMED: tuple[Table, ...] = (Person, Team, Account, Resource)


class Kind(ABC, Generic[Row]):
    """A kind of record. ``parts`` are columns of tables whose rows belong to a record and are removed with it."""

    name: ClassVar[str]
    noun: ClassVar[str]
    table: ClassVar[Table]
    parts: ClassVar[frozenset[str]] = frozenset()

    def may_make(self, unit: Unit, given: Values) -> None:
        """NotAllowed for whoever may not make one."""
        unit.sight.require_administrator()

    def opened(self, unit: Unit, ident: UUID, fields: Iterable[str] = (), lock: bool = False) -> Row:
        """A record whose ``fields`` are to be edited, optionally locked. NotAllowed or NotFound before anything is
        looked up.
        """
        unit.sight.require_administrator()
        row: Row = found(unit, self.table, ident, self.noun, lock)
        return row

    @abstractmethod
    def values(self, unit: Unit, row: Row) -> JsonObject:
        """A record as form values."""

    @abstractmethod
    def write(self, unit: Unit, row: Row, given: Values) -> None:
        """Write a whole form. BadInput for what can't be, naming the field."""

    def fresh(self, unit: Unit, given: Values) -> Row:
        """A new row with its mandatory values."""
        row: Row = self.table(organisation_id=unit.viewer.organisation, name=given["name"])
        unit.db.add(row)
        return row

    def lets_in(self, unit: Unit, row: Row | None, before: Values, given: Values) -> Sequence[UUID]:
        """The accounts whose latches an edit can break."""
        return ()

    def afterwards(self, unit: Unit, row: Row, before: Values, given: Values) -> None:
        """What follows an edit: flags are evaluated, people notified."""
        unit.wake("evaluate")

    def refuse_removal(self, unit: Unit, row: Row) -> None:
        """Conflict for a record that can't be removed, for a reason specific to its kind."""

    def remove(self, unit: Unit, row: Row) -> None:
        """Delete a record that nothing refers to."""
        unit.db.delete(row)

    def label(self, row: Row) -> str:
        """What a record is called."""
        return str(row.name)


def names_of(unit: Unit, values: object) -> dict[str, str]:
    """The names of what values name by an id."""
    ids: set[UUID] = set()

    def gather(value: object) -> None:
        if isinstance(value, UUID):
            ids.add(value)
        elif isinstance(value, Mapping):
            for inner in value.values():
                gather(inner)
        elif isinstance(value, list | tuple):
            for inner in value:
                gather(inner)

    gather(values)
    found: dict[str, str] = {}
    for table in _NAMED if ids else ():
        rows = unit.db.execute(select(table.id, table.name).where(table.id.in_(ids)))
        found |= {str(ident): name for ident, name in rows}
    return found


def person_named(unit: Unit, ident: UUID | None, field: str) -> UUID | None:
    """The id of a person whom a form names. BadInput when there is none, or they have left."""
    if ident is None:
        return None
    person = unit.seen_person(ident)
    if person is None or person.standing == Standing.LEFT:
        raise BadInput("There is no such person, or they have left.", "Choose another.", {field: "unknown"})
    return ident


def row_named(unit: Unit, table: Table, ident: UUID | None, field: str, word: str) -> UUID | None:
    """The id of a record that a form names. BadInput when there is none."""
    if ident is None:
        return None
    row = unit.db.get(table, ident)
    if row is None or getattr(row, "archived_at", None) is not None:
        raise BadInput(f"There is no such {word}, or it is archived.", "Choose another.", {field: "unknown"})
    return ident


def reached_by(unit: Unit, person: UUID) -> list[UUID]:
    """The accounts that a person can act in now."""
    holder = Holder(HolderKind.PERSON, person)
    paths = access_paths.everything_reached(subgraph.around_holder(unit.db, holder), holder, unit.now)
    return sorted({path.account for path in paths})


def refuse_taken(unit: Unit, table: Table, name: str, but: UUID | None, noun: str) -> None:
    """BadInput when another record that is not archived has the name, ignoring case."""
    same = select(table.id).where(func.lower(table.name) == name.lower(), table.archived_at.is_(None))
    if but is not None:
        same = same.where(table.id != but)
    if unit.db.scalar(same.limit(1)) is not None:
        raise BadInput(f"There is {noun} of that name already.", "Use another name.", {"name": "is taken"})


def found(unit: Unit, table: Table, ident: UUID, noun: str, lock: bool = False) -> AnyRow:
    """A row by its id, optionally locked. NotFound for an unknown one."""
    row = unit.db.get(table, ident, with_for_update=lock, populate_existing=lock)
    if row is None:
        raise NotFound(f"There is no such {noun}, or you may not see it.")
    return row


# A kind of record, where any will do.
AnyKind = Kind[Any]
