"""Figures about the whole service, for whoever runs it: what waits, and for how long; nothing about anybody"""

from alembic import op

revision = '0035'
down_revision = '0034'
branch_labels = None
depends_on = None

# Counts over all organisations, which no role can read row by row. The queue's tables come after ours: plpgsql looks for them when it runs.
FIGURES = """
    create function service_figures() returns table (name text, label text, value double precision)
    language plpgsql stable security definer set search_path = public, pg_temp as $$
    begin
        return query
        select 'steps', s.state, count(*)::float from steps s where s.state in ('open', 'waiting', 'by_hand') group by s.state
        union all
        select 'oldest_step_seconds', '', extract(epoch from now() - min(r.created_at))::float
            from steps s join revocations r on r.id = s.revocation_id where s.state in ('open', 'waiting')
        union all
        select 'mail', m.state, count(*)::float from mails m where m.state <> 'sent' group by m.state
        union all
        select 'oldest_mail_seconds', '', extract(epoch from now() - min(m.created_at))::float
            from mails m where m.state = 'waiting'
        union all
        select 'systems', case when y.down_since is not null then 'down' when y.read_at is null then 'never read' else 'read' end,
            count(*)::float
            from systems y where y.kind <> 'by_hand' and y.paused_at is null and y.archived_at is null group by 2
        union all
        select 'oldest_read_seconds', '', extract(epoch from now() - min(y.read_at))::float
            from systems y where y.kind <> 'by_hand' and y.paused_at is null and y.archived_at is null
        union all
        select 'open_flags', f.severity::text, count(*)::float from flags f where f.state = 'open' group by f.severity
        union all
        select 'jobs', j.status::text, count(*)::float from procrastinate_jobs j
            where j.status in ('todo', 'doing', 'failed') group by j.status
        union all
        select 'oldest_job_seconds', '', extract(epoch from now() - min(coalesce(j.scheduled_at, e.at)))::float
            from procrastinate_jobs j left join procrastinate_events e on e.job_id = j.id and e.type = 'deferred'
            where j.status = 'todo' and coalesce(j.scheduled_at, now()) <= now()
        union all
        select 'workers', '', count(*)::float from procrastinate_workers w where w.last_heartbeat > now() - interval '1 minute';
    end
    $$
"""


def upgrade() -> None:
    """Nothing of what there is changes."""
    op.execute(FIGURES)
    op.execute('revoke all on function service_figures() from public')


def downgrade() -> None:
    """There are no figures."""
    op.execute('drop function service_figures()')
