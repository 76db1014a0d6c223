"""Search by trigrams, filters that are kept, and which columns of files are which fields"""

from sqlalchemy.schema import SchemaItem
from typing import Any

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

from openlatch.json_values import JsonList

revision = '0025'
down_revision = '0024'
branch_labels = None
depends_on = None

NEW = ('filter_mails', 'saved_filters', 'file_matchings')
SEARCHED = (('people', 'name'), ('people', 'address'), ('accounts', 'name'), ('apps', 'name'), ('teams', 'name'))


def _own(*columns: SchemaItem) -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        *columns,
    ]


def upgrade() -> None:
    """Nothing of what there is changes."""
    # A trusted extension: the owner of the database may make it, without being a superuser.
    op.execute('create extension if not exists pg_trgm')
    for table, column in SEARCHED:
        op.create_index(f'ix_{table}_{column}_trigrams', table, [sa.text(f'lower({column}) gin_trgm_ops')],
                        postgresql_using='gin')
    text = [sa.Column(name, sa.Text(), server_default='', nullable=False) for name in ('filter', 'search', 'sort')]
    op.create_table('saved_filters', *_own(
        sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=False),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('of', sa.Text(), nullable=False),
        *text,
        sa.Column('is_shared', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('version', sa.Integer(), server_default='1', nullable=False),
        sa.UniqueConstraint('person_id', 'of', 'name', name=op.f('uq_saved_filters_person_id_of_name')),
    ))
    op.create_table('filter_mails', *_own(
        sa.Column('filter_id', sa.Uuid(), sa.ForeignKey('saved_filters.id'), nullable=False),
        sa.Column('person_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=False),
        sa.Column('every', sa.Text(), nullable=False),
        sa.Column('sent_at', sa.DateTime(timezone=True), nullable=False),
        sa.UniqueConstraint('filter_id', 'person_id', name=op.f('uq_filter_mails_filter_id_person_id')),
        sa.CheckConstraint("every in ('day', 'week')", name=op.f('ck_filter_mails_every')),
    ))
    op.create_table('file_matchings', *_own(
        sa.Column('kind', sa.Text(), nullable=False),
        sa.Column('columns', JSONB(), nullable=False),
        sa.Column('matching', JSONB(), nullable=False),
        sa.Column('used_at', sa.DateTime(timezone=True), nullable=False),
        sa.UniqueConstraint('organisation_id', 'kind', 'columns',
                            name=op.f('uq_file_matchings_organisation_id_kind_columns')),
    ))
    for table in NEW:
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using (organisation_id = (select current_organisation()))')


def downgrade() -> None:
    """Kept filters are lost. The extension stays: something else may use it."""
    for table in NEW:
        op.drop_table(table)
    for table, column in SEARCHED:
        op.drop_index(f'ix_{table}_{column}_trigrams', table)
