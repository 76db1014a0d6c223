"""Lists: one way to filter, search, sort and page over anything in the register.

A list is a set of named columns. The same names are its attributes in filters, its sort keys and, nested at the
dots, its rows. Paging is by keyset: a cursor holds the sort value and the id of the last row.
"""

from __future__ import annotations

import base64
import binascii
import json
import operator as operators
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import lru_cache
from uuid import UUID

from sqlalchemy import (
    BindParameter,
    ColumnElement,
    FromClause,
    Select,
    String,
    Text,
    and_,
    any_,
    bindparam,
    cast,
    func,
    not_,
    or_,
    select,
)
from sqlalchemy.orm import Session

from openlatch.core.filters import (
    AND,
    NOT,
    OR,
    Attribute,
    Compare,
    Kind,
    Node,
    Operator,
    Present,
    check,
    matches,
    names_in,
    parse,
    require_attribute,
)
from openlatch.core.vocabulary import Reach
from openlatch.errors import BadInput
from openlatch.json_values import JsonValue, SqlRow
from openlatch.store.sql_types import AnyColumn, AnySelect, Expression

MOST = 500
# How many rows are looked at for the values of an attribute.
MOST_LOOKED_AT = 20_000

__all__ = ["Column", "ListQuery", "Listing", "Page", "Row", "condition", "matches", "names_in"]

# A row of a list by its columns, which each list chooses for itself; the model of the answer checks their types.
Row = SqlRow


@dataclass(frozen=True, slots=True)
class Column:
    """A column: its SQL, what it holds, what it means, and how it may be used.

    ``equals`` finds a value in another way than by ``expression``, where the server can estimate that better.
    """

    expression: AnyColumn
    kind: Kind
    sentence: str
    shown: bool = True
    filtered: bool = True
    sorted: bool = False
    nullable: bool = True
    equals: Callable[[str], ColumnElement[bool]] | None = field(default=None, kw_only=True)


@dataclass(frozen=True, slots=True)
class ListQuery:
    """A request for a page: filter, search, sort, limit, cursor."""

    filter: str = ""
    search: str = ""
    sort: str = ""
    limit: int = 50
    cursor: str = ""
    count: bool = False


@dataclass(frozen=True, slots=True)
class Page:
    """Some rows, the cursor of the next page (empty at the end), and the total count when asked for."""

    rows: list[Row]
    next: str = ""
    count: int | None = None


