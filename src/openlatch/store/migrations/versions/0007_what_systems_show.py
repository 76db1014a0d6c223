"""What systems show: reads by a schedule, drift of what is recorded, what logins are told by, and what can be undone"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = '0007'
down_revision = '0006'
branch_labels = None
depends_on = None

COLUMNS = {
    "systems": (
        sa.Column('read_every', sa.Integer(), server_default='10', nullable=False),
        sa.Column('next_read_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('read_fully_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('reading_since', sa.DateTime(timezone=True), nullable=True),
        sa.Column('reading_seen', sa.Integer(), server_default='0', nullable=False),
        sa.Column('stamps', postgresql.JSONB(), server_default='{}', nullable=False),
        sa.Column('matching', postgresql.JSONB(), server_default='[]', nullable=False),
    ),
    "grants": (
        sa.Column('shown', sa.Text(), nullable=True),
        sa.Column('differs', postgresql.JSONB(), nullable=True),
        sa.Column('contradicted_at', sa.DateTime(timezone=True), nullable=True),
    ),
    "handles": (
        sa.Column('marks', postgresql.JSONB(), server_default='{}', nullable=False),
        sa.Column('locked', sa.Boolean(), server_default='false', nullable=False),
        sa.Column('hangs', postgresql.JSONB(), server_default='[]', nullable=False),
        sa.Column('candidates', postgresql.JSONB(), server_default='[]', nullable=False),
        sa.Column('settled', sa.Boolean(), server_default='false', nullable=False),
    ),
    "revocations": (
        sa.Column('leaver_id', sa.Uuid(), nullable=True),
        sa.Column('undone_at', sa.DateTime(timezone=True), nullable=True),
        sa.Column('undone_by_id', sa.Uuid(), nullable=True),
    ),
    "revocation_targets": (sa.Column('was', postgresql.JSONB(), nullable=True),),
}
CAUSES = ("asked", "review", "expired", "given_up", "replaced")
STATES = ("open", "waiting", "by_hand", "done")


def upgrade() -> None:
    """Make the columns, the marks that people are told by, and let steps be skipped."""
    for table, columns in COLUMNS.items():
        for column in columns:
            op.add_column(table, column)
    op.create_check_constraint('read_every', 'systems', "read_every between 1 and 10080")
    for name in ('leaver_id', 'undone_by_id'):
        op.create_foreign_key(op.f(f'fk_revocations_{name}'), 'revocations', 'people', [name], ['id'])
    op.create_index('ix_revocations_leaver_id', 'revocations', ['leaver_id'],
                    postgresql_where=sa.text('leaver_id is not null'))
    _words('revocations', 'cause', (*CAUSES, 'left'))
    _words('steps', 'state', (*STATES, 'skipped'))
    op.create_table('marks',
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('person_id', sa.Uuid(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('value', sa.Text(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.CheckConstraint("kind in ('uid', 'fingerprint', 'employee')", name=op.f('ck_marks_kind')),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_marks_organisation_id')),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_marks_person_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_marks')),
    sa.UniqueConstraint('organisation_id', 'kind', 'value', 'person_id', name=op.f('uq_marks_organisation_id_kind_value_person_id'))
    )
    op.create_index('ix_marks_person_id', 'marks', ['person_id'])
    op.execute("alter table marks enable row level security")
    op.execute("create policy own_rows on marks using (organisation_id = (select current_organisation()))")
    # Grants that drifted, and logins that a person has to name: few among many.
    op.create_index('ix_grants_drift', 'grants', ['account_id'], postgresql_where=sa.text(
        "state in ('active', 'suspended', 'revoking') "
        "and (not recorded or missing_since is not null or differs is not null)"))


def downgrade() -> None:
    """What only this keeps is lost."""
    op.drop_index('ix_grants_drift', table_name='grants')
    op.drop_table('marks')
    op.execute("update steps set state = 'done' where state = 'skipped'")
    op.execute("update revocations set cause = 'asked' where cause = 'left'")
    _words('revocations', 'cause', CAUSES)
    _words('steps', 'state', STATES)
    for table, columns in COLUMNS.items():
        for column in columns:
            op.drop_column(table, column.name)


def _words(table: str, column: str, words: tuple[str, ...]) -> None:
    op.drop_constraint(op.f(f'ck_{table}_{column}'), table)
    listed = ", ".join(f"'{word}'" for word in words)
    op.create_check_constraint(op.f(f'ck_{table}_{column}'), table, f"{column} in ({listed})")
