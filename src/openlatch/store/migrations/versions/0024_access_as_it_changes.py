"""More time on a grant, tasks for hands, and reminders before an end"""

from sqlalchemy.schema import SchemaItem
from typing import Any

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB

from openlatch.json_values import JsonList

revision = '0024'
down_revision = '0023'
branch_labels = None
depends_on = None

NEW = ('hand_tasks', 'end_reminders')


def _own(*columns: SchemaItem) -> list[SchemaItem]:
    return [
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        *columns,
    ]


def upgrade() -> None:
    """Grants whose offer has run out end, as they always should have."""
    at = sa.DateTime(timezone=True)
    op.create_table('hand_tasks', *_own(
        sa.Column('grant_id', sa.Uuid(), sa.ForeignKey('grants.id'), nullable=False),
        sa.Column('account_id', sa.Uuid(), sa.ForeignKey('accounts.id'), nullable=False),
        sa.Column('kind', sa.Text(), nullable=False),
        sa.Column('sentence', sa.Text(), nullable=False),
        sa.Column('assigned_to_id', sa.Uuid(), sa.ForeignKey('people.id'), nullable=True),
        sa.Column('asked_at', at, nullable=False),
        sa.Column('reminded_at', at, nullable=True),
        sa.Column('done_at', at, nullable=True),
        sa.Column('done_by', sa.Text(), server_default='', nullable=False),
        sa.Column('words', sa.Text(), server_default='', nullable=False),
        sa.Column('dropped_at', at, nullable=True),
        sa.Column('version', sa.Integer(), server_default='1', nullable=False),
        sa.CheckConstraint("kind in ('give', 'change', 'take')", name=op.f('ck_hand_tasks_kind')),
    ))
    op.create_index('ix_hand_tasks_grant_id', 'hand_tasks', ['grant_id'])
    op.create_index('ix_hand_tasks_open', 'hand_tasks', ['organisation_id', 'asked_at'],
                    postgresql_where=sa.text('done_at is null and dropped_at is null'))
    op.create_table('end_reminders', *_own(
        sa.Column('grant_id', sa.Uuid(), sa.ForeignKey('grants.id'), nullable=False),
        sa.Column('until', at, nullable=False),
        sa.Column('days', sa.SmallInteger(), nullable=False),
    ))
    op.create_unique_constraint(op.f('uq_end_reminders_grant_id_until_days'), 'end_reminders', ['grant_id', 'until', 'days'])
    for table in NEW:
        op.execute(f'alter table {table} enable row level security')
        op.execute(f'create policy own_rows on {table} using (organisation_id = (select current_organisation()))')
    op.add_column('revocation_targets', sa.Column('trim_terms', JSONB(), nullable=True))
    op.add_column('requests', sa.Column('extends_id', sa.Uuid(), sa.ForeignKey('grants.id'), nullable=True))
    _one_pending('coalesce(extends_id::text, account_id::text, owner_address)')
    op.execute("update grants g set state = 'ended', ended_as = 'expired', ended_at = o.runs_out_at from offers o "
               "where o.grant_id = g.id and o.state = 'run_out' and g.state = 'pending'")


def _one_pending(of: str) -> None:
    op.drop_index('uq_requests_pending', 'requests')
    op.create_index('uq_requests_pending', 'requests', ['person_id', sa.literal_column(of)], unique=True,
                    postgresql_where=sa.text("state = 'pending'"))


def downgrade() -> None:
    """Tasks and reminders are lost; requests for more time are as ones for access."""
    op.execute("update requests set state = 'run_out' where extends_id is not null and state = 'pending'")
    _one_pending('coalesce(account_id::text, owner_address)')
    op.drop_column('requests', 'extends_id')
    op.drop_column('revocation_targets', 'trim_terms')
    for table in NEW:
        op.drop_table(table)
