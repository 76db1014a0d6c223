"""Where the facts of every kind of subject come from, as SQL.

Each source names its table and its columns; facts are expressions over the columns (``core.flags.facts``). Data from
other tables is joined as a *side*: for a few subjects by a lateral join, for all of them by one grouped join.

Parameters of every statement: ``now``, an instant; ``today``, its day in UTC; and ``ids``, if there are given subjects.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from openlatch.core.flags import Settings
from openlatch.core.flags import facts as core
from openlatch.core.vocabulary import HolderKind, Reach
from openlatch.json_values import JsonView
from openlatch.store.access import walks
from openlatch.store.access.walks import NOW
from openlatch.store.flags.sql_expressions import quoted, texts

TODAY = "%(today)s::date"
LIVE = f"({texts(core.LIVE)})"
# Use is looked at over this many days to tell which rights are needed.
LOOKED_AT_DAYS = 180
# A session that ended longer ago than this says nothing about where somebody usually is.
REMEMBERED_DAYS = 400
LATELY_DAYS = 30


Gathering = Callable[[Settings, bool, bool], str]


@dataclass(frozen=True, slots=True)
class Source:
    """Where the facts of one kind of subject come from.

    ``table`` has a row for each; ``wanted`` says on which rows something can be found. Facts are expressions over
    ``columns``, from what ``joins(settings, bulk, scored)`` adds; ``scored`` says whether to gather what only affects
    scores. Expensive columns are in ``far_columns`` and ``far_joins``; for a single subject they are only fetched when
    ``counts(row, settings, scored)`` holds.
    """

    subject: str
    table: str
    ident: str
    account: str
    holder: str
    wanted: str
    joins: Gathering
    columns: Mapping[str, str]
    far_joins: Gathering = lambda settings, bulk, scored: ""
    far_columns: Mapping[str, str] = field(default_factory=dict)
    counts: Callable[[JsonView, Settings, bool], bool] = lambda row, settings, scored: False

    def rows(self, settings: Settings, bulk: bool, scored: bool) -> str:
        """The FROM clause with all joins."""
        gathered = self.joins(settings, bulk, scored) + self.far_joins(settings, bulk, scored)
        return f"{self.table} {gathered}"


def side(bulk: bool, name: str, key: str, to: str, query: str, subjects: str = "") -> str:
    """A LEFT JOIN of data from other tables; ``{only}`` in the query is where it is restricted to one subject.

    ``key`` is the column by which the query is grouped, ``to`` what it has to equal. A query that needs the subject
    itself calls it ``{it}``; in bulk the table ``subjects`` is joined there as ``it``.
    """
    if bulk:
        there = f"join {subjects} it on it.id = {key}" if subjects else ""
        gathered = query.format(only="true", key=f"{key} as key,", by=f"group by {key}", it="it", there=there)
        return f"left join ({gathered}) {name} on {name}.key = {to}"
    gathered = query.format(only=f"{key} = {to}", key="", by="", it=to.partition(".")[0], there="")
    return f"left join lateral ({gathered}) {name} on true"


# Grants.


_TERMS = """
    select {key} max(l.reach) as reach, bool_or(t.until is null) as open, max(t.until) as until,
        min(t.since) as since, count(*) as terms, sum(jsonb_array_length(l.permissions)) as rights,
        max(l.grown_at) as grown_at, string_agg(distinct l.name, ', ' order by l.name) as level
    from terms t join levels l on l.id = t.level_id where {only} {by}
"""
_USES = f"""
    select {{key}} count(*) filter (where upper(uu.days) > {TODAY} - {LOOKED_AT_DAYS}) as used,
        {TODAY} - min(lower(uu.days)) as watched
    from uses uu where uu.permission <> '' and {{only}} {{by}}
"""
_KEPT = """
    select {key} count(*) filter (where i.decided_at > coalesce({it}.last_used_at, {it}.given_at)) as kept,
        max(i.decided_at) as at
    from items i {there}
    where i.verdict = 'keep' and i.state = 'decided' and i.kind in ('grant', 'link') and {only} {by}
"""
# From holders that stand for others down to the people: by how many steps the farthest of them comes in.
_STANDING_FOR_OTHERS = f"""
    select distinct h.holder_id, h.holder_kind from grants h
    where h.holder_kind in ('team', 'account') and h.state in {LIVE} and {{only}}
