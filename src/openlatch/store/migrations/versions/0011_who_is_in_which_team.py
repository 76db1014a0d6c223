"""Who is in which team has a version, by which it can be kept in memory"""

from alembic import op
import sqlalchemy as sa

revision = '0011'
down_revision = '0010'
branch_labels = None
depends_on = None

# A random one each time: a number that is counted up could come again, after it was rolled back. As the owner of the
# tables, so that nobody who serves requests has to be allowed to write versions.
CHANGE = """
    create function change_rosters() returns trigger language plpgsql security definer set search_path = public, pg_temp
    as $$
    declare
        changed uuid[];
    begin
        if tg_table_name = 'people' then
            changed = array(
                select m.team_id from before b join after a using (id) join memberships m on m.person_id = a.id
                where (b.name, b.inside, b.standing, b.leaves_at, b.second_factor)
                    is distinct from (a.name, a.inside, a.standing, a.leaves_at, a.second_factor)
            );
        elsif tg_op = 'DELETE' then
            changed = array(select team_id from before);
        else
            -- Whoever changes one of these people now can't see yet that they belong: they wait for us, or we for them.
            perform from people where id in (select person_id from after) order by id for share;
            changed = array(select team_id from after);
            if tg_op = 'UPDATE' then
                changed = changed || array(select team_id from before);
            end if;
        end if;
        insert into rosters (team_id, organisation_id, version)
        select id, organisation_id, gen_random_uuid() from teams where id = any(changed) order by id
        on conflict (team_id) do update set version = excluded.version;
        return null;
    end $$;
    create trigger changes_rosters_by_insert after insert on memberships
        referencing new table as after for each statement execute function change_rosters();
    create trigger changes_rosters_by_update after update on memberships
        referencing old table as before new table as after for each statement execute function change_rosters();
    create trigger changes_rosters_by_delete after delete on memberships
        referencing old table as before for each statement execute function change_rosters();
    create trigger changes_rosters after update on people
        referencing old table as before new table as after for each statement execute function change_rosters();
"""


def upgrade() -> None:
    """Every team that somebody belongs to has one from now on."""
    op.create_table('rosters',
    sa.Column('team_id', sa.Uuid(), nullable=False),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('version', sa.Uuid(), nullable=False),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_rosters_organisation_id')),
    sa.PrimaryKeyConstraint('team_id', name=op.f('pk_rosters'))
    )
    op.execute("alter table rosters enable row level security")
    op.execute("create policy own_rows on rosters using (organisation_id = current_organisation())")
    op.execute(CHANGE)
    op.execute(
        "insert into rosters (team_id, organisation_id, version) "
        "select distinct on (team_id) team_id, organisation_id, gen_random_uuid() from memberships"
    )


def downgrade() -> None:
    """Slower again, and nothing else."""
    op.execute("drop trigger changes_rosters on people; drop trigger changes_rosters_by_insert on memberships;"
               "drop trigger changes_rosters_by_update on memberships;"
               "drop trigger changes_rosters_by_delete on memberships; drop function change_rosters")
    op.drop_table('rosters')
