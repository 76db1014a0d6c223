"""Figures over time, from the journal, the versions of the register, and what has instants of its own.

Each function takes the starts of periods and the end of the last one. Period 0 is everything before the first start.
All organisations' rows are under row-level security; the organisation is named for the indexes.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TypeVar
from uuid import UUID

import orjson
from psycopg.rows import class_row

from openlatch.core.trends import Period
from openlatch.json_values import JsonObject
from openlatch.store.database import Driver

Row = TypeVar("Row")

# What a journal entry says of a subject: whether it is open after it, and with which score. An entry that says nothing
# of one of them leaves it as it was.
_MOVED = """
    with told as (
        select j.subject_id, j.position, j.at, j.subject_name, j.account_id,
            case when j.action = any(%(opens)s) then true when j.action = any(%(closes)s) then false end as opens,
            coalesce((j.facts ->> 'score')::int, f.score) as score,
            coalesce(j.facts ->> 'rule', f.rule) as rule
        from {journal} j left join flags f on f.id = j.subject_id
        where j.organisation_id = %(organisation)s and j.subject_kind = %(kind)s and j.at < %(end)s
            and j.action = any(%(opens)s || %(closes)s || %(keeps)s)
    ), grouped as (
        select *, count(opens) over subject as opened, count(score) over subject as scored
        from told window subject as (partition by subject_id order by position)
    ), known as (
        select *, first_value(opens) over (partition by subject_id, opened order by position) as is_open,
            first_value(score) over (partition by subject_id, scored order by position) as scores
        from grouped
    ), after as (
        select *, coalesce(is_open, false) as now_open,
            case when is_open then coalesce(scores, 0) else 0 end as risk
        from known
    ), moved as (
        select *, lag(now_open, 1, false) over subject as was_open, lag(risk, 1, 0) over subject as was_risk
        from after window subject as (partition by subject_id order by position)
    )
"""
_FLAGS = """
    select width_bucket(at, %(starts)s) as period, rule as key, min(subject_name) as name, sum(risk - was_risk) as risk,
        count(*) filter (where now_open and not was_open) as opened,
        count(*) filter (where was_open and not now_open) as closed
    from moved group by 1, 2 order by 1, 2
"""
_EXPOSURES = """
    select width_bucket(m.at, %(starts)s) as period, m.account_id as key, coalesce(min(a.name), '') as name, 0 as risk,
        count(*) filter (where now_open and not was_open) as opened,
        count(*) filter (where was_open and not now_open) as closed
    from moved m left join accounts a on a.id = m.account_id
        left join exposures e on e.id = m.subject_id
    -- One that a guard of the system keeps shut is not open; what is open instead has an entry of its own.
    where e.is_blocked is distinct from true
    group by 1, 2 order by 1, 3
"""
_UNRECORDED = """
    select p.period::int, s.id as system, coalesce(s.name, '') as name, count(*) as count
    from unnest(%(ends)s) with ordinality as p(at, period) cross join lateral (
        select g.account_id from grants g
        where g.organisation_id = %(organisation)s and not g.recorded and g.state = any(%(live)s)
            and g.recorded_at < p.at
        union all
        select (v.row ->> 'account_id')::uuid from versions v
        where v.organisation_id = %(organisation)s and v.kind = 'grants' and v.since < p.at and v.until >= p.at
            and v.row ->> 'recorded' = 'false' and v.row ->> 'state' = any(%(live)s)
        union all
        select account_id from jsonb_to_recordset(%(unrecorded)s::jsonb)
            as archived (account_id uuid, since timestamptz, until timestamptz)
        where since < p.at and until >= p.at
    ) as held
    left join accounts a on a.id = held.account_id left join systems s on s.id = a.system_id
    group by 1, 2, 3 order by 1, 3
"""
# One entry for each account that a revocation touches.
_REVOCATIONS = """
    with begun as (
        select subject_id, min(subject_name) as name, min(at) as at from {journal} j
        where organisation_id = %(organisation)s and action = 'revocation.started' and at < %(end)s group by 1
    ), spans as (
        select b.*, r.leaver_id, r.confirmed_at, r.undone_at, least(r.settled_at, r.undone_at) as over_at,
            extract(epoch from r.confirmed_at - b.at) / 3600 as hours
        from begun b join revocations r on r.id = b.subject_id
    )
