"""Signing in by an organisation's own identity provider"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.schema import SchemaItem

revision = '0036'
down_revision = '0035'
branch_labels = None
depends_on = None

# Looked up before it is known whose they are.
NEW = ('identity_providers', 'provider_subjects', 'used_tokens')
OPEN = 'organisation_id = (select current_organisation()) or (select current_organisation()) is null'


def _own() -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    ]


def upgrade() -> None:
    """Everybody signs in as before."""
    op.create_table(
        'identity_providers', *_own(),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('issuer', sa.Text(), nullable=False),
        sa.Column('client_id', sa.Text(), nullable=False),
        sa.Column('client_secret', sa.LargeBinary(), nullable=True),
        sa.Column('reading', JSONB(), server_default='{}', nullable=False),
        sa.Column('version', sa.Integer(), server_default='1', nullable=False),
        sa.UniqueConstraint('organisation_id', 'name'),
    )
    op.create_table(
        'provider_subjects', *_own(),
        sa.Column('provider_id', sa.Uuid(), sa.ForeignKey('identity_providers.id'), nullable=False),
        sa.Column('subject', sa.Text(), nullable=False),
        sa.Column('sign_in_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=False),
        sa.UniqueConstraint('provider_id', 'subject'),
    )
    op.create_index('ix_provider_subjects_sign_in_id', 'provider_subjects', ['sign_in_id'])
    op.create_table(
        'used_tokens', *_own(),
        sa.Column('token_hash', sa.LargeBinary(), nullable=False, unique=True),
        sa.Column('expires_at', sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index('ix_used_tokens_expires_at', 'used_tokens', ['expires_at'])
    for table in NEW:
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using ({OPEN}) with check ({OPEN})')
    op.add_column('web_sessions', sa.Column('provider_id', sa.Uuid(), sa.ForeignKey('identity_providers.id'), nullable=True))
    op.add_column('web_sessions', sa.Column('provider_session', sa.Text(), server_default='', nullable=False))
    op.add_column('web_sessions', sa.Column('provider_token', sa.LargeBinary(), nullable=True))


def downgrade() -> None:
    """Whoever signs in by a provider alone needs a password again, by the link for a forgotten one."""
    for name in ('provider_token', 'provider_session', 'provider_id'):
        op.drop_column('web_sessions', name)
    for table in reversed(NEW):
        op.drop_table(table)
