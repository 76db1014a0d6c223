"""What is measured of reviews: opening a large round, its pages, and writing while it closes."""

from __future__ import annotations

import statistics
import threading
import time
from contextlib import suppress
from dataclasses import replace
from typing import Any
from uuid import UUID, uuid4

import psycopg
from sqlalchemy import func, select, update

from bench.measures import ROUNDS, Bench, Result, alternating, timed
from openlatch.core.vocabulary import Reach
from openlatch.service.lists import register
from openlatch.service.reviews import close_round, open_round, rounds
from openlatch.service.reviews.plans import Review
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Item, Person

# About half of the register's grants: 50,000 of 100,000.
SCOPE = "account.sensitivity le 2"
REVIEW = Review("Bench", SCOPE, undecided=dict.fromkeys((r.word for r in Reach), "keep"))
TRIES = 5
_COLUMNS = (
    "organisation_id, position, kind, subject_id, grant_id, account_id, account, holder, level, reach, recommended, "
    "flagged, severity, reviewer_id, reviewer_team_id, assigned_as, by_default, needs_second, second_id, facts"
)


class _TakeBack(Exception):
    """What was measured is not to be kept."""


def _review(bench: Bench) -> Review:
    """Over half of the register, or of one of its systems where that would be more than a round takes."""
    is_large = bench.size.grants * 0.55 > open_round.MOST_ITEMS
    return replace(REVIEW, scope=f'{SCOPE} and system.name eq "System 1"') if is_large else REVIEW


def _open(bench: Bench, keep: bool = False) -> UUID:
    found: list[UUID] = []
    with suppress(_TakeBack), bench.service.unit(bench.viewer) as unit:
        found.append(open_round.open_round(unit, _review(bench)))
        if not keep:
            raise _TakeBack
    return found[0]


def _bare(db: psycopg.Connection[Any], ident: UUID) -> None:
    """The same rows once more, as another round's: nothing is worked out, and the table guards itself as ever."""
    other = uuid4()
    db.execute(
        "insert into rounds (id, organisation_id, name, scope, opened_at, due_at) "
        "select %s, organisation_id, name, scope, opened_at, due_at from rounds where id = %s",
        [other, ident],
    )
    db.execute(
        f"insert into items (id, round_id, {_COLUMNS}) "
        f"select gen_random_uuid(), %s, {_COLUMNS} from items where round_id = %s",
        [other, ident],
    )
    db.rollback()


# The same facts by hand, without paths, people behind teams, recommendations and reviewers' lines.
_BY_HAND = """
    insert into items (id, organisation_id, round_id, position, kind, subject_id, grant_id, account_id, account, holder,
        level, reach, recommended, flagged, severity, reviewer_id, assigned_as, facts)
    select gen_random_uuid(), g.organisation_id, %(round)s,
        row_number() over (order by f.score desc nulls last, a.name),
        case when g.app_id is null then 'grant' else 'link' end, g.id, g.id, a.id, a.name,
        coalesce(p.name, t.name, ap.name), te.level, te.reach, 'keep', coalesce(f.count, 0), coalesce(f.severity, 0),
        a.owner_id, 'Owner of the account.',
        jsonb_build_object('state', g.state, 'account', jsonb_build_object('id', a.id, 'name', a.name, 'sensitivity',
            a.sensitivity, 'kind', a.kind, 'owner', a.owner_id),
            'system', jsonb_build_object('id', s.id, 'name', s.name),
            'holder', jsonb_build_object('kind', g.holder_kind, 'id', g.holder_id, 'name', coalesce(p.name, t.name,
            ap.name), 'inside', p.inside, 'standing', p.standing, 'job', p.job), 'level', te.level, 'sentence',
            te.sentence, 'reach', te.reach, 'until', te.until, 'since', te.since, 'given_at', g.given_at, 'given_by',
            jsonb_build_object('id', gp.id, 'name', gp.name), 'reason', g.reason, 'last_used_at', g.last_used_at,
            'recorded', g.recorded, 'flags', coalesce(f.flags, '[]'), 'last_decision', d.facts, 'peers',
            jsonb_build_object('job', p.job, 'have', pe.have))
    from grants g
    join accounts a on a.id = g.account_id join systems s on s.id = a.system_id
    join (select t.grant_id, max(l.reach) reach, string_agg(l.name, ', ') as level,
            string_agg(l.sentence, ' ') sentence, max(t.until) until, min(t.since) since
        from terms t join levels l on l.id = t.level_id group by 1) te
        on te.grant_id = g.id
    left join people p on p.id = g.person_id left join teams t on t.id = g.team_id
    left join apps ap on ap.id = g.app_id
    left join people gp on gp.id = g.given_by_id
    left join (select subject_id, max(score) score, max(severity) severity, count(*) count,
            jsonb_agg(jsonb_build_object('rule', rule,
                 'severity', severity, 'score', score, 'sentence', sentence)) flags
        from flags where state = 'open' group by 1) f on f.subject_id = g.id
    left join (select distinct on (subject_id) subject_id,
            jsonb_build_object('verdict', verdict, 'reason', reason) facts
        from items where state = 'decided' order by subject_id, decided_at desc) d on d.subject_id = g.id
    left join (select g.account_id, p.job, count(distinct p.id) have from grants g join people p on p.id = g.person_id
        where g.state <> 'ended' and p.job <> '' group by 1, 2) pe on pe.account_id = a.id and pe.job = p.job
    where g.state in ('active', 'suspended', 'revoking') and a.sensitivity <= 2
"""


