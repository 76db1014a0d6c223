"""Alembic's environment: the caller passes a connection. Each migration is a transaction, unless there is one."""

from alembic import context

from openlatch.store.migrate import is_ours
from openlatch.store.tables import Base

connection = context.config.attributes["connection"]

context.configure(
    connection=connection,
    target_metadata=Base.metadata,
    include_name=is_ours,
    compare_server_default=False,
    transaction_per_migration=True,
)
with context.begin_transaction():
    context.run_migrations()
