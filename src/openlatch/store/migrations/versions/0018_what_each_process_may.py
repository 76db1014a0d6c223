"""What the web process does not have: secrets of systems, and the key that evidence is signed with"""

from alembic import op
import sqlalchemy as sa

revision = '0018'
down_revision = '0017'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Whether a system has a secret is told without it; evidence is kept as the worker signed it."""
    op.execute("set lock_timeout = '10s'")
    op.execute("alter table systems add column has_secret boolean generated always as (secret is not null) stored")
    op.create_table(
        'evidence_bundles',
        sa.Column('id', sa.Uuid(), primary_key=True),
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), nullable=False),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.Column('round_id', sa.Uuid(), sa.ForeignKey('rounds.id'), nullable=False, unique=True),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('addenda', sa.Integer(), nullable=False),
        sa.Column('content', sa.LargeBinary(), nullable=False),
    )
    op.execute('alter table evidence_bundles enable row level security')
    op.execute('create policy own_rows on evidence_bundles using (organisation_id = current_organisation())')
    op.create_table(
        'published_keys',
        sa.Column('x', sa.Text(), primary_key=True),
        sa.Column('published_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    )


def downgrade() -> None:
    """Evidence is signed by whoever is asked for it again."""
    op.drop_table('published_keys')
    op.drop_table('evidence_bundles')
    op.drop_column('systems', 'has_secret')