def _by_hand(db: psycopg.Connection[Any], ident: UUID) -> None:
    """One statement that gathers the plain facts of every grant, and inserts them."""
    other = uuid4()
    db.execute(
        "insert into rounds (id, organisation_id, name, scope, opened_at, due_at) "
        "select %s, organisation_id, name, scope, opened_at, due_at from rounds where id = %s",
        [other, ident],
    )
    db.execute(_BY_HAND, {"round": other})
    db.rollback()


def opening_a_round(bench: Bench) -> Result:
    """Open a round over half of the register, against the bare INSERT ... SELECT of its rows."""
    ident = _open(bench, keep=True)
    with bench.owner() as db:
        count = db.execute("select count(*) from items where round_id = %s", [ident]).fetchone()
        db.rollback()
        taken, least = alternating(lambda: _open(bench), lambda: _by_hand(db, ident), rounds=TRIES)
        _, copied = alternating(lambda: None, lambda: _bare(db, ident), rounds=TRIES)
    notes = [f"{count[0] if count else 0:,} items", f"{taken / copied:.2f} of copying the finished rows once more"]
    return Result("open a round", taken / least, 3.0, "one INSERT ... SELECT of its rows' facts by hand", notes)


def a_page_of_items(bench: Bench) -> Result:
    """A page of 50 undecided items deep in a round, with what has changed, against a page of the grants themselves."""
    ident = _newest(bench)

    def page(unit: Unit) -> None:
        rounds.items(unit, ident, ListQuery(filter='state eq "undecided" and recommended eq "keep"', limit=50))

    def grants(unit: Unit) -> None:
        register.page(unit, "grants", ListQuery(filter='state eq "active" and account.sensitivity le 2', limit=50))

    taken, least = alternating(lambda: _in_unit(bench, page), lambda: _in_unit(bench, grants), rounds=ROUNDS)
    return Result("a page of 50 items of a round", taken / least, 1.5, "a page of 50 grants")


def _newest(bench: Bench) -> UUID:
    with bench.service.unit(bench.viewer) as unit:
        newest = unit.db.scalars(select(Item.round_id).order_by(Item.round_id.desc()).limit(1)).first()
    assert newest is not None
    return newest


def _in_unit(bench: Bench, work: Any) -> None:
    with bench.service.unit(bench.viewer) as unit:
        work(unit)


def writing_while_it_closes(bench: Bench) -> Result:
    """A change with its journal entry while a round is carried out, against one while nothing is."""
    ident = _newest(bench)
    with bench.service.unit(bench.viewer) as unit:
        person = unit.db.scalars(select(Person.id).limit(1)).one()

    def change() -> None:
        with bench.service.unit(bench.viewer) as unit:
            unit.db.execute(update(Person).where(Person.id == person).values(job=str(time.monotonic())))
            unit.record("person.changed", "person", person, "Bench")

    quiet = [timed(change) for _ in range(ROUNDS)]
    with bench.service.unit(bench.viewer) as unit:
        close_round.close(unit, ident)
    closes = threading.Thread(target=close_round.carry_on, args=(bench.service, bench.viewer, ident))
    started = time.perf_counter()
    closes.start()
    busy = []
    while closes.is_alive():
        busy.append(timed(change))
        time.sleep(0.01)
    closes.join()
    whole = time.perf_counter() - started
    with bench.service.unit(bench.viewer) as unit:
        count = unit.db.scalar(select(func.count(Item.id)).where(Item.round_id == ident, Item.done_at.is_not(None)))
    worst = max(busy) / whole
    notes = [
        f"{count:,} items carried out meanwhile, and {len(busy):,} changes made",
        f"the longest wait for one change was {worst:.2%} of the close",
    ]
    ratio = statistics.median(busy) / statistics.median(quiet)
    return Result("a change while a round closes", ratio, 10.0, "the same while nothing closes", notes)