"""
_FIRST_READ = """
    select j.subject_id as system, coalesce(s.name, min(j.subject_name)) as name, min(j.at) as at
    from {journal} j left join systems s on s.id = j.subject_id
    where j.organisation_id = %(organisation)s and j.action = 'system.read' and j.at < %(end)s
    group by 1, s.name order by 2
"""
# Somebody may leave again after coming back: each departure runs until the next one.
_DEPARTURES = """
    , departed as (
        select subject_id, subject_name, at, lead(at, 1, 'infinity') over (partition by subject_id order by at) as next
        from {journal} j
        where organisation_id = %(organisation)s and action = 'person.left' and at < %(end)s
    )
    select d.subject_id as person, d.subject_name as name, d.at,
        bool_and(spans.confirmed_at is not null) and (d.next < 'infinity' or not exists (
            select from grants g
            where g.organisation_id = %(organisation)s and g.person_id = d.subject_id and g.state = any(%(live)s)
        )) as is_over,
        max(spans.confirmed_at) as confirmed_at
    from departed d join spans on spans.leaver_id = d.subject_id and spans.undone_at is null
        and spans.at >= d.at and spans.at < d.next
    group by 1, 2, 3, d.next order by d.at, d.subject_id
"""
_CONFIRMED = """
    select width_bucket(confirmed_at, %(starts)s) as period, count(*) as count,
        percentile_cont(0.5) within group (order by hours) as middle,
        percentile_cont(0.9) within group (order by hours) as slow,
        (array_agg(name order by hours desc))[1] as slowest, max(hours) as most
    from spans where confirmed_at < %(end)s group by 1 order by 1
"""
_WAITING = """
    select p.period::int, count(*) as count
    from unnest(%(ends)s) with ordinality as p(at, period)
    join spans on spans.at < p.at and (over_at is null or over_at >= p.at)
    group by 1 order by 1
"""
_REVIEWED = """
    select width_bucket(r.due_at, %(starts)s) as period, r.id as round, r.name, count(i.id) as items,
        count(*) filter (
            where i.decided_at <= r.due_at and (not i.needs_second or i.seconded_at <= r.due_at)
        ) as in_time
    from rounds r join items i on i.round_id = r.id
    where r.organisation_id = %(organisation)s and r.due_at < %(end)s and r.due_at >= (%(starts)s)[1]
    group by 1, 2, 3 order by 1, 3
