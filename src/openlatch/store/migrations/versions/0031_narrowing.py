"""Decisions of reviews that narrow what is open to the use that was seen"""

import sqlalchemy as sa
from alembic import op

revision = '0031'
down_revision = '0030'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """No decision has narrowed anything so far."""
    op.add_column('items', sa.Column('trim_to_use', sa.Boolean(), server_default='false', nullable=False))
    op.add_column('items', sa.Column('draft_id', sa.Uuid(), nullable=True))
    op.create_foreign_key(op.f('fk_items_draft_id'), 'items', 'rule_drafts', ['draft_id'], ['id'])
    op.create_index('ix_items_draft_id', 'items', ['draft_id'], postgresql_where=sa.text('draft_id is not null'))


def downgrade() -> None:
    """That something was narrowed is lost from the decisions; the drafts stay."""
    op.drop_index('ix_items_draft_id', 'items')
    op.drop_constraint(op.f('fk_items_draft_id'), 'items')
    op.drop_column('items', 'draft_id')
    op.drop_column('items', 'trim_to_use')
