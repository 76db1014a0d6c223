"""What access rules were when exposures were last worked out, so that only what a change touches is worked out anew"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0032'
down_revision = '0031'
branch_labels = None
depends_on = None


# What makes another version of a resource; that it is archived did not so far.
SEEN = 'account_id, name, kind, public, path, attributes, above, inherits'


def _keep_versions(columns: str) -> None:
    before, after = (', '.join(f'{row}.{c.strip()}' for c in columns.split(',')) for row in ('old', 'new'))
    op.execute('drop trigger keeps_versions on resources')
    op.execute(
        f'create trigger keeps_versions before update of {columns} on resources for each row '
        f'when (({before}) is distinct from ({after})) execute function keep_version()'
    )


def upgrade() -> None:
    """Nothing counts as worked out: the next evaluation of each account is a whole one."""
    _keep_versions(f'{SEEN}, archived_at')
    for name, more in (
        ('evaluated_rules', [sa.Column('key', sa.Text(), nullable=False),
                             sa.Column('places', postgresql.ARRAY(sa.Text()), nullable=False)]),
        ('evaluated_accounts', []),
    ):
        unique = ['account_id', *(column.name for column in more if column.name == 'key')]
        op.create_table(
            name,
            sa.Column('id', sa.Uuid(), nullable=False),
            sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
            sa.Column('organisation_id', sa.Uuid(), nullable=False),
            sa.Column('account_id', sa.Uuid(), nullable=False),
            sa.Column('recorded_at', sa.DateTime(timezone=True), nullable=False),
            *more,
            sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'],
                                    name=op.f(f'fk_{name}_organisation_id')),
            sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f(f'fk_{name}_account_id')),
            sa.PrimaryKeyConstraint('id', name=op.f(f'pk_{name}')),
            sa.UniqueConstraint(*unique, name=op.f(f"uq_{name}_{'_'.join(unique)}")),
        )
        op.create_index(f'ix_{name}_organisation_id', name, ['organisation_id'])
        op.execute(f'alter table {name} enable row level security')
        op.execute(f'create policy own_rows on {name} using (organisation_id = current_organisation())')
    op.create_index('ix_evaluated_rules_places', 'evaluated_rules', ['places'], postgresql_using='gin')
    op.create_index('ix_resources_account_id_recorded_at', 'resources', ['account_id', 'recorded_at'])
    op.create_index('ix_resources_account_id_path', 'resources', ['account_id', 'path'],
                    postgresql_ops={'path': 'text_pattern_ops'})
    op.drop_index('ix_resources_account_id', 'resources')


def downgrade() -> None:
    """Everything is worked out anew at each change."""
    _keep_versions(SEEN)
    op.create_index('ix_resources_account_id', 'resources', ['account_id'])
    op.drop_index('ix_resources_account_id_path', 'resources')
    op.drop_index('ix_resources_account_id_recorded_at', 'resources')
    op.drop_table('evaluated_accounts')
    op.drop_table('evaluated_rules')