"""


def _chain(settings: Settings, bulk: bool, scored: bool) -> str:
    # What leads on is looked for only where something can.
    only = "true" if bulk else "g.holder_kind in ('team', 'account') and h.holder_id = g.holder_id"
    walk = walks.behind(_STANDING_FOR_OTHERS.format(only=only), bulk, steps=True)
    nearest = (
        f"with recursive {walk} select top, min(steps) as steps from down where kind = 'person' group by top, node"
    )
    if bulk:
        farthest = f"select top as key, max(steps) as steps from ({nearest}) nearest group by top"
        return f"left join ({farthest}) c on g.holder_kind in ('team', 'account') and c.key = g.holder_id"
    return f"left join lateral (select max(steps) as steps from ({nearest}) nearest) c on true"


def _of_grants(settings: Settings, bulk: bool, scored: bool) -> str:
    return f"""
        join accounts a on a.id = g.account_id
        join systems y on y.id = a.system_id
        left join people p on p.id = g.person_id
        left join people b on b.id = g.given_by_id
        left join teams tm on tm.id = g.team_id
        left join apps ap on ap.id = g.app_id
        left join accounts ha on ha.id = g.holder_account_id
        {side(bulk, "t", "t.grant_id", "g.id", _TERMS)}
        left join uses u0 on u0.grant_id = g.id and u0.permission = ''
        {side(bulk, "u", "uu.grant_id", "g.id", _USES)}
        {side(bulk, "k", "i.subject_id", "g.id", _KEPT, "grants")}
    """


# The days of use in and before the last month, where there was some in it.
_RECENT = f"u0.days * datemultirange(daterange({TODAY} - {LATELY_DAYS}, null))"
_EARLIER = f"u0.days * datemultirange(daterange(null, {TODAY} - {LATELY_DAYS}))"
_RIGHTS = """(
    select count(distinct r ->> 'key') from terms tt join levels ll on ll.id = tt.level_id,
        jsonb_array_elements(ll.permissions) r where tt.grant_id = g.id)"""


GRANTS = Source(
    "grant",
    "grants g",
    "g.id",
    "g.account_id",
    "g.holder_id",
    f"(g.state in {LIVE} or (g.state = 'ended' and g.seen_at > g.ended_at))",
    _of_grants,
    {
        "by_system": "g.by_system",
        "state": "g.state",
        "holder_kind": "g.holder_kind",
        "highest_reach": "t.reach",
        "sensitivity": "a.sensitivity",
        "inside": "coalesce(p.inside, not tm.partner, true)",
        "open": "t.open",
        "since": "t.since",
        "until": "t.until",
        "recorded": "g.recorded",
        "differs": "(g.differs is not null)",
        "ended_at": "g.ended_at",
        "read_at": "y.read_at",
        "emergency": "g.emergency",
        "kept": "k.kept",
        "kept_at": "k.at",
        "standing": "p.standing",
        "giver_standing": "b.standing",
        "given_to_self": "coalesce(g.given_by_id = g.person_id, false)",
        "terms": "t.terms",
        "rights_of_one": "t.rights",
        "used": "u.used",
        "watched": "u.watched",
        "dormant": f"(case when upper(u0.days) > {TODAY} - {LATELY_DAYS} "
        f"and lower(u0.days) < {TODAY} - {LATELY_DAYS} then lower({_RECENT}) - upper({_EARLIER}) + 1 end)",
        "longest_pause": "u0.pauses[1]",
        "other_pause": "u0.pauses[2]",
        "holder": "coalesce(p.name, tm.name, ap.name, ha.name)",
        "account": "a.name",
        "level": "coalesce(t.level, 'nothing')",
        "system": "y.name",
        "given_at": "g.given_at",
        "given_by": "b.name",
        "last_used_at": "g.last_used_at",
        "leaves_at": "p.leaves_at",
        "reported_at": "p.reported_at",
        "reported": "p.reported",
        "giver_left_at": "b.leaves_at",
        "left_undecided_at": "g.left_undecided_at",
        "seen_at": "g.seen_at",
        "missing_since": "g.missing_since",
        "shown_level": "g.differs ->> 'level'",
        "contradicted_at": "g.contradicted_at",
        "address": "p.address",
        "publisher": "ap.publisher",
        "grown_at": "t.grown_at",
        "credential_since": "g.credential_since",
        "used_before": f"(upper({_EARLIER}) - 1)::timestamptz",
        "used_again": f"lower({_RECENT})::timestamptz",
    },
    _chain,
    {"steps": "c.steps", "rights_of_all": _RIGHTS},
    lambda row, settings, scored: (
        row["holder_kind"] in (HolderKind.TEAM, HolderKind.ACCOUNT) or (row["terms"] or 0) > 1
    ),
)


# Sessions.


# Where each session stands among all of the same holder.
_AMONG = f"""
    select {{key}} r.id, r.before_place, kilometres(r.before_lat, r.before_lon, r.latitude, r.longitude) as travel,
        date_part('epoch', r.started_at - r.before_at) / 3600 as hours,
        r.country is not null and r.first_there = r.started_at and r.first_anywhere < r.started_at as new_country,
        r.device <> '' and r.first_on = r.started_at and r.first_at_all < r.started_at as new_device
    from (
        select s2.id, s2.holder_id, s2.latitude, s2.longitude, s2.country, s2.device, s2.started_at,
            lag(s2.latitude) over chronicle as before_lat, lag(s2.longitude) over chronicle as before_lon,
            lag(s2.place) over chronicle as before_place,
            lag(least(s2.last_seen_at, s2.started_at + interval '1 hour')) over chronicle as before_at,
            min(s2.started_at) over (partition by s2.holder_id, s2.country) as first_there,
            min(s2.started_at) filter (where s2.country is not null) over (partition by s2.holder_id) as first_anywhere,
            min(s2.started_at) over (partition by s2.holder_id, s2.device) as first_on,
            min(s2.started_at) over (partition by s2.holder_id) as first_at_all
        from sessions s2
        where (s2.ended_at is null or s2.ended_at > {NOW} - interval '{REMEMBERED_DAYS} days') and {{only}}
        window chronicle as (partition by s2.holder_id order by s2.started_at, s2.id)
    ) r
