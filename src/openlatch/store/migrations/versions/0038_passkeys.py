"""Passkeys"""

import sqlalchemy as sa
from alembic import op

revision = '0038'
down_revision = '0037'
branch_labels = None
depends_on = None

# Looked up before it is known whose they are.
OPEN = 'organisation_id = (select current_organisation()) or (select current_organisation()) is null'


def upgrade() -> None:
    """Everybody signs in as before."""
    op.create_table(
        'passkeys',
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('sign_in_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=False),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('credential_id', sa.LargeBinary(), nullable=False, unique=True),
        sa.Column('public_key', sa.LargeBinary(), nullable=False),
        sa.Column('sign_count', sa.BigInteger(), nullable=False),
        sa.Column('transports', sa.Text(), server_default='', nullable=False),
        sa.Column('is_backed_up', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('last_used_at', sa.DateTime(timezone=True), nullable=True),
    )
    op.create_index('ix_passkeys_sign_in_id', 'passkeys', ['sign_in_id'])
    op.execute('alter table passkeys enable row level security')
    op.execute(f'create policy own_rows on passkeys using ({OPEN}) with check ({OPEN})')


def downgrade() -> None:
    """Passkeys are lost: whoever has one signs in by their password alone."""
    op.drop_table('passkeys')
