"""People of one name are found, and sentences of flags name days where the organisation is"""

from alembic import op
import sqlalchemy as sa

revision = '0020'
down_revision = '0019'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """What flags say is worked out anew at the next pass."""
    op.create_index('ix_people_same_name', 'people', ['organisation_id', sa.text('lower(name)')])
    op.execute('delete from findings')


def downgrade() -> None:
    """Nothing is lost."""
    op.drop_index('ix_people_same_name', 'people')