"""


@dataclass(frozen=True, slots=True)
class Moved:
    """How many were opened and closed within a period, of one rule or account, and what that did to the risk."""

    period: int
    key: str | UUID | None
    name: str
    risk: int
    opened: int
    closed: int


@dataclass(frozen=True, slots=True)
class Unrecorded:
    """How many live grants that nobody recorded a system had at the end of a period."""

    period: int
    system: UUID | None
    name: str
    count: int


@dataclass(frozen=True, slots=True)
class FirstRead:
    """When a system was read for the first time; of the time before nothing is known of it."""

    system: UUID
    name: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Departure:
    """Somebody left at ``at``; ``is_over`` when the systems confirmed the end of all that was revoked for it, and the
    register has no live grant of theirs since.
    """

    person: UUID
    name: str
    at: datetime
    is_over: bool
    confirmed_at: datetime | None


@dataclass(frozen=True, slots=True)
class Confirmed:
    """Revocations confirmed within a period: half of them took at most ``middle`` hours, nine tenths ``slow``."""

    period: int
    count: int
    middle: float
    slow: float
    slowest: str
    most: float


@dataclass(frozen=True, slots=True)
class Waiting:
    """How many revocations were begun and not over at the end of a period."""

    period: int
    count: int


@dataclass(frozen=True, slots=True)
class Reviewed:
    """A round that was due within a period: its items, and how many somebody had decided by then."""

    period: int
    round: UUID
    name: str
    items: int
    in_time: int


# Of these the archive is asked for, of the reading of a system only for the first.
ACTIONS = frozenset(
    {
        *("flag.raised", "flag.reopened", "flag.accepted", "flag.cleared", "flag.worse"),
        *("exposure.found", "exposure.gone", "revocation.started", "system.read", "person.left"),
    }
)
# What is in the archive may be in the database still.
_ALSO_ARCHIVED = """(
        select organisation_id, position, at, subject_kind, subject_id, subject_name, account_id, action, facts
        from journal where position > %(archived_until)s
        union all
        select %(organisation)s, position, at, subject_kind, subject_id, subject_name, account_id, action, facts
        from jsonb_to_recordset(%(archived)s::jsonb) as archived (position bigint, at timestamptz, subject_kind text,
            subject_id uuid, subject_name text, account_id uuid, action text, facts jsonb)
    )"""


@dataclass(frozen=True, slots=True)
class Archived:
    """What the archive has for the figures: its journal ``begins`` and ends at the position ``until``, with these
    entries of ``ACTIONS``; and when which account had a live grant that nobody had recorded (``unrecorded``).
    """

    begins: datetime | None = None
    until: int = 0
    entries: Sequence[JsonObject] = ()
    unrecorded: Sequence[JsonObject] = ()


NOTHING_ARCHIVED = Archived()


class Figures:
    """The figures of one organisation in some periods."""

    def __init__(
        self, driver: Driver, organisation: UUID, periods: Sequence[Period], archived: Archived = NOTHING_ARCHIVED
    ) -> None:
        self._driver = driver
        self._archived = archived
        self._journal = _ALSO_ARCHIVED if archived.until else "journal"
        self._values: dict[str, object] = {
            "organisation": organisation,
            "starts": [period.begins for period in periods],
            "ends": [period.ends for period in periods],
            "end": periods[-1].ends,
            "archived_until": archived.until,
            "archived": orjson.dumps(archived.entries).decode(),
            "unrecorded": orjson.dumps(archived.unrecorded).decode(),
        }

    def flags(self) -> list[Moved]:
        """What moved of the open flags, by rule, also before the first period."""
        actions = {
            "kind": "flag",
            "opens": ["flag.raised", "flag.reopened"],
            "closes": ["flag.accepted", "flag.cleared"],
            "keeps": ["flag.worse"],
        }
        return self._ask(Moved, _MOVED + _FLAGS, actions)

    def exposures(self) -> list[Moved]:
        """What moved of the exposures, by account, also before the first period."""
        actions = {"kind": "exposure", "opens": ["exposure.found"], "closes": ["exposure.gone"], "keeps": []}
        return self._ask(Moved, _MOVED + _EXPOSURES, actions)

    def unrecorded(self, live: Sequence[str]) -> list[Unrecorded]:
        """Live grants that nobody recorded, by system, at the end of each period (1 is the first)."""
        return self._ask(Unrecorded, _UNRECORDED, {"live": list(live)})

    def first_reads(self) -> list[FirstRead]:
        """The systems that have been read, by name."""
        return self._ask(FirstRead, _FIRST_READ, {})

    def departures(self, live: Sequence[str]) -> list[Departure]:
        """All departures with something to revoke, until the end of the last period; ``live`` are states of grants."""
        return self._ask(Departure, _REVOCATIONS + _DEPARTURES, {"live": list(live)})

    def confirmed(self) -> list[Confirmed]:
        """How long revocations took until their systems confirmed them."""
        return self._ask(Confirmed, _REVOCATIONS + _CONFIRMED, {})

    def waiting(self) -> list[Waiting]:
        """How many revocations were not over at the end of each period (1 is the first)."""
        return self._ask(Waiting, _REVOCATIONS + _WAITING, {})

    def reviewed(self) -> list[Reviewed]:
        """The rounds that were due."""
        return self._ask(Reviewed, _REVIEWED, {})

    def begins(self) -> datetime | None:
        """The instant of the first journal entry; nothing is known of the time before."""
        if self._archived.begins is not None:
            return self._archived.begins
        found = self._driver.execute(
            "select at from journal where organisation_id = %(organisation)s order by position limit 1", self._values
        ).fetchone()
        return found[0] if found else None

    def _ask(self, shape: type[Row], statement: str, more: Mapping[str, object]) -> list[Row]:
        with self._driver.cursor(row_factory=class_row(shape)) as cursor:
            return cursor.execute(statement.replace("{journal}", self._journal), {**self._values, **more}).fetchall()
