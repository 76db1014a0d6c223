"""Shown in short: what was read of a grant as a digest, until it changes; a journal begins with its organisation"""

from alembic import op
import sqlalchemy as sa

revision = '0008'
down_revision = '0007'
branch_labels = None
depends_on = None

# A digest is of a grant as it was then. And whose a login is, and which account a handle means, decides which grant a
# holding is of: then that has to be looked up.
FORGET = """
    create function forget_shown() returns trigger language plpgsql as $$
    begin
        new.shown = null;
        return new;
    end $$;
    create trigger forgets_shown before update of version, state, missing_since on grants
        for each row when (new.shown is not null and old.shown = new.shown and
            (old.version, old.state, old.missing_since) is distinct from (new.version, new.state, new.missing_since))
        execute function forget_shown();

    create function forget_shown_of_login() returns trigger language plpgsql as $$
    begin
        update grants g set shown = null from accounts a
        where a.id = g.account_id and a.system_id = old.system_id and g.handle ->> 'login' = old.name
            and g.holder_id = coalesce(old.person_id, old.app_id);
        return null;
    end $$;
    create trigger forgets_shown after delete or update of system_id, name, person_id, app_id on handles
        for each row execute function forget_shown_of_login();

    create function forget_shown_of_account() returns trigger language plpgsql as $$
    begin
        update grants g set shown = null where g.account_id = old.id;
        return null;
    end $$;
    create trigger forgets_shown after update of system_id, handle on accounts
        for each row when ((old.system_id, old.handle) is distinct from (new.system_id, new.handle))
        execute function forget_shown_of_account();
"""
# So that there is a head to be locked by whoever writes the first entry. As the owner of the tables: the new
# organisation's rows can't be seen yet.
BEGIN = """
    create function begin_journal() returns trigger language plpgsql security definer set search_path = public, pg_temp
    as $$
    begin
        insert into journal_heads (organisation_id, position, hash) values (new.id, 0, decode(repeat('00', 32), 'hex'));
        return null;
    end $$;
    create trigger begins_journal after insert on organisations for each row execute function begin_journal();

    insert into journal_heads (organisation_id, position, hash)
    select o.id, 0, decode(repeat('00', 32), 'hex') from organisations o
    where not exists (select from journal_heads h where h.organisation_id = o.id);
"""


def upgrade() -> None:
    """What was shown is seen again at the next reading."""
    op.drop_column('grants', 'shown')
    op.add_column('grants', sa.Column('shown', sa.Uuid(), nullable=True))
    op.drop_index('ix_grants_account_id', table_name='grants')
    op.create_index('ix_grants_account_id', 'grants', ['account_id', 'state'],
                    postgresql_include=['organisation_id', 'holder_kind', 'shown', 'id'])
    op.execute(FORGET)
    op.execute(BEGIN)


def downgrade() -> None:
    """What was shown is seen again at the next reading."""
    op.execute("drop trigger forgets_shown on grants; drop function forget_shown;"
               "drop trigger forgets_shown on handles; drop function forget_shown_of_login;"
               "drop trigger forgets_shown on accounts; drop function forget_shown_of_account;"
               "drop trigger begins_journal on organisations; drop function begin_journal")
    op.drop_index('ix_grants_account_id', table_name='grants')
    op.create_index('ix_grants_account_id', 'grants', ['account_id', 'state'])
    op.drop_column('grants', 'shown')
    op.add_column('grants', sa.Column('shown', sa.Text(), nullable=True))
