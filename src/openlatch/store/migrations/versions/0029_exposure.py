"""What is open to outsiders: access rules, exposures, guards, drafts"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

revision = '0029'
down_revision = '0028'
branch_labels = None
depends_on = None

NEW = ("access_rules", "exposures", "expected_exposures", "exposure_guards", "outside_uses", "rule_drafts")
RESOURCE = "account_id, name, kind, public"
SEEN = f"{RESOURCE}, path, attributes, above, inherits"
RULE = "account_id, key, position, is_guard, plain"


PATHS = """
    -- The same as core.exposure.paths.path_of.
    create function resource_path(named text) returns text language sql immutable as $$
        select '/' || replace(replace(trim(both '/' from regexp_replace(named, '/+', '/', 'g')), '%', '%25'), '*', '%2A')
    $$;

    create function set_path() returns trigger language plpgsql as $$
    begin
        new.path = resource_path(coalesce(nullif(new.key, ''), new.id::text));
        return new;
    end $$;
    create trigger sets_path before insert on resources for each row when (new.path = '') execute function set_path();
"""


def upgrade() -> None:
    """A resource that was public gets the rule that it stood for."""
    at = sa.DateTime(timezone=True)

    def owned(name: str, *columns: sa.schema.SchemaItem) -> None:
        op.create_table(
            name,
            sa.Column('id', sa.Uuid(), nullable=False),
            sa.Column('created_at', at, server_default=sa.text('now()'), nullable=False),
            sa.Column('organisation_id', sa.Uuid(), nullable=False),
            *columns,
            sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'],
                                    name=op.f(f'fk_{name}_organisation_id')),
            sa.PrimaryKeyConstraint('id', name=op.f(f'pk_{name}')),
        )

    def of(table: str, column: str, other: str) -> sa.ForeignKeyConstraint:
        return sa.ForeignKeyConstraint([column], [f'{other}.id'], name=op.f(f'fk_{table}_{column}'))

    op.add_column('resources', sa.Column('path', sa.Text(), server_default='', nullable=False))
    op.add_column('resources', sa.Column('attributes', JSONB(), server_default='{}', nullable=False))
    op.add_column('resources', sa.Column('above', JSONB(), server_default='[]', nullable=False))
    op.add_column('resources', sa.Column('inherits', sa.Boolean(), server_default='true', nullable=False))
    owned(
        'access_rules',
        sa.Column('recorded_at', at, server_default=sa.text('now()'), nullable=False),
        sa.Column('account_id', sa.Uuid(), nullable=False),
        sa.Column('key', sa.Text(), nullable=False),
        sa.Column('position', sa.Integer(), server_default='0', nullable=False),
        sa.Column('is_guard', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('by_hand', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('plain', JSONB(), nullable=False),
        sa.Column('handle', JSONB(), server_default='{}', nullable=False),
        of('access_rules', 'account_id', 'accounts'),
        sa.UniqueConstraint('account_id', 'key', name=op.f('uq_access_rules_account_id_key')),
    )
    op.create_index('ix_access_rules_organisation_id', 'access_rules', ['organisation_id'])
    owned(
        'expected_exposures',
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('filter', sa.Text(), nullable=False),
        sa.Column('reason', sa.Text(), nullable=False),
        sa.Column('made_by', sa.Text(), nullable=False),
    )
    op.create_index('ix_expected_exposures_organisation_id', 'expected_exposures', ['organisation_id'])
    owned(
        'exposures',
        sa.Column('proof', sa.Text(), nullable=True),
        sa.Column('proved_at', at, nullable=True),
        sa.Column('proved_by', sa.Text(), server_default='', nullable=False),
        sa.Column('proof_words', sa.Text(), server_default='', nullable=False),
        sa.Column('account_id', sa.Uuid(), nullable=False),
        sa.Column('resource_id', sa.Uuid(), nullable=True),
        sa.Column('right', sa.Text(), nullable=False),
        sa.Column('is_blocked', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('audience', sa.SmallInteger(), nullable=False),
        sa.Column('is_open', sa.Boolean(), nullable=False),
        sa.Column('is_entangled', sa.Boolean(), server_default='false', nullable=False),
        *(sa.Column(name, JSONB(), nullable=False) for name in ('ways', 'admitted_by', 'narrowed_by', 'unknown')),
        sa.Column('against', JSONB(), server_default='[]', nullable=False),
        sa.Column('sentence', sa.Text(), nullable=False),
        sa.Column('digest', sa.Uuid(), nullable=False),
        sa.Column('since', at, nullable=False),
        sa.Column('grew_at', at, nullable=True),
        sa.Column('gone_at', at, nullable=True),
        sa.Column('last_used_on', sa.Date(), nullable=True),
        sa.Column('judgement', sa.Text(), server_default='unjudged', nullable=False),
        sa.Column('judged_by_id', sa.Uuid(), nullable=True),
        sa.Column('judged_at', at, nullable=True),
        sa.Column('judged_reason', sa.Text(), server_default='', nullable=False),
        sa.Column('judged_ways', JSONB(), nullable=True),
        sa.Column('judged_sensitivity', sa.SmallInteger(), nullable=True),
        sa.Column('expected_by_id', sa.Uuid(), nullable=True),
        sa.Column('intended_until', at, nullable=True),
        sa.Column('version', sa.Integer(), server_default='1', nullable=False),
        of('exposures', 'account_id', 'accounts'),
        of('exposures', 'resource_id', 'resources'),
        of('exposures', 'judged_by_id', 'people'),
        of('exposures', 'expected_by_id', 'expected_exposures'),
        sa.CheckConstraint("judgement in ('unjudged', 'intended', 'to_close')", name=op.f('ck_exposures_judgement')),
    )
    op.create_index('ix_exposures_organisation_id', 'exposures', ['organisation_id'])
    op.create_index('uq_exposures_account_id_resource_id_right', 'exposures',
                    ['account_id', 'resource_id', 'right', 'is_blocked'], unique=True,
                    postgresql_nulls_not_distinct=True)
    owned(
        'exposure_guards',
        sa.Column('account_kind', sa.Text(), nullable=True),
        sa.Column('account_id', sa.Uuid(), nullable=True),
        sa.Column('resource_id', sa.Uuid(), nullable=True),
        sa.Column('refuses', sa.Text(), nullable=False),
        sa.Column('rights', JSONB(), nullable=False),
        sa.Column('but', JSONB(), server_default='[]', nullable=False),
        sa.Column('reason', sa.Text(), nullable=False),
        sa.Column('made_by', sa.Text(), nullable=False),
        of('exposure_guards', 'account_id', 'accounts'),
        of('exposure_guards', 'resource_id', 'resources'),
        sa.CheckConstraint('num_nonnulls(account_kind, account_id, resource_id) <= 1',
                           name=op.f('ck_exposure_guards_one_subject')),
    )
    op.create_index('ix_exposure_guards_organisation_id', 'exposure_guards', ['organisation_id'])
    owned(
        'outside_uses',
        sa.Column('account_id', sa.Uuid(), nullable=False),
        sa.Column('resource_id', sa.Uuid(), nullable=True),
        sa.Column('right', sa.Text(), nullable=False),
        sa.Column('day', sa.Date(), nullable=False),
        sa.Column('who', sa.Text(), server_default='', nullable=False),
        sa.Column('address', sa.Text(), server_default='', nullable=False),
        of('outside_uses', 'account_id', 'accounts'),
        of('outside_uses', 'resource_id', 'resources'),
    )
    op.create_index('ix_outside_uses_organisation_id', 'outside_uses', ['organisation_id'])
    op.create_index('uq_outside_uses_account_id_resource_id_right_day_who_address', 'outside_uses',
                    ['account_id', 'resource_id', 'right', 'day', 'who', 'address'], unique=True,
                    postgresql_nulls_not_distinct=True)
    owned(
        'rule_drafts',
        sa.Column('account_id', sa.Uuid(), nullable=False),
        sa.Column('made_by', sa.Text(), nullable=False),
        sa.Column('document', sa.Text(), nullable=False),
        sa.Column('state', sa.Text(), server_default='waiting', nullable=False),
        sa.Column('result', JSONB(), server_default='{}', nullable=False),
        sa.Column('worked_out_at', at, nullable=True),
        sa.Column('applied_at', at, nullable=True),
        of('rule_drafts', 'account_id', 'accounts'),
        sa.CheckConstraint("state in ('waiting', 'ready', 'refused', 'applied')", name=op.f('ck_rule_drafts_state')),
    )
    op.create_index('ix_rule_drafts_account_id', 'rule_drafts', ['account_id'])
    op.add_column('revocation_targets', sa.Column('rule_id', sa.Uuid(), nullable=True))
    op.drop_constraint(op.f('ck_revocation_targets_one_subject'), 'revocation_targets')
    op.create_check_constraint(op.f('ck_revocation_targets_one_subject'), 'revocation_targets',
                               'num_nonnulls(grant_id, session_id, resource_id, rule_id) = 1')
    for table in NEW:
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using (organisation_id = current_organisation())')
    _keep_versions('resources', SEEN)
    _keep_versions('access_rules', RULE)
    op.execute("create trigger keeps_last_version before delete on access_rules "
               "for each row execute function keep_version()")
    op.execute("create index ix_versions_access_rules_account_id on versions ((row ->> 'account_id')) "
               "where kind = 'access_rules'")
    op.execute(PATHS)
    op.execute("update resources set path = resource_path(coalesce(nullif(key, ''), id::text))")
    op.execute(
        """
        insert into access_rules (id, organisation_id, account_id, key, by_hand, plain)
        select gen_random_uuid(), r.organisation_id, r.account_id, 'recorded-public-' || right(r.id::text, 8), true, jsonb_build_object(
            'rule', 'recorded-public-' || right(r.id::text, 8), 'because', 'It was recorded as public.', 'admit', jsonb_build_array('anyone'),
            'to', jsonb_build_array('see'), 'on', jsonb_build_array('/**'),
            'set_on', jsonb_build_object('resource', r.path))
        from resources r where r.public and r.archived_at is null
        """
    )


def _keep_versions(table: str, columns: str) -> None:
    before = ', '.join(f'old.{c.strip()}' for c in columns.split(','))
    after = ', '.join(f'new.{c.strip()}' for c in columns.split(','))
    op.execute(f'drop trigger if exists keeps_versions on {table}')
    op.execute(
        f'create trigger keeps_versions before update of {columns} on {table} for each row '
        f'when (({before}) is distinct from ({after})) execute function keep_version()'
    )


def downgrade() -> None:
    """Rules, exposures and what was judged are lost."""
    op.execute("delete from revocation_targets where rule_id is not null")
    op.drop_constraint(op.f('ck_revocation_targets_one_subject'), 'revocation_targets')
    op.drop_column('revocation_targets', 'rule_id')
    op.create_check_constraint(op.f('ck_revocation_targets_one_subject'), 'revocation_targets',
                               'num_nonnulls(grant_id, session_id, resource_id) = 1')
    for table in ('rule_drafts', 'outside_uses', 'exposure_guards', 'exposures', 'expected_exposures', 'access_rules'):
        op.drop_table(table)
    _keep_versions('resources', RESOURCE)
    op.execute('drop trigger sets_path on resources')
    op.execute('drop function set_path(), resource_path(text)')
    op.execute("delete from versions where kind = 'access_rules'")
    op.execute('drop index if exists ix_versions_access_rules_account_id')
    for column in ('inherits', 'above', 'attributes', 'path'):
        op.drop_column('resources', column)
