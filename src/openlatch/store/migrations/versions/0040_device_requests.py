"""Programs that wait to be let in by a browser"""

import sqlalchemy as sa
from alembic import op

revision = '0040'
down_revision = '0039'
branch_labels = None
depends_on = None

CURRENT = '(select current_organisation())'
OPEN = f'organisation_id is null or organisation_id = {CURRENT} or {CURRENT} is null'


def upgrade() -> None:
    """Nobody waits yet. Whose a request is, is not known before it is answered: until then it is everybody's."""
    op.create_table(
        'device_requests',
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('device_hash', sa.LargeBinary(), nullable=False, unique=True),
        sa.Column('user_code', sa.Text(), nullable=False, unique=True),
        sa.Column('program', sa.Text(), nullable=False),
        sa.Column('origin', sa.Text(), nullable=False),
        sa.Column('scope', sa.Text(), nullable=False),
        sa.Column('state', sa.Text(), server_default='pending', nullable=False),
        sa.Column('expires_at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('polled_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('seconds', sa.Integer(), nullable=False),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=True),
        sa.Column('sign_in_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=True),
        sa.CheckConstraint("state in ('pending', 'allowed', 'refused')", name='state'),
        sa.CheckConstraint("scope in ('read', 'write')", name='scope'),
    )
    op.create_index('ix_device_requests_expires_at', 'device_requests', ['expires_at'])
    op.execute('alter table device_requests enable row level security')
    op.execute(f'create policy own_rows on device_requests using ({OPEN}) with check ({OPEN})')


def downgrade() -> None:
    """Programs that wait begin again; those that were let in stay so."""
    op.drop_table('device_requests')