@dataclass(frozen=True)
class Listing:
    """A list that can be filtered, searched, sorted and paged.

    ``lean`` is the source without what only the columns in ``heavy`` need: enough to find or count rows by others.
    """

    name: str
    source: FromClause
    columns: Mapping[str, Column]
    default_sort: str
    searched: Sequence[str] = ()
    lean: FromClause | None = None
    heavy: frozenset[str] = frozenset()
    attributes: dict[str, Attribute] = field(init=False)

    def __post_init__(self) -> None:
        found = {n: Attribute(c.kind, c.sentence) for n, c in self.columns.items() if c.filtered}
        object.__setattr__(self, "attributes", found)

    @property
    def sorts(self) -> list[str]:
        """The names that a list can be sorted by."""
        return [name for name, column in self.columns.items() if column.sorted]

    def of(self, organisation: UUID) -> ColumnElement[bool]:
        """The rows of one organisation, also said in the query, so that it can use indexes that begin with it."""
        ident = self.columns["id"].expression
        of = ident.class_ if hasattr(ident, "class_") else ident.table.c
        found: ColumnElement[bool] = of.organisation_id == organisation
        return found

    def checked(self, text: str) -> Node | None:
        """A filter checked against this list, or None for an empty one. BadFilter when it does not fit."""
        return check(parse(text), self.attributes) if text.strip() else None

    def names(self, text: str) -> set[str]:
        """The attributes that a filter names."""
        node = self.checked(text)
        return set() if node is None else set(names_in(node))

    def page(self, db: Session, query: ListQuery, visible: Sequence[ColumnElement[bool]] = ()) -> Page:
        """A page of visible rows. BadInput for an invalid sort, limit or cursor."""
        if not 1 <= query.limit <= MOST:
            raise BadInput(f"limit is {query.limit}.", f"Use 1 to {MOST}.", {"limit": "out of range"})
        name, descending = self._sort(query.sort or self.default_sort)
        column, ident = self.columns[name], self.columns["id"].expression
        wanted = self._conditions(query, visible)
        if query.cursor:
            after = _decode(query.cursor, query.sort, column.kind, self.columns["id"].kind)
            wanted.append(self._after(column, descending, after))
        key = column.expression
        order = [key.desc() if descending else key.asc(), ident.desc() if descending else ident.asc()]
        if column.nullable:
            order[0] = order[0].nulls_last()
        # Written into the statement: to the server a page of an unknown length is a tenth of everything, and it would
        # make a new plan each time, which takes it longer than all the rest.
        most: BindParameter[int] = bindparam("most", query.limit + 1, literal_execute=True)
        source = self._source(self._used(query) | {name})
        if source is not self.source:
            # The server would work out what is shown of every match before it takes the first of them.
            picked = select(ident).select_from(source).where(*wanted).order_by(*order).limit(most)
            wanted = [ident == any_(func.array(picked.correlate(None).scalar_subquery()))]
        found = db.execute(self._rows().where(*wanted).order_by(*order).limit(most)).mappings().all()
        flat = [dict(row) for row in found[: query.limit]]
        more = len(found) > query.limit
        following = _encode(query.sort, flat[-1][name], flat[-1]["id"]) if more else ""
        total = self._count(db, query, visible) if query.count else None
        return Page([nested(row) for row in flat], following, total)

    def one(self, db: Session, ident: UUID, visible: Sequence[ColumnElement[bool]] = ()) -> Row | None:
        """The visible row with that id."""
        row = db.execute(self._rows().where(self.columns["id"].expression == ident, *visible)).mappings().first()
        return nested(dict(row)) if row else None

    def all(
        self, db: Session, text: str, visible: Sequence[ColumnElement[bool]] = (), most: int | None = None
    ) -> list[Row]:
        """Every visible row that a filter matches, by id."""
        wanted = self._conditions(ListQuery(filter=text), visible)
        statement = self._rows().where(*wanted).order_by(self.columns["id"].expression).limit(most)
        return [nested(dict(row)) for row in db.execute(statement).mappings()]

    def values(
        self, db: Session, attribute: str, words: str, visible: Sequence[ColumnElement[bool]], most: int
    ) -> list[str]:
        """Up to ``most`` values of an attribute among visible rows that contain some words, in their order.

        Of long lists only the first rows are looked at. BadFilter for an unknown attribute.
        """
        require_attribute(attribute, self.attributes)
        held = self.columns[attribute].expression
        source = self._source({attribute})
        asked = [held.is_not(None), *visible, *([_like(cast(held, Text), words, "%", "%")] if words else [])]
        some = (
            select(cast(held, Text).label("value")).select_from(source).where(*asked).limit(MOST_LOOKED_AT).subquery()
        )
        found = db.scalars(select(some.c.value).distinct().order_by(some.c.value).limit(most))
        return [value for value in found if value]

    def matching(self, text: str, visible: Sequence[ColumnElement[bool]] = ()) -> Select[UUID]:
        """The ids of what a filter matches, as a statement to go on from."""
        return self._ids(ListQuery(filter=text), visible)

    def _ids(self, query: ListQuery, visible: Sequence[ColumnElement[bool]]) -> Select[UUID]:
        source = self._source(self._used(query))
        return select(self.columns["id"].expression).select_from(source).where(*self._conditions(query, visible))

    def _used(self, query: ListQuery) -> set[str]:
        """The columns that rows are found by."""
        return self.names(query.filter) | (set(self.searched) if query.search.strip() else set())

    def _source(self, used: set[str]) -> FromClause:
        """What to read for some columns: not more than they need."""
        return self.source if self.lean is None or used & self.heavy else self.lean

    def _rows(self) -> AnySelect:
        shown = [c.expression.label(name) for name, c in self.columns.items() if c.shown]
        return select(*shown).select_from(self.source)

    def _conditions(self, query: ListQuery, visible: Sequence[ColumnElement[bool]]) -> list[ColumnElement[bool]]:
        wanted = list(visible)
        node = self.checked(query.filter)
        if node is not None:
            wanted.append(condition(node, self.columns))
        words = query.search.split()[:8]
        return wanted + [or_(*(_like(self.columns[n].expression, w, "%", "%") for n in self.searched)) for w in words]

    def _count(self, db: Session, query: ListQuery, visible: Sequence[ColumnElement[bool]]) -> int:
        return db.scalar(select(func.count()).select_from(self._ids(query, visible).subquery())) or 0

    def _sort(self, text: str) -> tuple[str, bool]:
        name, descending = text.removeprefix("-"), text.startswith("-")
        if name not in self.sorts:
            raise BadInput(
                f"{self.name} can't be sorted by {name!r}.",
                f"Sort by one of: {', '.join(self.sorts)}; put - before it for the other way round.",
                {"sort": "unknown"},
            )
        return name, descending

    def _after(self, column: Column, descending: bool, last: tuple[object, UUID | int]) -> ColumnElement[bool]:
        value, last_id = last
        key, ident = column.expression, self.columns["id"].expression
        further_id = ident < last_id if descending else ident > last_id
        if value is None:
            return and_(key.is_(None), further_id)
        further = key < value if descending else key > value
        onward = or_(further, and_(key == value, further_id))
        return or_(onward, key.is_(None)) if column.nullable else onward


