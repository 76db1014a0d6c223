"""Drafts of rules that are set in their systems, and guards that systems are told"""

import sqlalchemy as sa
from alembic import op

revision = '0030'
down_revision = '0029'
branch_labels = None
depends_on = None

STATES = "'waiting', 'ready', 'refused', 'applied'"
ALL = f"{STATES}, 'applying', 'failed'"


def _check(states: str) -> None:
    op.drop_constraint(op.f('ck_rule_drafts_state'), 'rule_drafts')
    op.create_check_constraint(op.f('ck_rule_drafts_state'), 'rule_drafts', f'state in ({states})')


def upgrade() -> None:
    """Guards that there are have been told to no system."""
    _check(ALL)
    op.add_column('rule_drafts', sa.Column('reason', sa.Text(), server_default='', nullable=False))
    op.add_column('rule_drafts', sa.Column('applied_by', sa.Text(), server_default='', nullable=False))
    op.create_table(
        'system_guards',
        sa.Column('id', sa.Uuid(), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('organisation_id', sa.Uuid(), nullable=False),
        sa.Column('guard_id', sa.Uuid(), nullable=False),
        sa.Column('system_id', sa.Uuid(), nullable=False),
        sa.Column('state', sa.Text(), server_default='waiting', nullable=False),
        sa.Column('words', sa.Text(), server_default='', nullable=False),
        sa.Column('seen_at', sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("state in ('waiting', 'set', 'off', 'failed')", name=op.f('ck_system_guards_state')),
        sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'],
                                name=op.f('fk_system_guards_organisation_id')),
        sa.ForeignKeyConstraint(['guard_id'], ['exposure_guards.id'], name=op.f('fk_system_guards_guard_id'),
                                ondelete='CASCADE'),
        sa.ForeignKeyConstraint(['system_id'], ['systems.id'], name=op.f('fk_system_guards_system_id'),
                                ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_system_guards')),
        sa.UniqueConstraint('guard_id', 'system_id', name=op.f('uq_system_guards_guard_id_system_id')),
    )
    op.create_index('ix_system_guards_organisation_id', 'system_guards', ['organisation_id'])
    op.create_index('ix_system_guards_system_id', 'system_guards', ['system_id'])
    op.execute('alter table system_guards enable row level security')
    op.execute('create policy own_rows on system_guards using (organisation_id = current_organisation())')


def downgrade() -> None:
    """What was being set counts as ready again; which systems were told of guards is lost."""
    op.drop_table('system_guards')
    op.execute("update rule_drafts set state = 'ready' where state in ('applying', 'failed')")
    op.drop_column('rule_drafts', 'applied_by')
    op.drop_column('rule_drafts', 'reason')
    _check(STATES)
