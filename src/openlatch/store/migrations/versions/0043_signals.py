"""Security events that other services tell, and people of whom they do"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.schema import SchemaItem

revision = '0043'
down_revision = '0042'
branch_labels = None
depends_on = None

# Looked up before it is known whose they are.
OPEN = 'organisation_id = (select current_organisation()) or (select current_organisation()) is null'


def _own() -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    ]


def upgrade() -> None:
    """Nobody tells anything yet."""
    op.create_table(
        'signal_sources', *_own(),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('issuer', sa.Text(), nullable=False),
        sa.Column('audience', sa.Text(), nullable=False),
        sa.Column('token_hash', sa.LargeBinary(), nullable=False),
        sa.Column('system_id', sa.Uuid(), sa.ForeignKey('systems.id'), nullable=True),
        sa.Column('reactions', JSONB(), server_default='{}', nullable=False),
        sa.Column('heard_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('version', sa.Integer(), server_default='1', nullable=False),
        sa.UniqueConstraint('organisation_id', 'name'),
    )
    op.create_table(
        'received_signals', *_own(),
        sa.Column('source_id', sa.Uuid(), sa.ForeignKey('signal_sources.id', ondelete='CASCADE'), nullable=False),
        sa.Column('ident', sa.Text(), nullable=False),
        sa.Column('event', sa.Text(), nullable=False),
        sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=True),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('received_at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('reason', sa.Text(), server_default='', nullable=False),
        sa.Column('reaction', sa.Text(), nullable=False),
        sa.Column('outcome', sa.Text(), server_default='', nullable=False),
        sa.UniqueConstraint('source_id', 'ident'),
    )
    op.create_index('ix_received_signals_received_at', 'received_signals', ['organisation_id', 'received_at'])
    for table in ('signal_sources', 'received_signals'):
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using ({OPEN}) with check ({OPEN})')
    op.add_column('people', sa.Column('reported_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('people', sa.Column('reported', sa.Text(), server_default='', nullable=False))


def downgrade() -> None:
    """What was told stays in the journal."""
    op.drop_column('people', 'reported')
    op.drop_column('people', 'reported_at')
    op.drop_table('received_signals')
    op.drop_table('signal_sources')
