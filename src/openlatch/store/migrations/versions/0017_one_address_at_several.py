"""One address has a sign-in at each organisation; people are one for each address"""

from alembic import op
import sqlalchemy as sa

revision = '0017'
down_revision = '0016'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Whoever is at two organisations signs in at both."""
    op.execute("set lock_timeout = '10s'")
    op.drop_constraint('uq_sign_ins_address', 'sign_ins')
    op.create_unique_constraint('uq_sign_ins_organisation_id_address', 'sign_ins', ['organisation_id', 'address'])
    op.create_index('ix_sign_ins_address', 'sign_ins', ['address'])
    # Of several with one address the first keeps it; nobody can be told apart by it any more.
    op.execute("""
        update people p set address = null where p.standing <> 'left' and exists (
            select from people q where q.organisation_id = p.organisation_id and lower(q.address) = lower(p.address)
                and q.standing <> 'left' and q.id < p.id)
    """)
    op.create_index(
        'uq_people_address', 'people', ['organisation_id', sa.text('lower(address)')], unique=True,
        postgresql_where=sa.text("address is not null and standing <> 'left'"),
    )


def downgrade() -> None:
    """One sign-in for each address again; fails where one has two."""
    op.drop_index('uq_people_address', 'people')
    op.drop_index('ix_sign_ins_address', 'sign_ins')
    op.drop_constraint('uq_sign_ins_organisation_id_address', 'sign_ins')
    op.create_unique_constraint('uq_sign_ins_address', 'sign_ins', ['address'])
