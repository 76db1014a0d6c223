"""Actions on flags with what they would clear, those that somebody puts off, and comments on matters"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0033'
down_revision = '0032'
branch_labels = None
depends_on = None


def _table(name: str, *columns: sa.schema.SchemaItem) -> None:
    op.create_table(
        name,
        sa.Column('id', sa.Uuid(), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('organisation_id', sa.Uuid(), nullable=False),
        *columns,
        sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f(f'fk_{name}_organisation_id')),
        sa.PrimaryKeyConstraint('id', name=op.f(f'pk_{name}')),
    )
    op.create_index(f'ix_{name}_organisation_id', name, ['organisation_id'])
    op.execute(f'alter table {name} enable row level security')
    op.execute(f'create policy own_rows on {name} using (organisation_id = current_organisation())')


def upgrade() -> None:
    """Nothing is put off, and nothing is commented on; the worker works the actions out."""
    _table(
        'action_effects',
        sa.Column('key', sa.Text(), nullable=False),
        sa.Column('account_id', sa.Uuid(), nullable=True),
        sa.Column('holder_id', sa.Uuid(), nullable=True),
        sa.Column('proposal', postgresql.JSONB(), nullable=False),
        sa.Column('clears', postgresql.ARRAY(sa.Uuid()), nullable=False),
        sa.Column('raises', sa.Integer(), nullable=False),
        sa.Column('loses_path', sa.Boolean(), nullable=False),
        sa.Column('worked_out_at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('seconds', sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_action_effects_account_id')),
        sa.UniqueConstraint('organisation_id', 'key', name=op.f('uq_action_effects_organisation_id_key')),
    )
    _table(
        'postponements',
        sa.Column('person_id', sa.Uuid(), nullable=False),
        sa.Column('key', sa.Text(), nullable=False),
        sa.Column('until', sa.DateTime(timezone=True), nullable=False),
        sa.Column('reason', sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_postponements_person_id')),
        sa.UniqueConstraint('person_id', 'key', name=op.f('uq_postponements_person_id_key')),
    )
    _table(
        'comments',
        sa.Column('account_id', sa.Uuid(), nullable=True),
        sa.Column('holder_id', sa.Uuid(), nullable=False),
        sa.Column('person_id', sa.Uuid(), nullable=True),
        sa.Column('by_name', sa.Text(), nullable=False),
        sa.Column('text', sa.Text(), nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_comments_account_id')),
        sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_comments_person_id')),
    )
    op.create_index('ix_comments_matter', 'comments', ['organisation_id', 'holder_id', 'account_id', 'at'])


def downgrade() -> None:
    """What was put off and commented on is lost; the journal still has it."""
    op.drop_table('action_effects')
    op.drop_table('comments')
    op.drop_table('postponements')
