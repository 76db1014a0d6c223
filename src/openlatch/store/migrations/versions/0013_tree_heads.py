"""Signed tree heads over the journal"""

from alembic import op
import sqlalchemy as sa

revision = '0013'
down_revision = '0012'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """The first head is signed by the worker's next turn, over all entries that there are."""
    op.create_table('tree_heads',
    sa.Column('size', sa.BigInteger(), nullable=False),
    sa.Column('peaks', sa.LargeBinary(), nullable=False),
    sa.Column('hashes', sa.LargeBinary(), nullable=True),
    sa.Column('head', sa.dialects.postgresql.JSONB(), nullable=False),
    sa.Column('stamp', sa.LargeBinary(), nullable=True),
    sa.Column('signed_at', sa.DateTime(timezone=True), nullable=False),
    sa.Column('filed_at', sa.DateTime(timezone=True), nullable=True),
    sa.Column('mailed_at', sa.DateTime(timezone=True), nullable=True),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_tree_heads_organisation_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_tree_heads')),
    sa.UniqueConstraint('organisation_id', 'size', name=op.f('uq_tree_heads_organisation_id_size'))
    )
    op.execute("alter table tree_heads enable row level security")
    op.execute("create policy own_rows on tree_heads using (organisation_id = current_organisation())")


def downgrade() -> None:
    """Heads that are kept elsewhere go on to vouch for what they are over."""
    op.drop_table('tree_heads')