"""
# The farthest other session that goes on at the same time, seen on the same day.
_APART = """
    select {key} max(kilometres(m.latitude, m.longitude, o.latitude, o.longitude)) as km,
        (array_agg(o.place order by kilometres(m.latitude, m.longitude, o.latitude, o.longitude) desc))[1] as place
    from sessions m join sessions o on o.holder_id = m.holder_id and o.id <> m.id and o.ended_at is null
        and abs(date_part('epoch', o.last_seen_at - m.last_seen_at)) < 43200
        and (o.latitude, o.longitude) <> (m.latitude, m.longitude)
    where m.ended_at is null and m.latitude is not null and {only} {by}
"""


def _of_sessions(settings: Settings, bulk: bool, scored: bool) -> str:
    among = (
        f"left join ({_AMONG.format(key='', only='true')}) w on w.id = s.id"
        if bulk
        else f"left join lateral (select * from ({_AMONG.format(key='', only='s2.holder_id = s.holder_id')}) x "
        "where x.id = s.id) w on true"
    )
    return f"""
        join accounts a on a.id = s.account_id
        left join people p on p.id = s.person_id
        left join apps ap on ap.id = s.app_id
        {among}
        {side(bulk, "o", "m.id", "s.id", _APART)}
    """


SESSIONS = Source(
    "session",
    "sessions s",
    "s.id",
    "s.account_id",
    "s.holder_id",
    "s.ended_at is null",
    _of_sessions,
    {
        "reach": "1",
        "sensitivity": "a.sensitivity",
        "inside": "coalesce(p.inside, true)",
        "holder_kind": "(case when s.person_id is not null then 'person' else 'app' end)",
        "standing": "p.standing",
        "ended_at": "s.ended_at",
        "proof": "s.proof",
        "proved_at": "s.proved_at",
        "apart": "o.km::int",
        "travel": "w.travel::int",
        # Less than a minute between two sessions is taken for one.
        "speed": "least(w.travel / greatest(w.hours, 0.0167), 999999)::int",
        "new_country": "coalesce(w.new_country, false)",
        "new_device": "coalesce(w.new_device, false)",
        "holder": "coalesce(p.name, ap.name)",
        "account": "a.name",
        "device": "coalesce(nullif(s.device, ''), 'an unknown device')",
        "place": "coalesce(nullif(s.place, ''), 'an unknown place')",
        "country": "s.country",
        "started_at": "s.started_at",
        "last_seen_at": "s.last_seen_at",
        "leaves_at": "p.leaves_at",
        "other_place": "o.place",
        "before_place": "w.before_place",
    },
)


# Accounts.


# People besides the owner who decide who else gets in: by a grant on the whole account, of their own or of what they
# act as.
_STEWARD_GRANTS = f"""
    terms ts join grants gs on gs.id = ts.grant_id
    where ts.steward_of is not null and gs.state in {walks.GIVES} and ts.resource_id is null and ts.group_id is null
        and {walks.open_now("ts")} and {{only}}
