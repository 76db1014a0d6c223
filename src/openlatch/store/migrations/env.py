"""Alembic's environment: the caller passes a connection. Each migration is a transaction, unless there is one."""

from alembic import context

from openlatch.store.tables import Base

connection = context.config.attributes["connection"]


def _ours(name: str | None, kind: str, parents: object) -> bool:
    return not (kind == "table" and name is not None and name.startswith("procrastinate"))


context.configure(
    connection=connection,
    target_metadata=Base.metadata,
    include_name=_ours,
    compare_server_default=False,
    transaction_per_migration=True,
)
with context.begin_transaction():
    context.run_migrations()
