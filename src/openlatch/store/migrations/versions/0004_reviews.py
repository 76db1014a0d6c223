"""Reviews that people finish"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = '0004'
down_revision = '0003'
branch_labels = None
depends_on = None

OWN = "organisation_id = current_organisation()"
# Calendars are read by the hash of a token, before it is known who asks.
FINDING_OUT = ("calendars",)
NEW = ("occurrences", "calendars", "uses", "questions")
FILLED = ("kind", "subject_id", "account", "holder", "level", "recommended", "flagged", "severity")

# What a schedule said for all becomes what it says for each reach.
UNDECIDED = """
    alter table schedules alter column undecided drop default;
    alter table schedules alter column undecided type jsonb using jsonb_build_object(
        'observe', undecided, 'operate', undecided, 'spend', undecided, 'steward', undecided);
    alter table schedules alter column undecided set default '{}'
"""
NAMED_REVIEWERS = """
    update schedules set reviewers = jsonb_build_array(jsonb_build_object('kind', 'person', 'id', reviewer_id))
    where reviewer_id is not null
"""
ITEMS = """
    update items i set
        kind = case when i.facts #>> '{holder,kind}' = 'app' then 'link' else 'grant' end,
        subject_id = i.grant_id,
        account_id = g.account_id,
        account = i.facts #>> '{account,name}',
        holder = coalesce(i.facts #>> '{holder,name}', ''),
        level = coalesce(i.facts ->> 'level', ''),
        reach = (i.facts ->> 'reach')::smallint,
        recommended = '',
        flagged = jsonb_array_length(i.facts -> 'flags'),
        severity = coalesce((select max((f ->> 'severity')::smallint) from jsonb_array_elements(i.facts -> 'flags') f), 0),
        state = case when i.verdict is null then 'undecided' else 'decided' end,
        done_at = case when i.verdict = 'keep' then i.decided_at end
    from grants g where g.id = i.grant_id
"""
# A round that was closed before is one whose decisions are carried out: the worker ends it.
GUARDS = """
    create function refuse_change_of_item() returns trigger language plpgsql as $$
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
    create trigger frozen before update or delete on items for each row execute function refuse_change_of_item();

    create function refuse_change_of_round() returns trigger language plpgsql as $$
    begin
        if old.ended_at is not null or tg_op = 'DELETE' then
            raise exception 'the round has ended; nothing in it can change';
        end if;
        return new;
    end $$;
    create trigger frozen before update or delete on rounds for each row execute function refuse_change_of_round();
"""
# What can open a round is noticed by the database itself, whichever way the change came in.
NOTICING = """
    create function occurred(organisation uuid, what text, subject uuid, words text) returns void language sql as $$
        insert into occurrences (id, organisation_id, kind, subject_id, sentence)
        values (gen_random_uuid(), organisation, what, subject, words)
    $$;

    create function notice_person() returns trigger language plpgsql as $$
    begin
        if old.standing = 'current' and new.standing <> 'current' then
            perform occurred(new.organisation_id, 'person_leaves', new.id, new.name || ' leaves');
        elsif new.standing = 'current' and (
            (old.job <> '' and new.job <> old.job) or
            (old.manager_id is not null and new.manager_id is distinct from old.manager_id)
        ) then
            perform occurred(new.organisation_id, 'person_moves', new.id, new.name || ' moves');
        end if;
        return null;
    end $$;
    create trigger notices after update of standing, job, manager_id on people
        for each row execute function notice_person();

    create function notice_account() returns trigger language plpgsql as $$
    begin
        if new.sensitivity > old.sensitivity then
            perform occurred(new.organisation_id, 'more_sensitive', new.id, new.name || ' is more sensitive');
        end if;
        return null;
    end $$;
    create trigger notices after update of sensitivity on accounts for each row execute function notice_account();

    create function notice_emergency() returns trigger language plpgsql as $$
    begin
        if new.emergency and new.state = 'ended' and old.state in ('active', 'suspended', 'revoking') then
            perform occurred(new.organisation_id, 'emergency_ended', new.id, 'Emergency access ended');
        end if;
        return null;
    end $$;
    create trigger notices after update of state on grants for each row execute function notice_emergency();

    create function notice_level() returns trigger language plpgsql as $$
    begin
        if exists (select p ->> 'key' from jsonb_array_elements(new.permissions) p
                   except select p ->> 'key' from jsonb_array_elements(old.permissions) p) then
            perform occurred(new.organisation_id, 'app_grows', app.id, app.name || ' may do more')
            from (select distinct a.id, a.name from terms t join grants g on g.id = t.grant_id
                  join apps a on a.id = g.app_id
                  where t.level_id = new.id and g.state in ('active', 'suspended')) app;
        end if;
        return null;
    end $$;
    create trigger notices after update of permissions on levels for each row execute function notice_level();

    create function notice_term() returns trigger language plpgsql as $$
    begin
        if new.level_id <> old.level_id then
            perform occurred(new.organisation_id, 'app_grows', a.id, a.name || ' may do more')
            from grants g join apps a on a.id = g.app_id
            where g.id = new.grant_id and exists (
                select p ->> 'key' from levels l, jsonb_array_elements(l.permissions) p where l.id = new.level_id
                except select p ->> 'key' from levels l, jsonb_array_elements(l.permissions) p where l.id = old.level_id);
        end if;
        return null;
    end $$;
    create trigger notices after update of level_id on terms for each row execute function notice_term();
"""


def upgrade() -> None:
    """Make the tables and columns, fill them, and guard them."""
    _tables()
    op.execute(ITEMS)
    for column in FILLED:
        op.alter_column("items", column, nullable=False)
    op.create_check_constraint("state", "items", "state in ('undecided', 'seconding', 'decided')")
    op.create_check_constraint("decided", "items", "(verdict is null) = (state = 'undecided')")
    op.create_check_constraint("somebody_else", "people", "manager_id <> id and deputy_id <> id")
    op.create_check_constraint("acts", "schedules", "acts in ('when_decided', 'at_close')")
    op.drop_constraint("one_subject", "revocation_targets", type_="check")
    op.create_check_constraint(
        "one_subject", "revocation_targets", "num_nonnulls(grant_id, session_id, resource_id) = 1"
    )
    for table in NEW:
        rule = f"({OWN} or current_organisation() is null)" if table in FINDING_OUT else OWN
        op.execute(f"alter table {table} enable row level security")
        op.execute(f"create policy own_rows on {table} using ({rule}) with check ({rule})")
    op.execute(GUARDS)
    op.execute(NOTICING)


def downgrade() -> None:
    """What was reviewed in between would be lost."""
    raise NotImplementedError("restore a backup from before instead")


def _tables() -> None:
    op.create_table('occurrences',
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('subject_id', sa.Uuid(), nullable=False),
    sa.Column('sentence', sa.Text(), nullable=False),
    sa.Column('at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.Column('handled_at', sa.DateTime(timezone=True), nullable=True),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_occurrences_organisation_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_occurrences'))
    )
    op.create_index('ix_occurrences_unhandled', 'occurrences', ['at'], unique=False, postgresql_where=sa.text('handled_at is null'))
    op.create_table('calendars',
    sa.Column('person_id', sa.Uuid(), nullable=False),
    sa.Column('token_hash', sa.LargeBinary(), nullable=False),
    sa.Column('made_at', sa.DateTime(timezone=True), nullable=False),
    sa.Column('read_at', sa.DateTime(timezone=True), nullable=True),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_calendars_organisation_id')),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_calendars_person_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_calendars')),
    sa.UniqueConstraint('person_id', name=op.f('uq_calendars_person_id')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_calendars_token_hash'))
    )
    op.create_table('uses',
    sa.Column('grant_id', sa.Uuid(), nullable=False),
    sa.Column('permission', sa.Text(), nullable=False),
    sa.Column('days', postgresql.DATEMULTIRANGE(), nullable=False),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.ForeignKeyConstraint(['grant_id'], ['grants.id'], name=op.f('fk_uses_grant_id')),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_uses_organisation_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_uses')),
    sa.UniqueConstraint('grant_id', 'permission', name=op.f('uq_uses_grant_id_permission'))
    )
    op.create_table('questions',
    sa.Column('item_id', sa.Uuid(), nullable=False),
    sa.Column('person_id', sa.Uuid(), nullable=False),
    sa.Column('asked_by_id', sa.Uuid(), nullable=True),
    sa.Column('asked_at', sa.DateTime(timezone=True), nullable=False),
    sa.Column('question', sa.Text(), nullable=False),
    sa.Column('answer', sa.Text(), server_default='', nullable=False),
    sa.Column('answered_at', sa.DateTime(timezone=True), nullable=True),
    sa.Column('organisation_id', sa.Uuid(), nullable=False),
    sa.Column('id', sa.Uuid(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
    sa.ForeignKeyConstraint(['asked_by_id'], ['people.id'], name=op.f('fk_questions_asked_by_id')),
    sa.ForeignKeyConstraint(['item_id'], ['items.id'], name=op.f('fk_questions_item_id')),
    sa.ForeignKeyConstraint(['organisation_id'], ['organisations.id'], name=op.f('fk_questions_organisation_id')),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_questions_person_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_questions'))
    )
    op.create_index('ix_questions_item_id', 'questions', ['item_id'], unique=False)
    op.create_index('ix_questions_person_id', 'questions', ['person_id'], unique=False, postgresql_where=sa.text('answered_at is null'))
    op.add_column('grants', sa.Column('left_undecided_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('items', sa.Column('kind', sa.Text(), nullable=True))
    op.add_column('items', sa.Column('subject_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('account_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('account', sa.Text(), nullable=True))
    op.add_column('items', sa.Column('holder', sa.Text(), nullable=True))
    op.add_column('items', sa.Column('level', sa.Text(), nullable=True))
    op.add_column('items', sa.Column('reach', sa.SmallInteger(), nullable=True))
    op.add_column('items', sa.Column('recommended', sa.Text(), nullable=True))
    op.add_column('items', sa.Column('flagged', sa.SmallInteger(), nullable=True))
    op.add_column('items', sa.Column('severity', sa.SmallInteger(), nullable=True))
    op.add_column('items', sa.Column('reviewer_team_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('assigned_as', sa.Text(), server_default='', nullable=False))
    op.add_column('items', sa.Column('by_default', sa.Boolean(), server_default='false', nullable=False))
    op.add_column('items', sa.Column('needs_second', sa.Boolean(), server_default='false', nullable=False))
    op.add_column('items', sa.Column('second_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('state', sa.Text(), server_default='undecided', nullable=False))
    op.add_column('items', sa.Column('successor_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('seconded_by_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('seconded_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('items', sa.Column('fate', sa.Text(), nullable=True))
    op.add_column('items', sa.Column('offer_id', sa.Uuid(), nullable=True))
    op.add_column('items', sa.Column('outcome', sa.Text(), server_default='', nullable=False))
    op.add_column('items', sa.Column('explained', sa.Text(), server_default='', nullable=False))
    op.add_column('items', sa.Column('done_at', sa.DateTime(timezone=True), nullable=True))
    op.alter_column('items', 'grant_id',
               existing_type=sa.UUID(),
               nullable=True)
    op.drop_constraint(op.f('uq_items_round_id_grant_id'), 'items', type_='unique')
    op.drop_index(op.f('ix_items_reviewer_id'), table_name='items')
    op.create_index('ix_items_reviewer_id', 'items', ['reviewer_id', 'state'], unique=False)
    op.create_index('ix_items_revocation_id', 'items', ['revocation_id'], unique=False, postgresql_where=sa.text('revocation_id is not null'))
    op.create_index('ix_items_subject_id', 'items', ['subject_id'], unique=False)
    op.create_unique_constraint(op.f('uq_items_round_id_kind_subject_id'), 'items', ['round_id', 'kind', 'subject_id'])
    op.create_foreign_key(op.f('fk_items_successor_id'), 'items', 'people', ['successor_id'], ['id'])
    op.create_foreign_key(op.f('fk_items_seconded_by_id'), 'items', 'people', ['seconded_by_id'], ['id'])
    op.create_foreign_key(op.f('fk_items_offer_id'), 'items', 'offers', ['offer_id'], ['id'])
    op.create_foreign_key(op.f('fk_items_reviewer_team_id'), 'items', 'teams', ['reviewer_team_id'], ['id'])
    op.create_foreign_key(op.f('fk_items_second_id'), 'items', 'people', ['second_id'], ['id'])
    op.create_foreign_key(op.f('fk_items_account_id'), 'items', 'accounts', ['account_id'], ['id'])
    op.add_column('people', sa.Column('manager_id', sa.Uuid(), nullable=True))
    op.add_column('people', sa.Column('deputy_id', sa.Uuid(), nullable=True))
    op.add_column('people', sa.Column('away_since', sa.DateTime(timezone=True), nullable=True))
    op.add_column('people', sa.Column('away_until', sa.DateTime(timezone=True), nullable=True))
    op.create_index('ix_people_deputy_id', 'people', ['deputy_id'], unique=False, postgresql_where=sa.text('deputy_id is not null'))
    op.create_foreign_key(op.f('fk_people_deputy_id'), 'people', 'people', ['deputy_id'], ['id'])
    op.create_foreign_key(op.f('fk_people_manager_id'), 'people', 'people', ['manager_id'], ['id'])
    op.add_column('revocation_targets', sa.Column('resource_id', sa.Uuid(), nullable=True))
    op.create_foreign_key(op.f('fk_revocation_targets_resource_id'), 'revocation_targets', 'resources', ['resource_id'], ['id'])
    op.add_column('rounds', sa.Column('event', sa.Text(), server_default='', nullable=False))
    op.add_column('rounds', sa.Column('population', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('rounds', sa.Column('items_hash', sa.LargeBinary(), nullable=True))
    op.add_column('rounds', sa.Column('reminded', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('rounds', sa.Column('ended_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('rounds', sa.Column('covers', postgresql.JSONB(astext_type=sa.Text()), server_default='["grant", "link"]', nullable=False))
    op.add_column('rounds', sa.Column('reviewers', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('rounds', sa.Column('undecided', postgresql.JSONB(astext_type=sa.Text()), server_default='{}', nullable=False))
    op.add_column('rounds', sa.Column('second_from', sa.SmallInteger(), nullable=True))
    op.add_column('rounds', sa.Column('reminders', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('rounds', sa.Column('closes_after', sa.Integer(), nullable=True))
    op.create_index('ix_rounds_unended', 'rounds', ['organisation_id'], unique=False, postgresql_where=sa.text('ended_at is null'))
    op.add_column('schedules', sa.Column('events', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('schedules', sa.Column('covers', postgresql.JSONB(astext_type=sa.Text()), server_default='["grant", "link"]', nullable=False))
    op.add_column('schedules', sa.Column('reviewers', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('schedules', sa.Column('second_from', sa.SmallInteger(), nullable=True))
    op.add_column('schedules', sa.Column('reminders', postgresql.JSONB(astext_type=sa.Text()), server_default='[]', nullable=False))
    op.add_column('schedules', sa.Column('closes_after', sa.Integer(), nullable=True))
    op.execute(UNDECIDED)
    op.execute(NAMED_REVIEWERS)
    op.drop_constraint(op.f('fk_schedules_reviewer_id'), 'schedules', type_='foreignkey')
    op.drop_column('schedules', 'reviewer_id')
