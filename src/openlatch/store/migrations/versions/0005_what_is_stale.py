"""What is stale or risky: findings, places, own rules, and earlier versions of rows"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = '0005'
down_revision = '0004'
branch_labels = None
depends_on = None

NEW = ("findings", "breaches", "places", "own_rules", "versions")
# Which columns of a row make a version of it. What only says when something was last seen or used does not.
VERSIONED = {
    "people": "name, address, job, inside, standing, leaves_at, second_factor, manager_id",
    "teams": "name, partner",
    "memberships": "team_id, person_id, member_team_id, since, until",
    "accounts": "name, system_id, kind, sensitivity, owner_id, time_zone",
    "levels": "system_id, name, sentence, reach, permissions",
    "apps": "name, publisher",
    "grants": "account_id, person_id, team_id, app_id, holder_account_id, state, ended_as, ended_at, given_by_id, "
              "given_at, reason, recorded",
    "terms": "grant_id, level_id, resource_id, group_id, since, until, hours",
    "resources": "account_id, name, kind, public",
    "resource_groups": "account_id, name",
    "resources_in_groups": "group_id, resource_id",
    "latches": "account_id, account_kind, kind, mode, number, pair",
}
FUNCTIONS = """
    create function longest_pauses(days datemultirange) returns int[] language sql immutable parallel safe
    return (
        select coalesce(array_agg(pause order by pause desc) filter (where place <= 2), '{}') from (
            select pause, row_number() over (order by pause desc) as place from (
                select lower(stretch) - upper(lag(stretch) over (order by stretch)) as pause from unnest(days) stretch
            ) every where pause is not null
        ) numbered
    );

    create function kilometres(from_lat float8, from_lon float8, to_lat float8, to_lon float8) returns float8
    language sql immutable strict parallel safe
    return 12742 * asin(sqrt(least(1.0,
        sin(radians(to_lat - from_lat) / 2) ^ 2
        + cos(radians(from_lat)) * cos(radians(to_lat)) * sin(radians(to_lon - from_lon) / 2) ^ 2)));

    -- An address as its text says it, or none: systems write all sorts of things there.
    create function as_address(written text) returns inet language plpgsql immutable parallel safe as $$
    begin
        return written::inet;
    exception when invalid_text_representation then
        return null;
    end $$;

    create function find_place() returns trigger language plpgsql as $$
    declare
        found record;
        wanted inet = as_address(nullif(new.address, ''));
    begin
        if wanted is not null then
            select place, country, latitude, longitude into found from places
            where organisation_id = new.organisation_id and network >>= wanted
            order by masklen(network) desc limit 1;
            if found.place is not null then
                new.place = case when new.place = '' or tg_op = 'UPDATE' then found.place else new.place end;
                new.country = found.country;
                new.latitude = found.latitude;
                new.longitude = found.longitude;
            end if;
        end if;
        return new;
    end $$;
    create trigger finds_place before insert or update of address on sessions
        for each row execute function find_place();

    create function note_growth() returns trigger language plpgsql as $$
    begin
        if exists (select p ->> 'key' from jsonb_array_elements(new.permissions) p
                   except select p ->> 'key' from jsonb_array_elements(old.permissions) p) then
            new.grown_at = now();
        end if;
        return new;
    end $$;
    create trigger notes_growth before update of permissions on levels
        for each row execute function note_growth();

    -- As the owner of the tables, so that nobody who serves requests has to be allowed to write versions.
    create function keep_version() returns trigger language plpgsql security definer set search_path = public, pg_temp
    as $$
    declare
        at timestamptz = greatest(now(), old.recorded_at);
    begin
        if at > old.recorded_at or tg_op = 'DELETE' then
            insert into versions (id, since, organisation_id, kind, until, gone, row)
            values (old.id, old.recorded_at, old.organisation_id, tg_table_name, at, tg_op = 'DELETE', to_jsonb(old))
            on conflict (id, since) do update set until = excluded.until, gone = excluded.gone;
        end if;
        if tg_op = 'DELETE' then
            return old;
        end if;
        new.recorded_at = at;
        return new;
    end $$;