def condition(node: Node, columns: Mapping[str, Column]) -> ColumnElement[bool]:
    """A checked filter as SQL. It means the same as ``core.filters.matches``, missing values included."""
    match node:
        case AND():
            return and_(condition(node.left, columns), condition(node.right, columns))
        case OR():
            return or_(condition(node.left, columns), condition(node.right, columns))
        case NOT():
            return not_(func.coalesce(condition(node.inner, columns), False))
        case Present():
            column = columns[node.name]
            filled = column.expression.is_not(None)
            textual = column.kind in (Kind.TEXT, Kind.WORD)
            return and_(filled, column.expression != "") if textual else filled
        case Compare():
            return _compare(columns[node.name], node.operator, node.value)


def _compare(column: Column, operator: Operator, value: JsonValue) -> ColumnElement[bool]:
    held: Expression = column.expression
    if isinstance(value, Reach):
        value = int(value)
    if column.kind is Kind.TEXT:
        held, value = func.lower(held), value.lower()
    elif column.kind is Kind.WORD:
        value = value.lower()
    if operator is Operator.EQ and column.equals:
        return column.equals(value)
    match operator:
        case Operator.CO:
            return _like(held, value, "%", "%")
        case Operator.SW:
            return _like(held, value, "", "%")
        case Operator.EW if column.kind is Kind.ID:
            return _like(func.replace(cast(held, String), "-", ""), value, "%", "")
        case Operator.EW:
            return _like(held, value, "%", "")
        case Operator.NE:
            return held.is_distinct_from(value)
        case _:
            # Text is ordered by its characters, whatever the database's language: the same everywhere.
            textual = column.kind is Kind.TEXT and operator is not Operator.EQ
            found: ColumnElement[bool] = _PLAIN[operator](held.collate("C") if textual else held, value)
            return found


_PLAIN = {
    Operator.EQ: operators.eq,
    Operator.GT: operators.gt,
    Operator.GE: operators.ge,
    Operator.LT: operators.lt,
    Operator.LE: operators.le,
}


def _like(held: Expression, value: str, before: str, after: str) -> ColumnElement[bool]:
    escaped = value.lower().replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    found: ColumnElement[bool] = func.lower(held).like(before + escaped + after, escape="\\")
    return found


def nested(row: Mapping[str, object]) -> Row:
    """A row with dotted names as nested objects; an object without an id is null."""
    found: Row = {}
    for outer, inner in _places(tuple(row)):
        if not inner:
            found[outer] = row[outer]
        elif "id" in inner and row[inner["id"]] is None:
            found[outer] = None
        else:
            found[outer] = {name: row[whole] for name, whole in inner.items()}
    return found


@lru_cache(maxsize=256)
def _places(names: tuple[str, ...]) -> tuple[tuple[str, dict[str, str]], ...]:
    """Where values with dotted names go: each outer name, with its inner and full names."""
    places: dict[str, dict[str, str]] = {}
    for name in names:
        outer, _, inner = name.partition(".")
        places.setdefault(outer, {}).update({inner: name} if inner else {})
    return tuple(places.items())


def _encode(sort: str, value: object, ident: UUID | int) -> str:
    plain = value.isoformat() if isinstance(value, datetime) else value
    last = ident if isinstance(ident, int) else str(ident)
    return base64.urlsafe_b64encode(json.dumps([sort, plain, last]).encode()).decode().rstrip("=")


def _decode(cursor: str, sort: str, kind: Kind, id_kind: Kind) -> tuple[JsonValue, UUID | int]:
    try:
        made_for, value, ident = json.loads(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
        if made_for != sort:
            raise ValueError("made for another sort")
        if value is not None:
            numeric = kind in (Kind.NUMBER, Kind.REACH)
            if not isinstance(value, (int, float) if numeric else str):
                raise ValueError("a value of another kind")
            value = datetime.fromisoformat(str(value)) if kind is Kind.TIME else value
        return value, int(ident) if id_kind is Kind.NUMBER else UUID(ident)
    except (ValueError, TypeError, AttributeError, RecursionError, OverflowError, binascii.Error):
        raise BadInput(
            "The cursor is not one that this list gave for this sort.",
            "Start again without a cursor, and follow the next link as it is.",
            {"cursor": "unknown"},
        ) from None
