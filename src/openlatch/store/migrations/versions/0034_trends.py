"""Who wants the monthly letter about figures over time, and when it was last sent"""

import sqlalchemy as sa
from alembic import op

revision = '0034'
down_revision = '0033'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Nobody gets the letter until they ask for it."""
    op.add_column('people', sa.Column('wants_trends', sa.Boolean(), server_default='false', nullable=False))
    op.add_column('organisations', sa.Column('trends_at', sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    """Who wants the letter is forgotten."""
    op.drop_column('organisations', 'trends_at')
    op.drop_column('people', 'wants_trends')
