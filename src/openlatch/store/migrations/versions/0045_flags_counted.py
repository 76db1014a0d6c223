"""Open flags are counted by their index alone, also before the server has counted the table"""

from openlatch.store.migrations.online import create_index, drop_index

revision = '0045'
down_revision = '0044'
branch_labels = None
depends_on = None

COLUMNS = ('subject_id', 'account_id', 'holder_id')


def upgrade() -> None:
    """While people work. The new names are those of all columns."""
    for column in COLUMNS:
        create_index(f'ix_flags_{column}_state', 'flags', [column, 'organisation_id', 'state'])
        drop_index(f'ix_flags_{column}')


def downgrade() -> None:
    """The indexes as they were."""
    for column in COLUMNS:
        create_index(f'ix_flags_{column}', 'flags', [column])
        drop_index(f'ix_flags_{column}_state')
