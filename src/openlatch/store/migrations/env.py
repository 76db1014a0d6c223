"""Alembic's environment: the caller passes a connection in a transaction."""

from alembic import context

from openlatch.store.tables import Base

connection = context.config.attributes["connection"]


def _ours(name: str | None, kind: str, parents: object) -> bool:
    return not (kind == "table" and name is not None and name.startswith("procrastinate"))


context.configure(
    connection=connection, target_metadata=Base.metadata, include_name=_ours, compare_server_default=False
)
context.run_migrations()
