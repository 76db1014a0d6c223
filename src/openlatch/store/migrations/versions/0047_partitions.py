"""The journal and the earlier versions, partitioned by time; and what of them is in the archive"""

from openlatch.store.migrations.online import end_of

import sqlalchemy as sa
from alembic import op

revision = '0047'
down_revision = '0046'
branch_labels = None
depends_on = None

ROLES = ('openlatch_app', 'openlatch_web', 'openlatch_worker')
TABLES = {
    # The column of time, the new key, the earlier one, the rights, and the indexes.
    'journal': (
        'at',
        'organisation_id, position, at',
        'organisation_id, position',
        'select, insert',
        {
            'ix_journal_account_id': '(account_id) where account_id is not null',
            'ix_journal_subject_id': '(subject_id) where subject_id is not null',
        },
    ),
    'versions': (
        'until',
        'id, since, until',
        'id, since',
        'select',
        {
            f'ix_versions_{kind}_{column}': f"((row ->> '{column}')) where kind = '{kind}'"
            for kind, column in (
                ('memberships', 'team_id'),
                ('memberships', 'member_id'),
                ('accounts', 'owner_id'),
                ('terms', 'grant_id'),
                ('resources_in_groups', 'group_id'),
                ('access_rules', 'account_id'),
            )
        },
    ),
}
KEEP_VERSION = """
    create or replace function keep_version() returns trigger language plpgsql security definer
    set search_path = public, pg_temp as $$
    declare
        at timestamptz = greatest(now(), old.recorded_at);
    begin
        if at > old.recorded_at or tg_op = 'DELETE' then
            insert into versions (id, since, organisation_id, kind, until, gone, row)
            values (old.id, old.recorded_at, old.organisation_id, tg_table_name, at, tg_op = 'DELETE', to_jsonb(old))
            {twice};
        end if;
        if tg_op = 'DELETE' then
            return old;
        end if;
        new.recorded_at = at;
        return new;
    end $$
"""
TWICE = 'on conflict (id, since, until) do update set gone = excluded.gone'
TWICE_BEFORE = 'on conflict (id, since) do update set until = excluded.until, gone = excluded.gone'


def _secure(table: str) -> None:
    op.execute(f'alter table {table} enable row level security')
    op.execute(
        f'create policy own_rows on {table} using (organisation_id = current_organisation()) '
        'with check (organisation_id = current_organisation())'
    )


def _allow(table: str, rights: str) -> None:
    """At once, since programs of the version before go on. A database that is only being made has no roles yet."""
    for role in ROLES:
        if op.get_bind().scalar(sa.text('select 1 from pg_roles where rolname = :role'), {'role': role}):
            op.execute(f'revoke all on {table} from {role}')
            if rights:
                op.execute(f'grant {rights} on {table} to {role}')


def _only_added_to(table: str) -> None:
    op.execute(
        f'create trigger only_added_to before update or delete or truncate on {table} '
        'for each statement execute function refuse_change()'
    )


