"""Instants that no call could have been shown, and time zones that there are not, are put right"""

from alembic import op

revision = '0015'
down_revision = '0014'
branch_labels = None
depends_on = None


def upgrade() -> None:
    """An end far away is none; what lies before 1970 begins there; an unknown time zone is UTC."""
    op.execute("set lock_timeout = '10s'")
    op.execute("""
        do $$
        declare
            one record;
        begin
            for one in
                select c.table_name as named, c.column_name as place, c.is_nullable = 'YES' as may_be_empty
                from information_schema.columns c
                join information_schema.tables t using (table_schema, table_name)
                where c.table_schema = current_schema() and t.table_type = 'BASE TABLE'
                    and c.data_type = 'timestamp with time zone' and c.table_name !~ '^procrastinate'
                    and c.table_name <> 'journal'
            loop
                execute format(
                    'update %1$I set %2$I = %3$s where %2$I >= ''2200-01-01Z''', one.named, one.place,
                    case when one.may_be_empty then 'null' else '''2199-12-31Z''' end
                );
                execute format('update %1$I set %2$I = ''1970-01-01Z'' where %2$I < ''1970-01-01Z''', one.named, one.place);
            end loop;
        end $$
    """)
    for table in ("organisations", "accounts", "schedules"):
        op.execute(
            f"update {table} set time_zone = 'UTC' where time_zone not in (select name from pg_timezone_names)"
        )


def downgrade() -> None:
    """What was put right stays so."""
