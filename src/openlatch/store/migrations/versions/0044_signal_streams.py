"""Streams of security events to receivers, and keys that tokens are signed with"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0044'
down_revision = '0043'
branch_labels = None
depends_on = None

# Looked up before it is known whose they are.
OPEN = 'organisation_id = (select current_organisation()) or (select current_organisation()) is null'


def upgrade() -> None:
    """Nobody receives any yet."""
    op.create_table(
        'signal_streams',
        sa.Column('id', sa.Uuid(), sa.ForeignKey('webhooks.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('token_hash', sa.LargeBinary(), nullable=False, unique=True),
        sa.Column('audience', sa.Text(), nullable=False),
        sa.Column('set_up_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('requested', JSONB(), nullable=True),
        sa.Column('description', sa.Text(), server_default='', nullable=False),
        sa.Column('authorization', sa.LargeBinary(), nullable=True),
        sa.Column('left_out', JSONB(), server_default='[]', nullable=False),
        sa.Column('is_disabled', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('is_held', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('reason', sa.Text(), server_default='', nullable=False),
        sa.Column('verified_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('heard_at', sa.DateTime(timezone=True), nullable=True),
    )
    op.execute('alter table signal_streams enable row level security')
    op.execute(f'create policy own_rows on signal_streams using ({OPEN}) with check ({OPEN})')
    for name in ('stream_id', 'poll_address', 'failed'):
        op.add_column('signal_sources', sa.Column(name, sa.Text(), server_default='', nullable=False))
    op.add_column('signal_sources', sa.Column('stream_token', sa.LargeBinary(), nullable=True))
    op.create_table(
        'token_keys',
        sa.Column('number', sa.Integer(), primary_key=True),
        sa.Column('private', sa.LargeBinary(), nullable=False),
        sa.Column('made_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    )
    op.add_column('webhooks', sa.Column('kind', sa.Text(), server_default='journal', nullable=False))
    op.create_check_constraint('kind', 'webhooks', "kind in ('journal', 'signals')")
    op.add_column('deliveries', sa.Column('part', sa.Integer(), server_default='0', nullable=False))
    op.add_column('deliveries', sa.Column('subject_id', sa.Uuid(), nullable=True))
    op.add_column('deliveries', sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=True))
    op.add_column('deliveries', sa.Column('event', JSONB(), nullable=True))
    op.drop_constraint(op.f('uq_deliveries_webhook_id_position'), 'deliveries')
    op.create_unique_constraint(None, 'deliveries', ['webhook_id', 'position', 'part'])
    op.create_index(
        'ix_deliveries_waiting', 'deliveries', ['webhook_id', sa.text('position nulls first'), 'id'],
        postgresql_where=sa.text("state = 'waiting'"),
    )
    op.create_index(
        'ix_deliveries_subject', 'deliveries', ['webhook_id', 'subject_id', 'position'],
        postgresql_where=sa.text("state = 'waiting' and subject_id is not null"),
    )


def downgrade() -> None:
    """Receivers of security events are removed with what waits for them."""
    signals = "(select id from webhooks where kind = 'signals')"
    op.execute(f'delete from deliveries where webhook_id in {signals}')
    op.drop_table('signal_streams')
    for name in ('stream_id', 'poll_address', 'failed', 'stream_token'):
        op.drop_column('signal_sources', name)
    op.execute("delete from webhooks where kind = 'signals'")
    op.drop_table('token_keys')
    op.drop_constraint(op.f('uq_deliveries_webhook_id_position_part'), 'deliveries')
    op.create_unique_constraint(None, 'deliveries', ['webhook_id', 'position'])
    op.drop_index('ix_deliveries_subject', 'deliveries')
    op.drop_index('ix_deliveries_waiting', 'deliveries')
    for column in ('event', 'person_id', 'subject_id', 'part'):
        op.drop_column('deliveries', column)
    op.drop_constraint(op.f('ck_webhooks_kind'), 'webhooks')
    op.drop_column('webhooks', 'kind')