"""


def _stewards(bulk: bool) -> str:
    held = _STEWARD_GRANTS.format(only="true" if bulk else "ts.steward_of = a.id")
    others = f"select distinct gs.holder_id, gs.holder_kind from {held} and gs.holder_kind in ('team', 'account')"
    stewards = f"""
        with recursive {walks.behind(others, bulk)}
        select held.account_id, coalesce(d.node, held.holder_id) as who
        from (select ts.steward_of as account_id, gs.holder_id from {held}) held
        left join down d on d.top = held.holder_id
    """
    counted = f"""
        count(distinct sp.id) as stewards from ({stewards}) stewarding
        join people sp on sp.id = stewarding.who and {walks.is_there("sp")}
        join accounts sa on sa.id = stewarding.account_id and sa.owner_id is distinct from sp.id
    """
    if bulk:
        gathered = f"select stewarding.account_id as key, {counted} group by stewarding.account_id"
        return f"left join ({gathered}) st on st.key = a.id"
    return f"left join lateral (select {counted}) st on true"


def _of_accounts(settings: Settings, bulk: bool, scored: bool) -> str:
    return f"""
        left join people ow on ow.id = a.owner_id
        left join people py on py.id = a.payer_person_id
        left join breaches x on x.account_id = a.id
        {_stewards(bulk)}
        left join lateral ({_EXPOSED}) ex on true
    """


# Exposures that go on, of one account; what is expected by a rule counts as judged.
_EXPOSED = f"""
    select
        count(*) filter (where e.new)::int as new,
        count(*) filter (where e.new and e.grew_at is not null)::int as grown,
        count(*) filter (where e.wide and e."right" <> 'see')::int as changes,
        count(*) filter (where e.wide)::int as wide,
        count(*) filter (where e.judgement = 'intended' and e.judged_at < {NOW} - interval '90 days'
            and coalesce(e.last_used_on, '-infinity') < ({NOW} - interval '90 days')::date)::int as unused,
        count(*) filter (where e.judgement <> 'to_close' and e.intended_until <= {NOW})::int as over,
        count(*) filter (where e.unknown <> '[]' or e.is_entangled)::int as unclear,
        count(*) filter (where e.against <> '[]')::int as forbidden
    from (
        select es.*, es.judgement = 'unjudged' and es.expected_by_id is null as new,
            es.audience > 1 and es.is_open and es.judgement <> 'intended' and es.expected_by_id is null as wide
        from exposures es where es.account_id = a.id and es.gone_at is null and not es.is_blocked
    ) e
"""
_REOPENED = (
    "(select count(distinct coalesce(xp.resource_id, xp.account_id))::int from exposures xp where xp.account_id = a.id "
    "and xp.gone_at is null and xp.proof = 'contradicted')"
)

_GUARDS_OFF = (
    "(select count(*)::int from system_guards sg where sg.system_id = a.system_id and sg.state = 'off' "
    "and exists (select from access_rules ar where ar.account_id = a.id))"
)

ACCOUNTS = Source(
    "account",
    "accounts a",
    "a.id",
    "a.id",
    "a.id",
    "true",
    _of_accounts,
    {
        "breach_reach": "x.reach",
        "sensitivity": "a.sensitivity",
        "inside": "true",
        "standing": "ow.standing",
        "others": "st.stewards",
        "breaches": "x.broken",
        "firm": "x.firm",
        "holder": "a.name",
        "account": "a.name",
        "owner": "ow.name",
        "payer_standing": "py.standing",
        "payer_leaves_at": "py.leaves_at",
        "payer": "py.name",
        "paid_until": "a.paid_until",
        "leaves_at": "ow.leaves_at",
        "breach": "x.words",
        "reopened_parts": _REOPENED,
        "exposed_new_count": "ex.new",
        "exposed_grown_count": "ex.grown",
        "open_changes_count": "ex.changes",
        "open_to_anyone_count": "ex.wide",
        "intended_unused_count": "ex.unused",
        "intended_over_count": "ex.over",
        "exposed_unclear_count": "ex.unclear",
        "forbidden_count": "ex.forbidden",
        "guards_off_count": _GUARDS_OFF,
        "partial_since": "a.partial_since",
        "unknown": "a.coverage #>> '{unknown,0}'",
    },
    far_columns={"shared": f"exists (select from grants gh where gh.account_id = a.id and gh.state in {LIVE})"},
    # It says something only of accounts like these (core.flags.catalogue.accounts.owner_alone).
    counts=lambda row, settings, scored: scored or (row["sensitivity"] >= 3 and not row["others"]),
)


# People.


# All that people reach, by every path: by grants of theirs and of what they act as, and as owners.
_REACHED = f"""
    select u.person_id, gr.account_id, lr.reach from up u
    join grants gr on gr.holder_id = u.holder_id and gr.state in {walks.GIVES}
    join terms tr on tr.grant_id = gr.id and {walks.open_now("tr")} join levels lr on lr.id = tr.level_id
    union all
    select u.person_id, ow.id, {int(Reach.STEWARD)} from up u join accounts ow on ow.owner_id = u.person_id
    where u.holder_id = u.person_id
