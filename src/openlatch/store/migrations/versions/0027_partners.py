"""Partner organisations that are linked with clients, and sign-ins that belong together"""

from sqlalchemy.schema import SchemaItem
from typing import Any

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

from openlatch.json_values import JsonList

revision = '0027'
down_revision = '0026'
branch_labels = None
depends_on = None


def _row(*columns: SchemaItem) -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        *columns,
    ]


def _organisation(name: str, nullable: bool = False) -> SchemaItem:
    return sa.Column(name, sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=nullable)


def upgrade() -> None:
    """Both sides of a link see it, and nobody else."""
    at, words = sa.DateTime(timezone=True), sa.Text()
    op.create_table('sign_in_links', *_row(
        _organisation('one_organisation_id'),
        sa.Column('one_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=False),
        _organisation('other_organisation_id'),
        sa.Column('other_id', sa.Uuid(), sa.ForeignKey('sign_ins.id'), nullable=False),
        sa.UniqueConstraint('one_id', 'other_id', name=op.f('uq_sign_in_links_one_id_other_id')),
    ))
    op.create_index('ix_sign_in_links_other_id', 'sign_in_links', ['other_id'])
    op.create_table('partner_links', *_row(
        _organisation('partner_id'),
        sa.Column('partner_name', words, nullable=False),
        _organisation('client_id', nullable=True),
        sa.Column('client_slug', words, nullable=False),
        sa.Column('client_name', words, nullable=False),
        sa.Column('words', words, server_default='', nullable=False),
        sa.Column('people', JSONB(), nullable=False),
        sa.Column('leaving', JSONB(), server_default='[]', nullable=False),
        sa.Column('people_at_end', sa.Integer(), nullable=True),
        sa.Column('team_id', sa.Uuid(), nullable=True),
        sa.Column('offered_at', at, nullable=False),
        sa.Column('offered_by', words, nullable=False),
        *(sa.Column(name, at, nullable=True) for name in ('accepted_at', 'declined_at', 'ended_at')),
        sa.Column('ended_by', words, server_default='', nullable=False),
    ))
    for table, one, other in (('sign_in_links', 'one_organisation_id', 'other_organisation_id'),
                              ('partner_links', 'partner_id', 'client_id')):
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy both_sides on {table} using '
                   f'((select current_organisation()) in ({one}, {other}))')


def downgrade() -> None:
    """Links are lost; who came by them stays where they are."""
    op.drop_table('partner_links')
    op.drop_table('sign_in_links')