def upgrade() -> None:
    """The present tables become the first partitions. Nothing is copied, and nothing is read through."""
    # In the order in which whoever writes takes them: versions while rows change, the journal last.
    op.execute('lock table versions in access exclusive mode')
    op.execute('lock table journal in access exclusive mode')
    for table, (column, key, _, rights, indexes) in TABLES.items():
        before = f'{table}_before'
        bound = op.get_bind().scalar(
            sa.text("select obj_description(oid) from pg_constraint where conname = :name"), {'name': before}
        )
        op.execute(f'alter table {table} rename to {before}')
        op.execute(f'alter table {before} drop constraint pk_{table}')
        op.execute(f'alter table {before} add constraint pk_{before} primary key using index pk_{before}')
        op.execute(f'alter table {before} rename constraint fk_{table}_organisation_id to fk_{before}_organisation_id')
        for name in indexes:
            op.execute(f'alter index {name} rename to {name.replace(table, before, 1)}')
        op.execute(f'create table {table} (like {before} including defaults) partition by range ({column})')
        op.execute(
            f'alter table {table} add constraint pk_{table} primary key ({key}), add constraint '
            f'fk_{table}_organisation_id foreign key (organisation_id) references organisations (id)'
        )
        for name, what in indexes.items():
            op.execute(f'create index {name} on {table} {what}')
        op.execute(f"alter table {table} attach partition {before} for values from (minvalue) to ('{bound}')")
        op.execute(f'alter table {before} drop constraint {before}')
        op.execute(f'create table {table}_default partition of {table} default')
        op.execute(f'alter table {table}_default enable row level security')
        _secure(table)
        _allow(table, rights)
        _allow(before, '')
    for table in ('journal', 'journal_default'):
        _only_added_to(table)
    op.execute(KEEP_VERSION.format(twice=TWICE))
    op.create_table(
        'archived_parts',
        sa.Column('id', sa.Uuid(), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('organisation_id', sa.Uuid(), nullable=False),
        sa.Column('kind', sa.Text(), nullable=False),
        sa.Column('since', sa.DateTime(timezone=True), nullable=False),
        sa.Column('until', sa.DateTime(timezone=True), nullable=False),
        sa.Column('rows', sa.BigInteger(), nullable=False),
        sa.Column('first', sa.BigInteger(), nullable=True),
        sa.Column('last', sa.BigInteger(), nullable=True),
        sa.Column('last_hash', sa.LargeBinary(), nullable=True),
        sa.Column('peaks', sa.LargeBinary(), nullable=True),
        sa.Column('file', sa.Text(), nullable=False),
        sa.Column('digest', sa.LargeBinary(), nullable=False),
        sa.Column('written_at', sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("kind in ('journal', 'versions')", name=op.f('ck_archived_parts_kind')),
        sa.ForeignKeyConstraint(
            ['organisation_id'], ['organisations.id'], name=op.f('fk_archived_parts_organisation_id')
        ),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_archived_parts')),
        sa.UniqueConstraint(
            'organisation_id', 'kind', 'since', name=op.f('uq_archived_parts_organisation_id_kind_since')
        ),
    )
    op.create_table(
        'archive_erasures',
        sa.Column('id', sa.Uuid(), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('organisation_id', sa.Uuid(), nullable=False),
        sa.Column('person_id', sa.Uuid(), nullable=False),
        sa.Column('words', sa.LargeBinary(), nullable=False),
        sa.Column('asked_at', sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ['organisation_id'], ['organisations.id'], name=op.f('fk_archive_erasures_organisation_id')
        ),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_archive_erasures')),
    )
    for table in ('archived_parts', 'archive_erasures'):
        _secure(table)


def downgrade() -> None:
    """One table each again. Not while something is in the archive: the journal would seem to begin in the middle."""
    if op.get_bind().scalar(sa.text('select count(*) from archived_parts')):
        raise NotImplementedError('parts of the journal are in the archive')
    op.drop_table('archive_erasures')
    op.drop_table('archived_parts')
    op.execute('drop trigger only_added_to on journal')
    for table, (column, _, key, rights, indexes) in TABLES.items():
        bound = end_of(table, column)
        op.execute(f'alter table {table} rename to {table}_partitioned')
        op.execute(f'create table {table}_whole (like {table}_partitioned including defaults)')
        # Of a version that was written twice, the later end is the one that held.
        op.execute(
            f'insert into {table}_whole select distinct on ({key}) * from {table}_partitioned '
            f'order by {key}, {column} desc'
        )
        op.execute(f'drop table {table}_partitioned')
        op.execute(f'alter table {table}_whole rename to {table}')
        op.execute(
            f'alter table {table} add constraint pk_{table} primary key ({key}), add constraint '
            f'fk_{table}_organisation_id foreign key (organisation_id) references organisations (id)'
        )
        for name, what in indexes.items():
            op.execute(f'create index {name} on {table} {what}')
        unique = TABLES[table][1]
        op.execute(f'create unique index pk_{table}_before on {table} ({unique})')
        _secure(table)
        _allow(table, rights)
        op.execute(f"alter table {table} add constraint {table}_before check ({column} < '{bound}')")
        op.execute(f"comment on constraint {table}_before on {table} is '{bound}'")
    _only_added_to('journal')
    op.execute(KEEP_VERSION.format(twice=TWICE_BEFORE))
