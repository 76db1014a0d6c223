"""Sign-ins with a role, which can be invited, suspended and recovered"""

from sqlalchemy.schema import SchemaItem
from typing import Any

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

revision = '0022'
down_revision = '0021'
branch_labels = None
depends_on = None

# Looked up by a token before it is known whose it is.
NEW = ('invitations', 'password_resets', 'recovery_codes')
OPEN = 'organisation_id = (select current_organisation()) or (select current_organisation()) is null'


def _own() -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    ]


def upgrade() -> None:
    """Whoever administers goes on doing so; everybody else is a member."""
    at = sa.DateTime(timezone=True)
    now = sa.text('now()')
    op.add_column('sign_ins', sa.Column('role', sa.Text(), server_default='member', nullable=False))
    op.execute("update sign_ins set role = 'administrator' where administrator")
    op.create_check_constraint(op.f('ck_sign_ins_role'), 'sign_ins',
                               "role in ('administrator', 'auditor', 'reviewer', 'member')")
    op.drop_column('sign_ins', 'administrator')
    for name in ('suspended_at', 'last_seen_at', 'password_set_at'):
        op.add_column('sign_ins', sa.Column(name, at, nullable=True))
    op.add_column('sign_ins', sa.Column('administrator', sa.Boolean(), sa.Computed(
        "role = 'administrator' and suspended_at is null", persisted=True), nullable=True))
    op.add_column('sign_ins', sa.Column('preferences', JSONB(), server_default='{}', nullable=False))
    op.add_column('web_sessions', sa.Column('last_seen_at', at, server_default=now, nullable=False))
    op.add_column('api_tokens', sa.Column('last_used_at', at, nullable=True))
    op.create_table(
        'invitations', *_own(),
        sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=False, unique=True),
        sa.Column('address', sa.Text(), nullable=False),
        sa.Column('role', sa.Text(), nullable=False),
        sa.Column('token_hash', sa.LargeBinary(), nullable=False, unique=True),
        sa.Column('sent_by_name', sa.Text(), nullable=False),
        sa.Column('sent_at', at, nullable=False),
        sa.Column('times_sent', sa.Integer(), server_default='1', nullable=False),
        sa.Column('runs_out_at', at, nullable=False),
        sa.CheckConstraint("role in ('administrator', 'auditor', 'reviewer', 'member')",
                           name=op.f('ck_invitations_role')),
    )
    op.create_table(
        'password_resets', *_own(),
        sa.Column('sign_in_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=False),
        sa.Column('token_hash', sa.LargeBinary(), nullable=False, unique=True),
        sa.Column('runs_out_at', at, nullable=False),
    )
    op.create_table(
        'recovery_codes', *_own(),
        sa.Column('sign_in_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=False),
        sa.Column('code_hash', sa.LargeBinary(), nullable=False),
        sa.Column('used_at', at, nullable=True),
    )
    for table in ('password_resets', 'recovery_codes'):
        op.create_index(f'ix_{table}_sign_in_id', table, ['sign_in_id'])
    for table in NEW:
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using ({OPEN}) with check ({OPEN})')


def downgrade() -> None:
    """Roles but that of administrators are lost, and with them what was sent."""
    for table in NEW:
        op.drop_table(table)
    op.drop_column('api_tokens', 'last_used_at')
    op.drop_column('web_sessions', 'last_seen_at')
    op.drop_column('sign_ins', 'administrator')
    op.add_column('sign_ins', sa.Column('administrator', sa.Boolean(), server_default='false', nullable=False))
    op.execute("update sign_ins set administrator = role = 'administrator'")
    op.drop_constraint(op.f('ck_sign_ins_role'), 'sign_ins')
    for name in ('role', 'suspended_at', 'last_seen_at', 'password_set_at', 'preferences'):
        op.drop_column('sign_ins', name)
