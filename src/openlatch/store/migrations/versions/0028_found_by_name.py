"""People and accounts found by their names"""

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


def upgrade() -> None:
    """Nothing of what there is changes."""
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
    for name in NAMED:
        op.execute(f'drop function {name}(text, text, int)')
