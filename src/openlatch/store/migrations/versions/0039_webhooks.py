"""Webhooks, and what is on its way to their receivers"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.schema import SchemaItem

revision = '0039'
down_revision = '0038'
branch_labels = None
depends_on = None

OWN = 'organisation_id = (select current_organisation())'


def _own() -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    ]


def _moment(name: str) -> SchemaItem:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=True)


def upgrade() -> None:
    """Nothing is told to anybody until somebody adds a receiver."""
    op.create_table(
        'webhooks', *_own(),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('url', sa.Text(), nullable=False),
        sa.Column('actions', JSONB(), server_default='[]', nullable=False),
        sa.Column('position', sa.BigInteger(), nullable=False),
        sa.Column('secret', sa.LargeBinary(), nullable=False),
        sa.Column('secret_before', sa.LargeBinary(), nullable=True),
        _moment('secret_before_until'),
        sa.Column('secret_number', sa.Integer(), server_default='1', nullable=False),
        _moment('paused_at'),
        _moment('busy_until'),
        sa.Column('tries', sa.Integer(), server_default='0', nullable=False),
        _moment('next_try_at'),
        _moment('failing_since'),
        sa.Column('version', sa.Integer(), server_default='1', nullable=False),
        sa.UniqueConstraint('organisation_id', 'name'),
    )
    op.create_table(
        'deliveries', *_own(),
        sa.Column('webhook_id', sa.Uuid(), sa.ForeignKey('webhooks.id'), nullable=False),
        sa.Column('position', sa.BigInteger(), nullable=True),
        sa.Column('state', sa.Text(), server_default='waiting', nullable=False),
        sa.Column('tries', sa.Integer(), server_default='0', nullable=False),
        _moment('next_try_at'),
        sa.Column('answer', sa.Text(), server_default='', nullable=False),
        _moment('ended_at'),
        sa.UniqueConstraint('webhook_id', 'position'),
        sa.CheckConstraint("state in ('waiting', 'delivered', 'given_up')", name='state'),
    )
    op.create_index('ix_deliveries_due', 'deliveries', ['webhook_id', 'next_try_at'], postgresql_where=sa.text("state = 'waiting'"))
    op.create_index('ix_deliveries_created_at', 'deliveries', ['created_at'])
    for table in ('webhooks', 'deliveries'):
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using ({OWN}) with check ({OWN})')


def downgrade() -> None:
    """Receivers are told nothing any more; their secrets are lost."""
    op.drop_table('deliveries')
    op.drop_table('webhooks')
