"""Changes of large tables that do not stop whoever uses them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


def create_index(name: str, table: str, columns: list[str], unique: bool = False) -> None:
    """Make an index while others write to the table; an unfinished one of an earlier try is made anew.

    A migration that makes or drops one does nothing else: what came before would be committed without the version, and
    be tried twice after a failure.
    """
    with op.get_context().autocommit_block():
        op.execute(f'drop index concurrently if exists "{name}"')
        op.create_index(name, table, columns, unique=unique, postgresql_concurrently=True)


def drop_index(name: str) -> None:
    """Drop an index without locking its table."""
    with op.get_context().autocommit_block():
        op.execute(f'drop index concurrently if exists "{name}"')


def bound(table: str, column: str, constraint: str) -> None:
    """Demand that no row of a table is later than ``end_of`` it.

    So that the table can become a partition without being read through while others wait. The constraint's comment is
    the bound, exclusive.
    """
    with op.get_context().autocommit_block():
        op.execute(f"alter table {table} drop constraint if exists {constraint}")
        end = end_of(table, column)
        op.execute(f"alter table {table} add constraint {constraint} check ({column} < '{end}') not valid")
        op.execute(f"comment on constraint {constraint} on {table} is '{end}'")
        op.execute(f"alter table {table} validate constraint {constraint}")


def end_of(table: str, column: str) -> str:
    """The end of the next two quarters, or of the latest row's; of an empty table, that of the quarter before."""
    latest = f"select date_trunc('quarter', max({column}), 'UTC') from {table}"  # noqa: S608  our names
    present = "date_trunc('quarter', now(), 'UTC')"
    return str(
        op.get_bind().scalar(
            sa.text(
                f"select case when ({latest}) is null then {present}"
                f" else greatest({present} + interval '6 months', ({latest}) + interval '3 months') end"
            )
        )
    )
