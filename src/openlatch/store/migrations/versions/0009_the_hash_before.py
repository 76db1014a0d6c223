"""The hash before: a journal's head keeps the hash of the last entry but one, so that one statement chains an entry"""

from alembic import op
import sqlalchemy as sa

revision = '0009'
down_revision = '0008'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """It is known from the next entry on."""
    op.add_column('journal_heads', sa.Column('previous', sa.LargeBinary(), nullable=True))


def downgrade() -> None:
    """Nothing else needs it."""
    op.drop_column('journal_heads', 'previous')
