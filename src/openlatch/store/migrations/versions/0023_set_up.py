"""Setting up in the browser, and connecting systems there"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

revision = '0023'
down_revision = '0022'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Nothing of what there is changes."""
    at = sa.DateTime(timezone=True)
    op.create_table(
        'set_up_codes',
        sa.Column('code_hash', sa.LargeBinary(), primary_key=True),
        sa.Column('made_at', at, server_default=sa.text('now()'), nullable=False),
    )
    op.add_column('published_keys', sa.Column('purpose', sa.Text(), server_default='evidence', nullable=False))
    op.create_table(
        'system_trials',
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', at, server_default=sa.text('now()'), nullable=False),
        sa.Column('system_id', sa.Uuid(), sa.ForeignKey('systems.id'), nullable=True),
        sa.Column('kind', sa.Text(), nullable=False),
        sa.Column('settings', JSONB(), nullable=False),
        sa.Column('secret', sa.LargeBinary(), nullable=True),
        sa.Column('state', sa.Text(), server_default='waiting', nullable=False),
        sa.Column('answer', sa.Text(), server_default='', nullable=False),
        sa.Column('found', JSONB(), server_default='{}', nullable=False),
        sa.Column('tried_at', at, nullable=True),
        sa.CheckConstraint("state in ('waiting', 'good', 'refused')", name=op.f('ck_system_trials_state')),
    )
    op.execute('alter table system_trials enable row level security')
    op.execute('create policy own_rows on system_trials using (organisation_id = current_organisation())')


def downgrade() -> None:
    """Trials are lost."""
    op.drop_table('system_trials')
    op.drop_column('published_keys', 'purpose')
    op.drop_table('set_up_codes')
