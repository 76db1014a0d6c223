"""The columns that lists are made of."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypedDict, Unpack

from sqlalchemy import ARRAY, ColumnElement, Date, Interval, Select, Time, all_, any_, bindparam, case, cast, func, text

from openlatch.core.filters import Kind
from openlatch.store.lists.engine import Column
from openlatch.store.sql_types import AnyColumn, AnyTable, Expression


class Use(TypedDict, total=False):
    """How a column may be used, where it differs from others of its kind."""

    shown: bool
    filtered: bool
    sorted: bool
    nullable: bool


def among(column: AnyColumn, ids: Iterable[object]) -> ColumnElement[bool]:
    """Whether a column is one of some values. Passed as one array: a statement can't have more than 65,535
    parameters.
    """
    found: ColumnElement[bool] = column == any_(_array(column, ids))
    return found


def not_among(column: AnyColumn, ids: Iterable[object]) -> ColumnElement[bool]:
    """Whether it is none of them."""
    found: ColumnElement[bool] = column != all_(_array(column, ids))
    return found


def _array(column: AnyColumn, ids: Iterable[object]) -> Expression:
    return bindparam(None, list(ids), type_=ARRAY(column.type))


def id_column(expression: Expression, sentence: str = "Its id.", nullable: bool = False) -> Column:
    """An id."""
    return Column(expression, Kind.ID, sentence, nullable=nullable)


def text_column(expression: Expression, sentence: str, **use: Unpack[Use]) -> Column:
    """Text that can be searched."""
    return Column(expression, Kind.TEXT, sentence, **use)


def word_column(expression: Expression, sentence: str, **use: Unpack[Use]) -> Column:
    """One of a few words."""
    return Column(expression, Kind.WORD, sentence, **use)


def time_column(expression: Expression, sentence: str, nullable: bool = True) -> Column:
    """An instant, to sort by."""
    return Column(expression, Kind.TIME, sentence, sorted=True, nullable=nullable)


def last_day_column(until: object, zone: object) -> Column:
    """The last day of what ends with a day in a time zone (``core.time_windows.last_day``)."""
    ends = func.timezone(zone, until)
    day = case((cast(ends, Time) == text("time '00:00'"), cast(ends, Date) - 1))
    return Column(day, Kind.TEXT, "", filtered=False)


def ends_on_column(at: object, zone: object) -> Column:
    """The day on which something ends, in a time zone (``core.time_windows.ends_on``)."""
    before = at - cast("1 microsecond", Interval)
    return Column(cast(func.timezone(zone, before), Date), Kind.TEXT, "", filtered=False)


def number_column(expression: Expression, sentence: str, nullable: bool = False) -> Column:
    """A number, to sort by."""
    return Column(expression, Kind.NUMBER, sentence, sorted=True, nullable=nullable)


def truth_column(expression: Expression, sentence: str) -> Column:
    """True or false."""
    return Column(expression, Kind.TRUTH, sentence, nullable=False)


def archived_column(table: AnyTable) -> Column:
    """Whether a record is archived. Lists leave these out unless a filter mentions it."""
    return truth_column(table.archived_at.is_not(None), "Whether it was put away; lists leave those out unless asked.")


def reach_column(expression: Expression) -> Column:
    """A reach, to sort by."""
    return Column(expression, Kind.REACH, "How far it goes: observe, operate, spend or steward.", sorted=True)


def json_column(expression: Expression) -> Column:
    """Shown as it is, not filterable."""
    return Column(expression, Kind.TEXT, "", filtered=False)


def counted(statement: Select[int]) -> ColumnElement[int]:
    """A count as a column."""
    return statement.scalar_subquery()


def proof_columns(table: AnyTable) -> dict[str, Column]:
    """How the end of something is known."""
    return {
        "proof": word_column(table.proof, "How its end is known: confirmed, stated, unproved or contradicted."),
        "proved_at": Column(table.proved_at, Kind.TIME, "Since when that is known."),
        "proved_by": text_column(table.proved_by, "The system or the person by whom it is known.", nullable=False),
        "proof_words": text_column(table.proof_words, "What they answered or said.", nullable=False),
    }


def named_columns(prefix: str, table: AnyTable, what: str) -> dict[str, Column]:
    """A related record by its id and name."""
    return {
        f"{prefix}.id": id_column(table.id, f"The id of {what}.", nullable=True),
        f"{prefix}.name": text_column(table.name, f"The name of {what}.", sorted=True),
    }
