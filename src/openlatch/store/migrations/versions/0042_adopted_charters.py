"""The charter that an organisation adopted last"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0042'
down_revision = '0041'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Nobody has adopted one yet."""
    op.create_table(
        'adopted_charters',
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), primary_key=True),
        sa.Column('document', postgresql.JSONB(), nullable=False),
        sa.Column('source', sa.Text(), nullable=False),
        sa.Column('adopted_at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('adopted_by', sa.Text(), nullable=False),
    )
    op.execute('alter table adopted_charters enable row level security')
    op.execute('create policy own_rows on adopted_charters using (organisation_id = (select current_organisation()))')


def downgrade() -> None:
    """What was adopted stays in the register; what it was compared with goes."""
    op.drop_table('adopted_charters')
