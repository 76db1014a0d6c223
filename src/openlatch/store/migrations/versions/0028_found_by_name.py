"""People and accounts found by their names; erased ones named by no review"""

from alembic import op

revision = '0028'
down_revision = '0027'
branch_labels = None
depends_on = None

# Whether a name is like a pattern is, to row-level security, not to be known of rows that are not one's own; so no index
# on names helps a role that it holds. These hold to the one organisation by themselves.
NAMED = {
    'people_named': ('people', 'merged_into_id is null and (lower(name) like %1$L or lower(address) like %1$L)'),
    'accounts_named': ('accounts', 'archived_at is null and lower(name) like %1$L'),
}


ERASING = """
    -- Only the one function that erases gets past what keeps ended reviews as they are, for as long as it runs.
    create function is_erasing(of oid) returns boolean language sql stable as $$
        select coalesce(current_setting('openlatch.erasing', true), '') = 'on'
            and current_user = (select pg_get_userbyid(relowner) from pg_class where oid = of)
    $$;

    create or replace function refuse_change_of_round() returns trigger language plpgsql as $$
    begin
        if tg_op = 'UPDATE' and is_erasing(tg_relid) then
            return new;
        end if;
        if old.ended_at is not null or tg_op = 'DELETE' then
            raise exception 'the round has ended; nothing in it can change';
        end if;
        return new;
    end $$;

    create or replace function refuse_change_of_item() returns trigger language plpgsql as $$
    begin
        if tg_op = 'UPDATE' and is_erasing(tg_relid) then
            return new;
        end if;
        if exists (select 1 from rounds where id = old.round_id and ended_at is not null) then
            raise exception 'the round has ended; nothing in it can change';
        end if;
        if tg_op = 'DELETE' then
            raise exception 'an item can not be taken out of its round';
        end if;
        if (new.facts, new.position, new.kind, new.subject_id, new.round_id)
            is distinct from (old.facts, old.position, old.kind, old.subject_id, old.round_id) then
            raise exception 'what was frozen in an item can not change';
        end if;
        return new;
    end $$;

    create function erase_from_reviews(old text, new text) returns void
    language plpgsql security definer set search_path = public, pg_temp as $$
    declare held record;
    begin
        perform set_config('openlatch.erasing', 'on', true);
        for held in
            select table_name as place, column_name as name, data_type as kind from information_schema.columns
            where table_schema = 'public' and table_name in ('rounds', 'items', 'questions')
                and data_type in ('text', 'jsonb') and is_generated = 'NEVER'
        loop
            execute format(
                'update %1$I set %2$I = replace(%2$I::text, $1, $2)::%3$s '
                'where organisation_id = current_organisation() and strpos(%2$I::text, $1) > 0',
                held.place, held.name, held.kind) using old, new;
        end loop;
        perform set_config('openlatch.erasing', 'off', true);
    end $$;
    revoke execute on function erase_from_reviews(text, text) from public;
"""
BEFORE = """
    drop function erase_from_reviews(text, text);
    create or replace function refuse_change_of_item() returns trigger language plpgsql as $$
    begin
        if exists (select 1 from rounds where id = old.round_id and ended_at is not null) then
            raise exception 'the round has ended; nothing in it can change';
        end if;
        if tg_op = 'DELETE' then
            raise exception 'an item can not be taken out of its round';
        end if;
        if (new.facts, new.position, new.kind, new.subject_id, new.round_id)
            is distinct from (old.facts, old.position, old.kind, old.subject_id, old.round_id) then
            raise exception 'what was frozen in an item can not change';
        end if;
        return new;
    end $$;
    create or replace function refuse_change_of_round() returns trigger language plpgsql as $$
    begin
        if old.ended_at is not null or tg_op = 'DELETE' then
            raise exception 'the round has ended; nothing in it can change';
        end if;
        return new;
    end $$;
    drop function is_erasing(oid);
"""


def upgrade() -> None:
    """Nothing of what there is changes."""
    op.execute(ERASING)
    for name, (table, fits) in NAMED.items():
        # The best first, as many as are wanted. Planned with the pattern in it: without knowing how many fit, the server takes another way.
        statement = (f'select id from {table} where organisation_id = %2$L and {fits} '
                     'order by similarity(lower(name), %3$L) desc, name limit %4$L')
        op.execute(f"""
            create function {name}(pattern text, words text, most int) returns setof uuid
            language plpgsql stable security definer set search_path = public, pg_temp rows 200 as $$
            begin
                return query execute format('{statement}', pattern, current_organisation(), words, most);
            end
            $$
        """)
        op.execute(f'revoke all on function {name}(text, text, int) from public')


def downgrade() -> None:
    """Names are searched row by row."""
    op.execute(BEFORE)
    for name in NAMED:
        op.execute(f'drop function {name}(text, text, int)')
