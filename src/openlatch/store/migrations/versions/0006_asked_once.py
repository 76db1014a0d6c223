"""Asked once: whose rows may be seen, by the statement and not by the row; which terms decide who else gets in"""

from alembic import op
import sqlalchemy as sa

revision = '0006'
down_revision = '0005'
branch_labels = None
depends_on = None

ASK_ONCE = """
    do $$
    declare
        policy record;
    begin
        for policy in select tablename, qual from pg_policies where policyname = 'own_rows' loop
            execute format('alter policy own_rows on %I using (%s)', policy.tablename,
                replace(policy.qual, 'current_organisation()', '(select current_organisation())'));
        end loop;
    end $$
"""
# A term of a level that decides who else gets in says of which account: few do, and they are counted at every change.
STEWARDS = """
    create function note_steward() returns trigger language plpgsql as $$
    begin
        new.steward_of = (select g.account_id from levels l, grants g
                          where l.id = new.level_id and l.reach = 4 and g.id = new.grant_id);
        return new;
    end $$;
    create trigger notes_steward before insert or update of level_id on terms
        for each row execute function note_steward();

    create function note_stewards() returns trigger language plpgsql as $$
    begin
        update terms set level_id = level_id where level_id = new.id;
        return null;
    end $$;
    create trigger notes_stewards after update of reach on levels
        for each row when (old.reach <> new.reach) execute function note_stewards();

    update terms t set steward_of = g.account_id from levels l, grants g
    where l.id = t.level_id and l.reach = 4 and g.id = t.grant_id;
"""


def upgrade() -> None:
    """Ask once, and index what leads on from teams and accounts."""
    op.execute(ASK_ONCE)
    # Which kinds of systems there are, the adapters say.
    # It is not there for whoever comes back up: systems of new kinds stayed.
    op.execute('alter table systems drop constraint if exists ck_systems_kind')
    op.add_column('terms', sa.Column('steward_of', sa.Uuid(), nullable=True))
    op.execute(STEWARDS)
    op.create_index('ix_terms_steward_of', 'terms', ['steward_of'],
                    postgresql_where=sa.text('steward_of is not null'))
    op.create_index('ix_memberships_nested', 'memberships', ['team_id'],
                    postgresql_where=sa.text('member_team_id is not null'))
    op.create_index('ix_grants_held_by_many', 'grants', ['account_id'],
                    postgresql_where=sa.text("holder_kind in ('team', 'account')"))


def downgrade() -> None:
    """What is asked would be asked more slowly; systems of new kinds stay as they are."""
    op.execute("drop trigger notes_steward on terms; drop function note_steward;"
               "drop trigger notes_stewards on levels; drop function note_stewards")
    op.drop_column('terms', 'steward_of')
    op.drop_index('ix_grants_held_by_many', table_name='grants')
    op.drop_index('ix_memberships_nested', table_name='memberships')
