"""By holder and by level: flags are counted for each person and app, grants for each level"""

from alembic import op

revision = '0010'
down_revision = '0009'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Without these every list of people reads all flags, and every look at a level all terms."""
    op.create_index('ix_flags_holder_id', 'flags', ['holder_id'])
    op.create_index('ix_terms_level_id', 'terms', ['level_id'])


def downgrade() -> None:
    """Slow again, and nothing else."""
    op.drop_index('ix_terms_level_id', table_name='terms')
    op.drop_index('ix_flags_holder_id', table_name='flags')
