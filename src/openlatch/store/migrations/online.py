"""Changes of large tables that do not stop whoever uses them."""

from __future__ import annotations

from alembic import op


def create_index(name: str, table: str, columns: list[str]) -> None:
    """Make an index while others write to the table; an unfinished one of an earlier try is made anew.

    A migration that makes or drops one does nothing else: what came before would be committed without the version, and
    be tried twice after a failure.
    """
    with op.get_context().autocommit_block():
        op.execute(f'drop index concurrently if exists "{name}"')
        op.create_index(name, table, columns, postgresql_concurrently=True)


def drop_index(name: str) -> None:
    """Drop an index without locking its table."""
    with op.get_context().autocommit_block():
        op.execute(f'drop index concurrently if exists "{name}"')
