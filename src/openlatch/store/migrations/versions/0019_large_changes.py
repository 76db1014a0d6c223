"""Changes of many grants, which the worker makes"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = '0019'
down_revision = '0018'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Nothing of what there is changes."""
    op.create_table(
        'large_changes',
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('asked_by_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=True),
        sa.Column('asked_by_name', sa.Text(), nullable=False),
        sa.Column('only_preview', sa.Boolean(), nullable=False),
        sa.Column('wish', JSONB(), nullable=False),
        sa.Column('grants', ARRAY(sa.Uuid()), nullable=False),
        sa.Column('versions', JSONB(), nullable=False),
        sa.Column('state', sa.Text(), nullable=False),
        sa.Column('done', sa.Integer(), server_default='0', nullable=False),
        sa.Column('changed', sa.Integer(), server_default='0', nullable=False),
        sa.Column('lines', JSONB(), server_default='[]', nullable=False),
        sa.Column('problem', sa.Text(), server_default='', nullable=False),
        sa.Column('ended_at', sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("state in ('waiting', 'under_way', 'done', 'stopped', 'failed')",
                           name=op.f('ck_large_changes_state')),
    )
    op.create_index('ix_large_changes_going_on', 'large_changes', ['id'],
                    postgresql_where=sa.text("state in ('waiting', 'under_way')"))
    op.execute('alter table large_changes enable row level security')
    op.execute('create policy own_rows on large_changes using (organisation_id = current_organisation())')


def downgrade() -> None:
    """What is under way goes no further."""
    op.drop_table('large_changes')
