"""What is told of people can be erased, and the journal still holds"""

from alembic import op
import sqlalchemy as sa

revision = '0026'
down_revision = '0025'
branch_labels = None
depends_on = None

FUNCTIONS = """
    create or replace function refuse_change() returns trigger language plpgsql as $$
    begin
        -- Set by the one function that may, for as long as it runs.
        if tg_op = 'UPDATE' and current_setting('openlatch.erasing', true) = 'on' then
            return null;
        end if;
        raise exception 'the journal can only be added to';
    end $$;

    create function erase_from_journal(
        place bigint, actor text, subject text, what jsonb, digest bytea
    ) returns void language plpgsql security definer set search_path = public, pg_temp as $$
    begin
        perform set_config('openlatch.erasing', 'on', true);
        -- Position, instant, action, ids and hashes stay as they were sealed.
        update journal set actor_name = actor, subject_name = subject, facts = what, told = digest, seal_key = null
        where organisation_id = current_organisation() and position = place;
        perform set_config('openlatch.erasing', 'off', true);
    end $$;

    create function erase_from_versions(old text, new text) returns void
    language sql security definer set search_path = public, pg_temp as $$
        update versions set row = replace(row::text, old, new)::jsonb
        where organisation_id = current_organisation() and strpos(row::text, old) > 0;
    $$;

    revoke execute on function erase_from_journal(bigint, text, text, jsonb, bytea) from public;
    revoke execute on function erase_from_versions(text, text) from public;
"""
BEFORE = """
    create or replace function refuse_change() returns trigger language plpgsql as $$
    begin
        raise exception 'the journal can only be added to';
    end $$;
    drop function erase_from_journal(bigint, text, text, jsonb, bytea);
    drop function erase_from_versions(text, text);
"""


def upgrade() -> None:
    """Entries that there are stay as they were sealed; those from now on have a key."""
    op.add_column('journal', sa.Column('seal_key', sa.LargeBinary(), nullable=True))
    op.add_column('journal', sa.Column('told', sa.LargeBinary(), nullable=True))
    op.add_column('people', sa.Column('erased_at', sa.DateTime(timezone=True), nullable=True))
    op.execute(FUNCTIONS)


def downgrade() -> None:
    """Entries with a key can't be verified any more."""
    op.execute(BEFORE)
    op.drop_column('people', 'erased_at')
    op.drop_column('journal', 'told')
    op.drop_column('journal', 'seal_key')
