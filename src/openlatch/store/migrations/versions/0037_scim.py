"""People and teams that a directory keeps for us, and tokens for that"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0037'
down_revision = '0036'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """No directory keeps anybody yet."""
    op.create_table(
        'scim_records',
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=True, unique=True),
        sa.Column('team_id', sa.Uuid(), sa.ForeignKey('teams.id'), nullable=True, unique=True),
        sa.Column('user_name', sa.Text(), nullable=True),
        sa.Column('external_id', sa.Text(), nullable=True),
        sa.Column('given', JSONB(), server_default='{}', nullable=False),
        sa.Column('inactive_since', sa.DateTime(timezone=True), nullable=True),
        sa.Column('removed_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('changed_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.CheckConstraint('num_nonnulls(person_id, team_id) = 1', name=op.f('ck_scim_records_one_subject')),
    )
    op.create_index('uq_scim_records_user_name', 'scim_records', ['organisation_id', sa.text('lower(user_name)')],
                    unique=True, postgresql_where=sa.text('removed_at is null'))
    op.create_index('ix_scim_records_external_id', 'scim_records', ['organisation_id', 'external_id'])
    op.execute('alter table scim_records enable row level security')
    op.execute('create policy own_rows on scim_records using (organisation_id = current_organisation())')
    op.drop_constraint(op.f('ck_api_tokens_scope'), 'api_tokens')
    op.create_check_constraint(op.f('ck_api_tokens_scope'), 'api_tokens', "scope in ('read', 'write', 'scim')")


def downgrade() -> None:
    """Directories have to be connected anew; their tokens end."""
    op.execute("delete from api_tokens where scope = 'scim'")
    op.drop_constraint(op.f('ck_api_tokens_scope'), 'api_tokens')
    op.create_check_constraint(op.f('ck_api_tokens_scope'), 'api_tokens', "scope in ('read', 'write')")
    op.drop_table('scim_records')