"""
_WIDE = f"select r.person_id, count(distinct r.account_id) as accounts from ({_REACHED}) r group by 1"
_FAR = f"""
    select r.person_id, count(distinct r.account_id) as accounts, max(r.reach) as reach,
        max(af.sensitivity) as sensitivity
    from ({_REACHED}) r join accounts af on af.id = r.account_id and af.sensitivity >= 3
    where r.reach >= {int(Reach.SPEND)} group by 1
"""


def _reaching(bulk: bool, name: str, who: str, query: str) -> str:
    """A LEFT JOIN of what is gathered from all that people reach: for one person, or for all for whom it matters."""
    walk = walks.acting_as(who if bulk else f"pu.id = p.id and {who}", bulk)
    gathered = f"with recursive {walk} {query}"
    return f"left join {'' if bulk else 'lateral '}({gathered}) {name} on {name}.person_id = p.id"


def _far_of_people(settings: Settings, bulk: bool, scored: bool) -> str:
    # Where it counts for nothing but the score of other findings, it need not be gathered of everybody.
    far = "true" if settings.never_together or scored else "(not pu.second_factor or not pu.inside)"
    return f"""
        {_reaching(bulk, "w", "not pu.inside", _WIDE)}
        {_reaching(bulk, "r", far, _FAR)}
        {_together(settings, bulk)}
    """


def _reach_counts(row: Mapping[str, object], settings: Settings, scored: bool) -> bool:
    return bool(settings.never_together or scored or not row["second_factor"] or not row["inside"])


def _together(settings: Settings, bulk: bool) -> str:
    """Who holds both permissions of a pair, by whichever paths."""
    if not settings.never_together:
        return "cross join (select false as both_held, null::text as pair) n"
    pairs = ", ".join(f"({quoted(a)}, {quoted(b)})" for a, b in settings.never_together)
    query = f"""
        , held as (
            select distinct u.person_id, r ->> 'key' as key
            from up u join grants gn on gn.holder_id = u.holder_id and gn.state in {walks.GIVES}
            join terms tn on tn.grant_id = gn.id and {walks.open_now("tn")} join levels ln on ln.id = tn.level_id
            cross join lateral jsonb_array_elements(ln.permissions) r
        )
        select h.person_id, true as both_held, string_agg(one || ' and ' || other, ', ' order by one) as pair
        from (values {pairs}) pairs(one, other) join held h on h.key = one
        join held o on o.person_id = h.person_id and o.key = other group by 1
    """
    return _reaching(bulk, "n", "true", query)


PEOPLE = Source(
    "person",
    "people p",
    "p.id",
    "null::uuid",
    "p.id",
    "p.recognised",
    lambda settings, bulk, scored: "",
    {
        "inside": "p.inside",
        "standing": "p.standing",
        "leaves_at": "p.leaves_at",
        "second_factor": "p.second_factor",
        "holder": "p.name",
        "account": "null",
    },
    _far_of_people,
    {
        "far_reach": "r.reach",
        "far_sensitivity": "r.sensitivity",
        "held": "w.accounts",
        "far": "r.accounts",
        "both_held": "n.both_held",
        "pair": "n.pair",
    },
    _reach_counts,
)


# Offers.


def _of_offers(settings: Settings, bulk: bool, scored: bool) -> str:
    return f"""
        join accounts a on a.id = o.account_id
        join people p on p.id = o.person_id
        left join grants g on g.id = o.grant_id
        left join people sn on sn.id = o.sender_id
        {side(bulk, "t", "t.grant_id", "o.grant_id", _TERMS)}
    """


OFFERS = Source(
    "offer",
    "offers o",
    "o.id",
    "o.account_id",
    "o.person_id",
    "o.state in ('pending', 'run_out')",
    _of_offers,
    {
        "highest_reach": "t.reach",
        "sensitivity": "a.sensitivity",
        "inside": "p.inside",
        "waiting": "(o.state = 'run_out' or o.state = 'pending' and coalesce(g.state = 'pending', true))",
        "times_sent": "o.times_sent::int",
        "holder": "p.name",
        "account": "a.name",
        "sender": "sn.name",
        "sent_at": "o.created_at",
    },
)

SOURCES: Mapping[str, Source] = {s.subject: s for s in (GRANTS, SESSIONS, ACCOUNTS, PEOPLE, OFFERS)}
