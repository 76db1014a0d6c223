"""Tokens that are exchanged for less than all that somebody may do"""

from alembic import op
import sqlalchemy as sa

revision = '0016'
down_revision = '0015'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """The scope of an exchanged token, where it is narrower."""
    op.execute("set lock_timeout = '10s'")
    op.add_column('visits', sa.Column('scope', sa.Text(), nullable=True))


def downgrade() -> None:
    """Every token is for everything again."""
    op.drop_column('visits', 'scope')
