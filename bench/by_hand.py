# ruff: noqa: E501  (SQL reads better in long lines)
"""What every rule matches, in SQL written by hand: the floor of evaluating them all. It counts, and keeps nothing.

The usual limits stand in it as numbers; a run checks that it counts what the rules found.
"""

GRANTS = """
with recursive down(top, node, kind, steps) as (
    select distinct holder_id, holder_id, holder_kind, 1 from grants
    where holder_kind in ('team', 'account') and state in ('active', 'suspended', 'revoking')
    union
    select d.top, n.node, n.kind, d.steps + 1 from down d cross join lateral (
        select member_id as node, case when person_id is null then 'team' else 'person' end as kind from memberships
        where d.kind = 'team' and team_id = d.node and organisation_id = %(organisation)s
            and (since is null or since <= now()) and (until is null or until > now())
        union all
        select holder_id, holder_kind from grants
        where d.kind = 'account' and account_id = d.node and state in ('active', 'revoking')
        union all
        select owner_id, 'person' from accounts where d.kind = 'account' and id = d.node and owner_id is not null
    ) n where d.kind in ('team', 'account') and d.steps < 12
),
chains as (
    select top, max(steps) as steps from (
        select top, node, min(steps) as steps from down where kind = 'person' group by 1, 2) each group by 1
),
used as (
    select grant_id, count(*) filter (where permission <> '' and upper(days) > current_date - 180) as used,
        current_date - min(lower(days)) filter (where permission <> '') as watched,
        max(pauses[1]) filter (where permission = '') as pause,
        max(pauses[2]) filter (where permission = '') as second,
        max(upper(days)) filter (where permission = '') as last,
        max(lower(days * datemultirange(daterange(current_date - 30, null)))) filter (where permission = '')
            - max(upper(days * datemultirange(daterange(null, current_date - 30)))) filter (where permission = '') + 1
            as dormant
    from uses group by 1
),
kept as (
    select i.subject_id, count(*) filter (where i.decided_at > coalesce(g.last_used_at, g.given_at)) as kept,
        max(i.decided_at) as at
    from items i join grants g on g.id = i.subject_id
    where i.verdict = 'keep' and i.state = 'decided' and i.kind in ('grant', 'link') group by 1
),
held as (
    select t.grant_id, max(l.reach) as reach, bool_or(t.until is null) as open, max(t.until) as until,
        min(t.since) as since, sum(jsonb_array_length(l.permissions)) as rights, max(l.grown_at) as grown_at
    from terms t join levels l on l.id = t.level_id group by 1
)
select
    count(*) filter (where g.app_id is null and now() - g.last_used_at >= make_interval(days => (array[181,121,91,46])[s])
        and not coalesce(u.pause > (array[180,120,90,45])[s]
            and u.pause >= date_part('day', now() - g.last_used_at) - 30, false)),
    count(*) filter (where g.recorded and g.last_used_at is null
        and now() - g.given_at >= make_interval(days => (array[91,61,31,15])[s])),
    count(*) filter (where u.dormant > (array[365,270,180,120])[s]
        and not coalesce(u.second > (array[365,270,180,120])[s] and u.second >= u.dormant - 30, false)),
    count(*) filter (where g.app_id is null and u.used > 0 and u.watched >= (array[90,90,60,60])[s]
        and h.rights - u.used > (array[null,1,0,0])[s]),
    count(*) filter (where h.open and s >= 3),
    count(*) filter (where not h.open
        and date_part('day', h.until - coalesce(h.since, g.given_at)) > (array[null,1100,730,400])[s]),
    count(*) filter (where h.reach >= 3 and not coalesce(p.inside, not tm.partner, true)),
    count(*) filter (where h.reach >= 2 and split_part(p.address, '@', 2) = any(%(free)s)),
    count(*) filter (where p.standing <> 'current' and p.leaves_at <= now()),
    count(*) filter (where p.standing = 'leaving' and p.leaves_at > now()
        and p.leaves_at < now() + make_interval(days => (array[8,15,31,61])[s])
        and (h.open or h.until > p.leaves_at)),
    count(*) filter (where g.app_id is null and b.standing <> 'current' and b.leaves_at <= now()),
    count(*) filter (where g.given_by_id = g.person_id and not g.emergency and h.reach >= 2),
    count(*) filter (where not g.recorded),
    count(*) filter (where g.left_undecided_at is not null),
    count(*) filter (where k.kept > (array[3,2,1,1])[s]),
    count(*) filter (where g.emergency and now() - g.given_at > make_interval(hours => (array[72,48,24,24])[s])),
    count(*) filter (where c.steps > (array[5,4,3,2])[s]),
    count(*) filter (where g.missing_since is not null),
    count(*) filter (where g.app_id is not null
        and now() - g.last_used_at >= make_interval(days => (array[181,91,61,31])[s])
        and not coalesce(u.pause > (array[180,90,60,30])[s]
            and u.pause >= date_part('day', now() - g.last_used_at) - 30, false)),
    count(*) filter (where g.app_id is not null and u.used > 0 and u.watched >= (array[90,90,60,60])[s]
        and h.rights - u.used > (array[null,1,0,0])[s]),
    count(*) filter (where g.app_id is not null and h.grown_at > greatest(g.given_at, k.at)),
    count(*) filter (where g.app_id is not null and ap.publisher = ''),
    count(*) filter (where date_part('day', now() - g.credential_since) > (array[null,730,365,180])[s]),
    count(*) filter (where g.app_id is not null and b.standing <> 'current' and b.leaves_at <= now()),
    count(*) filter (where g.app_id is not null and h.reach >= 3 and s >= 3)
from grants g join accounts a on a.id = g.account_id join systems y on y.id = a.system_id
cross join lateral (select a.sensitivity::int as s) sens
left join held h on h.grant_id = g.id
left join people p on p.id = g.person_id left join people b on b.id = g.given_by_id
left join teams tm on tm.id = g.team_id left join apps ap on ap.id = g.app_id
left join used u on u.grant_id = g.id left join kept k on k.subject_id = g.id
left join chains c on c.top = g.holder_id and g.holder_kind in ('team', 'account')
where g.state in ('active', 'suspended', 'revoking')
"""
SESSIONS = """
with among as (
    select s.id, s.account_id, s.person_id, s.ended_at, s.device, s.started_at, s.last_seen_at,
        kilometres(lag(latitude) over w, lag(longitude) over w, latitude, longitude) as km,
        date_part('epoch', started_at - lag(least(last_seen_at, started_at + interval '1 hour')) over w) / 3600 as h,
        country is not null and started_at = min(started_at) over (partition by holder_id, country)
            and min(started_at) filter (where country is not null) over (partition by holder_id) < started_at as abroad,
        device <> '' and started_at = min(started_at) over (partition by holder_id, device)
            and min(started_at) over (partition by holder_id) < started_at as fresh
    from sessions s where ended_at is null or ended_at > now() - interval '400 days'
    window w as (partition by holder_id order by started_at, id)
),
apart as (
    select m.id, max(kilometres(m.latitude, m.longitude, o.latitude, o.longitude)) as km
    from sessions m join sessions o on o.holder_id = m.holder_id and o.id <> m.id and o.ended_at is null
        and abs(date_part('epoch', o.last_seen_at - m.last_seen_at)) < 43200
        and (o.latitude, o.longitude) <> (m.latitude, m.longitude)
    where m.ended_at is null and m.latitude is not null group by 1
)
select
    count(*) filter (where now() - s.started_at >= make_interval(days => (array[91,61,31,8])[a.sensitivity])),
    count(*) filter (where now() - s.last_seen_at >= make_interval(days => (array[61,31,15,4])[a.sensitivity])),
    count(*) filter (where s.person_id is not null and x.km::int > (array[null,1000,500,300])[a.sensitivity]),
    count(*) filter (where s.person_id is not null and s.km::int > 200
        and (s.km / greatest(s.h, 0.0167))::int > (array[1200,1000,1000,1000])[a.sensitivity]),
    count(*) filter (where s.abroad and a.sensitivity >= 3),
    count(*) filter (where s.fresh and s.person_id is not null and a.sensitivity >= 4),
    count(*) filter (where p.standing <> 'current' and p.leaves_at <= now())
from among s join accounts a on a.id = s.account_id left join people p on p.id = s.person_id
left join apart x on x.id = s.id where s.ended_at is null
"""
ACCOUNTS = """
with recursive held as (
    select g.account_id, g.holder_id, g.holder_kind from terms t join levels l on l.id = t.level_id and l.reach = 4
    join grants g on g.id = t.grant_id and g.state in ('active', 'revoking')
    where t.resource_id is null and t.group_id is null and (t.since is null or t.since <= now())
        and (t.until is null or t.until > now())
),
down(top, node) as (
    select distinct holder_id, holder_id from held where holder_kind = 'team'
    union
    select d.top, m.member_id from down d join memberships m on m.team_id = d.node
        and (m.since is null or m.since <= now()) and (m.until is null or m.until > now())
)
select
    count(*) filter (where x.broken > 0), count(*) filter (where p.standing <> 'current' and p.leaves_at <= now()),
    count(*) filter (where a.owner_id is not null and not coalesce(p.standing <> 'current' and p.leaves_at <= now(), false)
        and st.n is null and a.sensitivity >= 3 and sh.n > 0),
    count(*) filter (where st.n is null and (a.owner_id is null or p.standing <> 'current' and p.leaves_at <= now())),
    count(*) filter (where st.n > (array[12,8,6,4])[a.sensitivity])
from accounts a left join people p on p.id = a.owner_id left join breaches x on x.account_id = a.id
left join (
    select h.account_id, count(distinct s.id) as n from held h left join down d on d.top = h.holder_id
    join people s on s.id = coalesce(d.node, h.holder_id)
        and not coalesce(s.standing <> 'current' and s.leaves_at <= now(), false)
    join accounts o on o.id = h.account_id and o.owner_id is distinct from s.id group by 1
) st on st.account_id = a.id
left join (
    select account_id, count(*) as n from grants where state in ('active', 'suspended', 'revoking') group by 1
) sh on sh.account_id = a.id
"""
PEOPLE = """
with recursive up(person_id, holder_id, outside, alone) as (
    select id, id, not inside, not second_factor from people where not inside or not second_factor
    union
    select u.person_id, m.team_id, u.outside, u.alone from up u join memberships m on m.member_id = u.holder_id
        and (m.since is null or m.since <= now()) and (m.until is null or m.until > now())
),
given as (
    select g.holder_id, g.account_id, l.reach from grants g join terms t on t.grant_id = g.id
        and (t.since is null or t.since <= now()) and (t.until is null or t.until > now())
    join levels l on l.id = t.level_id where g.state in ('active', 'revoking')
    union all
    select owner_id, id, 4 from accounts where owner_id is not null
)
select
    count(*) filter (where not p.second_factor and f.n > 0
        and not coalesce(p.standing <> 'current' and p.leaves_at <= now(), false)),
    count(*) filter (where w.n > 8 and not coalesce(p.standing <> 'current' and p.leaves_at <= now(), false))
from people p
left join (
    select u.person_id, count(distinct g.account_id) as n from up u join given g on g.holder_id = u.holder_id
    where u.outside group by 1
) w on w.person_id = p.id
left join (
    select u.person_id, count(distinct g.account_id) as n from given g
    join accounts a on a.id = g.account_id and a.sensitivity >= 3 join up u on u.holder_id = g.holder_id and u.alone
    where g.reach >= 3 group by 1
) f on f.person_id = p.id where p.recognised
"""
OFFERS = """
select count(*) filter (where date_part('day', now() - o.created_at) > (array[30,21,14,7])[a.sensitivity])
from offers o join accounts a on a.id = o.account_id left join grants g on g.id = o.grant_id
where o.state in ('pending', 'run_out') and coalesce(g.state = 'pending', o.state = 'pending')
"""
EVERYTHING = (GRANTS, SESSIONS, ACCOUNTS, PEOPLE, OFFERS)
