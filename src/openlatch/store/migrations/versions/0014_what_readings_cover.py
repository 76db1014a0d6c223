"""What readings look at and what they do not; whose ends the register keeps"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

revision = '0014'
down_revision = '0013'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Access that was found in a system does not end by the register any more, unless somebody sets an end."""
    op.execute("set lock_timeout = '10s'")
    op.add_column('systems', sa.Column('coverage', JSONB(), server_default='{}', nullable=False))
    op.add_column('accounts', sa.Column('coverage', JSONB(), server_default='{}', nullable=False))
    op.add_column('accounts', sa.Column('partial_since', sa.DateTime(timezone=True), nullable=True))
    op.add_column('rounds', sa.Column('coverage', JSONB(), server_default='[]', nullable=False))
    op.add_column('grants', sa.Column('ends_here', sa.Boolean(), server_default='true', nullable=False))
    op.add_column('grants', sa.Column('by_system', sa.Boolean(), server_default='false', nullable=False))
    op.execute(
        "update grants g set ends_here = false where g.state <> 'ended' and exists (select from journal j "
        "where j.subject_id = g.id and j.action = 'grant.found')"
    )


def downgrade() -> None:
    """Ends that a system told are kept by the register again."""
    op.drop_column('grants', 'by_system')
    op.drop_column('grants', 'ends_here')
    op.drop_column('rounds', 'coverage')
    op.drop_column('accounts', 'partial_since')
    op.drop_column('accounts', 'coverage')
    op.drop_column('systems', 'coverage')
