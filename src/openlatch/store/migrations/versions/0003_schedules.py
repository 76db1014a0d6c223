"""Schedules of reviews"""

from alembic import op
import sqlalchemy as sa

revision = '0003'
down_revision = '0002'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Give schedules what they need to open rounds by themselves."""
    op.add_column('schedules', sa.Column('starts', sa.Text(), server_default='', nullable=False))
    op.add_column('schedules', sa.Column('reviewer_id', sa.Uuid(), nullable=True))
    op.add_column('schedules', sa.Column('paused', sa.Boolean(), server_default='false', nullable=False))
    op.add_column('schedules', sa.Column('due_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('schedules', sa.Column('answer', sa.Text(), server_default='', nullable=False))
    op.add_column('schedules', sa.Column('version', sa.Integer(), server_default='1', nullable=False))
    op.create_foreign_key(op.f('fk_schedules_reviewer_id'), 'schedules', 'people', ['reviewer_id'], ['id'])


def downgrade() -> None:
    """What was scheduled would be lost."""
    raise NotImplementedError("restore a backup from before instead")
