"""Names for what statements are made of where SQLAlchemy's types end.

A statement whose table or columns are chosen while the program runs can't say what its rows hold. Whoever chooses
them knows it.
"""

from __future__ import annotations

from typing import Any, TypeAlias

from sqlalchemy import CompoundSelect, Select
from sqlalchemy.sql.expression import SQLColumnExpression

# A class of rows, or an alias of one.
AnyTable: TypeAlias = Any
# A row, of a table or of a statement.
AnyRow: TypeAlias = Any
# A column, of a table or of a class of rows: SQLAlchemy's types for the two share no base that has a name and a type.
AnyColumn: TypeAlias = Any
# What a column of a list is computed from.
Expression: TypeAlias = SQLColumnExpression[Any]
AnySelect: TypeAlias = Select[Any]
AnyCompoundSelect: TypeAlias = CompoundSelect[Any]
