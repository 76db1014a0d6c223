"""The journal and the earlier versions can become partitions, while people work"""

from openlatch.store.migrations.online import bound, create_index, drop_index

from alembic import op

revision = '0046'
down_revision = '0045'
branch_labels = None
depends_on = None

KEYS = {
    'journal': ('at', ['organisation_id', 'position', 'at']),
    'versions': ('until', ['id', 'since', 'until']),
}


def upgrade() -> None:
    """An index for the new key, and a bound of time."""
    for table, (column, key) in KEYS.items():
        create_index(f'pk_{table}_before', table, key, unique=True)
        bound(table, column, f'{table}_before')


def downgrade() -> None:
    """Neither."""
    for table in KEYS:
        op.execute(f'alter table {table} drop constraint {table}_before')
    for table in KEYS:
        drop_index(f'pk_{table}_before')
