"""Records that are kept by hand: versions of each, archiving, several addresses, who pays, merges, sign-ins"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

revision = '0021'
down_revision = '0020'
branch_labels = None
depends_on = None

# The columns whose change makes another version of a record, by table: what somebody can edit.
EDITED = {
    'people': 'name, address, job, inside, standing, leaves_at, manager_id, deputy_id',
    'teams': 'name, partner, purpose, speaker_id, archived_at',
    'memberships': 'since, until',
    'apps': 'name, publisher, home_page, purpose, archived_at',
    'resources': 'name, kind, archived_at',
    'resource_groups': 'name, archived_at',
    'systems': 'name, kind, settings, secret, paused_at, archived_at',
    'accounts': 'name, kind, sensitivity, owner_id, time_zone, purpose, handle, is_closed, payer_person_id, '
                'payer_team_id, payer_account_id, paid_until, archived_at',
    'levels': 'name, sentence, permissions, archived_at',
}
ARCHIVED = ('teams', 'accounts', 'apps', 'levels', 'systems', 'resources', 'resource_groups')
VERSIONED = ('people', 'teams', 'memberships', 'apps', 'resources', 'resource_groups', 'systems')
FUNCTION = """
    create function another_version() returns trigger language plpgsql as $$
    begin
        if new.version = old.version then
            new.version = old.version + 1;
        end if;
        return new;
    end $$;
"""


def _own_table(name: str, *columns: sa.schema.SchemaItem) -> None:
    op.create_table(
        name,
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        *columns,
    )
    op.execute(f'alter table {name} enable row level security')
    op.execute(f'create policy own_rows on {name} using (organisation_id = current_organisation())')


def upgrade() -> None:
    """What there is stays as it is, at its first version."""
    at = sa.DateTime(timezone=True)
    for table in VERSIONED:
        op.add_column(table, sa.Column('version', sa.Integer(), server_default='1', nullable=False))
    for table in ARCHIVED:
        op.add_column(table, sa.Column('archived_at', at, nullable=True))
    for table in ('people', 'apps'):
        op.add_column(table, sa.Column('merged_into_id', sa.Uuid(), sa.ForeignKey(f'{table}.id'), nullable=True))
    op.add_column('systems', sa.Column('paused_at', at, nullable=True))
    op.add_column('accounts', sa.Column('is_closed', sa.Boolean(), server_default='false', nullable=False))
    for column, of in (('payer_person_id', 'people'), ('payer_team_id', 'teams'), ('payer_account_id', 'accounts')):
        op.add_column('accounts', sa.Column(column, sa.Uuid(), sa.ForeignKey(f'{of}.id'), nullable=True))
        op.create_index(f'ix_accounts_{column}', 'accounts', [column], postgresql_where=sa.text(f'{column} is not null'))
    op.add_column('accounts', sa.Column('paid_until', at, nullable=True))
    op.create_check_constraint(
        op.f('ck_accounts_one_payer'), 'accounts', 'num_nonnulls(payer_person_id, payer_team_id, payer_account_id) <= 1'
    )
    op.add_column('grants', sa.Column('recorded_by_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=True))
    op.add_column('grants', sa.Column('evidence', sa.Text(), server_default='', nullable=False))
    _own_table(
        'person_addresses',
        sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=False),
        sa.Column('address', sa.Text(), nullable=False),
        sa.Column('confirmed_at', at, nullable=True),
    )
    op.create_index('uq_person_addresses_address', 'person_addresses', ['organisation_id', sa.text('lower(address)')],
                    unique=True)
    op.create_index('ix_person_addresses_person_id', 'person_addresses', ['person_id'])
    _own_table(
        'merges',
        sa.Column('kind', sa.Text(), nullable=False),
        sa.Column('kept_id', sa.Uuid(), nullable=False),
        sa.Column('kept_name', sa.Text(), nullable=False),
        sa.Column('gone_id', sa.Uuid(), nullable=False),
        sa.Column('gone_name', sa.Text(), nullable=False),
        sa.Column('merged_at', at, nullable=False),
        sa.Column('merged_by', sa.Text(), nullable=False),
        sa.Column('undone_at', at, nullable=True),
        sa.Column('moved', JSONB(), nullable=False),
        sa.Column('dropped', JSONB(), nullable=False),
        sa.Column('filled', JSONB(), nullable=False),
    )
    op.execute(FUNCTION)
    for table, columns in EDITED.items():
        old, new = (', '.join(f'{side}.{column}' for column in columns.split(', ')) for side in ('old', 'new'))
        op.execute(f'create trigger another_version before update of {columns} on {table} '
                   f'for each row when (({old}) is distinct from ({new})) execute function another_version()')


def downgrade() -> None:
    """Addresses beside the first, payers and merges are lost."""
    for table in EDITED:
        op.execute(f'drop trigger another_version on {table}')
    op.execute('drop function another_version()')
    op.drop_table('merges')
    op.drop_table('person_addresses')
    op.drop_column('grants', 'evidence')
    op.drop_column('grants', 'recorded_by_id')
    op.drop_constraint(op.f('ck_accounts_one_payer'), 'accounts')
    for column in ('payer_person_id', 'payer_team_id', 'payer_account_id', 'paid_until', 'is_closed'):
        op.drop_column('accounts', column)
    for table in ('people', 'apps'):
        op.drop_column(table, 'merged_into_id')
    op.drop_column('systems', 'paused_at')
    for table in ARCHIVED:
        op.drop_column(table, 'archived_at')
    for table in VERSIONED:
        op.drop_column(table, 'version')
