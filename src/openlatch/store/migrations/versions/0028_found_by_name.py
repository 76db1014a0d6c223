"""People and accounts found by their names"""

from alembic import op

revision = '0028'
down_revision = '0027'
branch_labels = None
depends_on = None

# Whether a name is like a pattern is, to row-level security, not to be known of rows that are not one's own; so no index
# on names helps a role that it holds. These hold to the one organisation by themselves.
NAMED = {
    'people_named': ('people', 'merged_into_id is null and (lower(name) like $1 or lower(address) like $1)'),
    'accounts_named': ('accounts', 'archived_at is null and lower(name) like $1'),
}


def upgrade() -> None:
    """Nothing of what there is changes."""
    for name, (table, fits) in NAMED.items():
        op.execute(f"""
            create function {name}(pattern text) returns setof uuid
            language sql stable security definer set search_path = public, pg_temp rows 200 as $$
                select id from {table} where organisation_id = (select current_organisation()) and {fits}
            $$
        """)
        op.execute(f'revoke all on function {name}(text) from public')


def downgrade() -> None:
    """Names are searched row by row."""
    for name in NAMED:
        op.execute(f'drop function {name}(text)')
