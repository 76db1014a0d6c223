"""How far journals were forwarded to a syslog server"""

import sqlalchemy as sa
from alembic import op

revision = '0041'
down_revision = '0040'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Nothing is forwarded until a server is set; then everything is, from the first entry."""
    op.create_table(
        'syslog_positions',
        sa.Column('organisation_id', sa.Uuid(), sa.ForeignKey('organisations.id'), primary_key=True),
        sa.Column('position', sa.BigInteger(), server_default='0', nullable=False),
    )
    op.execute('alter table syslog_positions enable row level security')
    op.execute('create policy own_rows on syslog_positions using (organisation_id = (select current_organisation()))')


def downgrade() -> None:
    """A server that is set later gets everything again."""
    op.drop_table('syslog_positions')