"""


def upgrade() -> None:
    """Make the tables and columns, fill them, and let the database keep what it has to."""
    op.execute(FUNCTIONS)
    _tables()
    for table, columns in VERSIONED.items():
        op.add_column(table, sa.Column("recorded_at", sa.DateTime(timezone=True), server_default=sa.text("now()"),
                                       nullable=False))
        op.execute(f"update {table} set recorded_at = created_at")
        before = ", ".join(f"old.{c.strip()}" for c in columns.split(","))
        after = ", ".join(f"new.{c.strip()}" for c in columns.split(","))
        op.execute(
            f"create trigger keeps_versions before update of {columns} on {table} for each row "
            f"when (({before}) is distinct from ({after})) execute function keep_version()"
        )
        op.execute(
            f"create trigger keeps_last_version before delete on {table} for each row execute function keep_version()"
        )
    op.execute(
        """
        insert into uses (id, organisation_id, grant_id, permission, days)
        select gen_random_uuid(), organisation_id, grant_id, '', range_agg(days)
        from (select organisation_id, grant_id, unnest(days) as days from uses where permission <> '') each
        group by organisation_id, grant_id on conflict do nothing
        """
    )
    for table in NEW:
        op.execute(f"alter table {table} enable row level security")
        op.execute(f"create policy own_rows on {table} using (organisation_id = current_organisation())")


def downgrade() -> None:
    """What was found and kept in between would be lost."""
    raise NotImplementedError("restore a backup from before instead")


def _tables() -> None:
    now = sa.text("now()")
    op.create_table('findings',
    sa.Column('subject_id', sa.Uuid(), nullable=False),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('found', postgresql.ARRAY(sa.Integer()), nullable=False),
    sa.Column('words', sa.BigInteger(), nullable=False),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_findings_organisation_id')),
    sa.PrimaryKeyConstraint('subject_id', name=op.f('pk_findings'))
    )
    op.create_table('breaches',
    sa.Column('account_id', sa.Uuid(), nullable=False),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('broken', sa.Integer(), nullable=False),
    sa.Column('firm', sa.Boolean(), nullable=False),
    sa.Column('reach', sa.SmallInteger(), nullable=False),
    sa.Column('words', sa.Text(), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_breaches_account_id')),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_breaches_organisation_id')),
    sa.PrimaryKeyConstraint('account_id', name=op.f('pk_breaches'))
    )
    op.create_table('places',
    sa.Column('network', postgresql.CIDR(), nullable=False),
    sa.Column('place', sa.Text(), nullable=False),
    sa.Column('country', sa.Text(), nullable=False),
    sa.Column('latitude', sa.Double(), nullable=False),
    sa.Column('longitude', sa.Double(), nullable=False),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=now, nullable=False),
    sa.CheckConstraint('latitude between -90 and 90 and longitude between -180 and 180', name=op.f('ck_places_on_earth')),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_places_organisation_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_places')),
    sa.UniqueConstraint('organisation_id', 'network', name=op.f('uq_places_organisation_id_network'))
    )
    op.execute("create index ix_places_network on places using gist (network inet_ops)")
    op.create_table('own_rules',
    sa.Column('number', sa.Integer(), nullable=False),
    sa.Column('key', sa.Text(), nullable=False),
    sa.Column('subject', sa.Text(), nullable=False),
    sa.Column('title', sa.Text(), nullable=False),
    sa.Column('about', sa.Text(), nullable=False),
    sa.Column('filter', sa.Text(), nullable=False),
    sa.Column('says', sa.Text(), nullable=False),
    sa.Column('remedy', sa.Text(), nullable=False),
    sa.Column('urgency', sa.SmallInteger(), nullable=False),
    sa.Column('source', sa.Text(), nullable=False),
    sa.Column('live', sa.Boolean(), server_default='true', nullable=False),
    sa.Column('made_by_id', sa.Uuid(), nullable=True),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=now, nullable=False),
    sa.ForeignKeyConstraint(['made_by_id'], ['people.id'], name=op.f('fk_own_rules_made_by_id')),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_own_rules_organisation_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_own_rules')),
    sa.UniqueConstraint('organisation_id', 'key', name=op.f('uq_own_rules_organisation_id_key')),
    sa.UniqueConstraint('organisation_id', 'number', name=op.f('uq_own_rules_organisation_id_number'))
    )
    op.create_table('versions',
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('since', sa.DateTime(timezone=True), nullable=False),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('until', sa.DateTime(timezone=True), nullable=False),
    sa.Column('gone', sa.Boolean(), nullable=False),
    sa.Column('row', postgresql.JSONB(), nullable=False),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_versions_organisation_id')),
    sa.PrimaryKeyConstraint('id', 'since', name=op.f('pk_versions'))
    )
    # To follow paths through what was: whom a membership joined, who owned an account, what belonged to a grant.
    for kind, column in (("memberships", "team_id"), ("memberships", "member_id"), ("accounts", "owner_id"),
                         ("terms", "grant_id"), ("resources_in_groups", "group_id")):
        op.execute(f"create index ix_versions_{kind}_{column} on versions ((row ->> '{column}')) where kind = '{kind}'")
    op.add_column('grants', sa.Column('credential_since', sa.DateTime(timezone=True), nullable=True))
    op.add_column('levels', sa.Column('grown_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('uses', sa.Column('pauses', postgresql.ARRAY(sa.Integer()),
                                    sa.Computed('longest_pauses(days)', persisted=True), nullable=False))
    op.add_column('sessions', sa.Column('country', sa.Text(), nullable=True))
    op.add_column('sessions', sa.Column('latitude', sa.Double(), nullable=True))
    op.add_column('sessions', sa.Column('longitude', sa.Double(), nullable=True))
    op.alter_column('flags', 'account_id', nullable=True)
    op.add_column('flags', sa.Column('worse_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('flags', sa.Column('accepted_severity', sa.SmallInteger(), nullable=True))
    op.add_column('flags', sa.Column('assigned_to_id', sa.Uuid(), nullable=True))
    op.create_foreign_key(op.f('fk_flags_assigned_to_id'), 'flags', 'people', ['assigned_to_id'], ['id'])
    op.execute("update flags set accepted_severity = severity where state = 'accepted'")
    op.add_column('people', sa.Column('wants_digest', sa.Boolean(), server_default='true', nullable=False))
    op.add_column('organisations', sa.Column('ruling_version', sa.Integer(), server_default='1', nullable=False))
    op.add_column('organisations', sa.Column('digest_at', sa.DateTime(timezone=True), nullable=True))
