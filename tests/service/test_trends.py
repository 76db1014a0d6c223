"""Figures over time: what they say of each week is what was so at its end."""

from __future__ import annotations

import csv
import io
from datetime import UTC, date, datetime, timedelta
from uuid import UUID
from zoneinfo import ZoneInfo

import psycopg
import pytest
from sqlalchemy import func, select, text

from openlatch import schemas
from openlatch.core.ids import new_id
from openlatch.core.trends import Span, periods
from openlatch.core.vocabulary import FlagState
from openlatch.errors import BadInput, NotAllowed
from openlatch.runtime.cluster import Cluster
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import manage
from openlatch.service.people import leavers
from openlatch.service.trends import letter, page
from openlatch.store.tables import Flag, JournalEntry, Mail, Person, Revocation, Round, SignIn
from tests.service.conftest import Small, mailed
from tests.service.test_leaving import do_by_hand
from tests.service.test_reviews import opened

WEEKS = schemas.TrendsQuery(since=date(2026, 3, 9), until=date(2026, 4, 12))


def trends(small: Small, query: schemas.TrendsQuery = WEEKS) -> schemas.Trends:
    with small.service.unit(small.itself) as unit:
        return page.page(unit, query)


def open_now(small: Small) -> tuple[int, int]:
    """The risk and the number of the flags that are open, with the score that the journal has of each."""
    with small.service.unit(small.itself) as unit:
        flags = unit.db.scalars(select(Flag.id).where(Flag.state == FlagState.OPEN)).all()
        told = select(JournalEntry).where(JournalEntry.subject_id.in_(flags)).order_by(JournalEntry.position)
        scores = {entry.subject_id: entry.facts["score"] for entry in unit.db.scalars(told) if "score" in entry.facts}
        return sum(scores.values()), len(flags)


def look(small: Small) -> None:
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)


def test_open_risk_of_each_week_is_what_was_open_then(small: Small) -> None:
    """Flags are raised, accepted for a while, open again, and cleared; asked later, each week says its own."""
    seen = []
    for week in range(5):
        look(small)
        if week == 1:
            with small.service.unit(small.itself) as unit:
                some = unit.db.scalars(select(Flag.id).where(Flag.state == "open").limit(3)).all()
                manage.accept(unit, some, "Known.", small.clock.now + timedelta(days=10))
        if week == 2:
            with small.service.unit(small.itself) as unit:
                unit.db.execute(text("update grants set last_used_at = :now"), {"now": small.clock.now})
        seen.append(open_now(small))
        small.clock.forward(days=7)
    found = trends(small)
    assert [(point.risk, point.flags) for point in found.points] == seen
    assert len({risk for risk, _ in seen}) > 2
    assert any("cleared or accepted" in move.sentence for move in found.points[1].moves)
    before = trends(small, schemas.TrendsQuery(since=date(2026, 2, 2), until=date(2026, 3, 10)))
    assert [point.risk for point in before.points[:5]] == [None] * 5
    assert before.points[5].risk == seen[0][0]


def another_plan(small: Small, leaver: UUID) -> UUID:
    """A second plan for somebody who left, that nothing has confirmed yet."""
    with small.service.unit(small.itself) as unit:
        title = {"title": "End what was found later"}
        row = Revocation(cause="left", reason="Found later.", preview=title, leaver_id=leaver)
        row.organisation_id = small.itself.organisation
        unit.db.add(row)
        unit.db.flush()
        unit.record("revocation.started", "revocation", row.id, title["title"])
        return row.id


def test_a_departure_is_over_when_systems_confirmed_it_and_not_by_a_word(small: Small) -> None:
    """Time from leaving to nothing left; what a person says was done leaves it open."""
    owen = small.person("owen")
    with small.service.unit(small.itself) as unit:
        only = leavers.preview(unit, leavers.Plan(owen)).accounts
        heirs = {one.account.id: small.person("ines") for one in only}
        leaving = leavers.start(unit, leavers.Plan(owen, heirs), "Over.")
    small.clock.forward(days=3)
    with small.service.unit(small.itself) as unit:
        for ident in leaving.revocations:
            do_by_hand(unit, ident)
    (last,) = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9), until=date(2026, 3, 15))).points
    assert (last.departures, last.departures_over, last.departures_open, last.departure_days) == (1, 0, 1, None)
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update revocations set confirmed_at = :at"), {"at": small.clock.now})
    (last,) = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9), until=date(2026, 3, 15))).points
    assert (last.departures_over, last.departures_open, last.departure_days) == (1, 0, 3.0)
    assert (last.confirmed, last.confirm_hours, last.waiting) == (1, 72.0, 0)
    assert any(move.sentence.startswith("Owen: all confirmed as gone") for move in last.moves)
    later = another_plan(small, owen)
    (last,) = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9), until=date(2026, 3, 15))).points
    assert (last.departures_over, last.departures_open) == (0, 1)
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Revocation, later).undone_at = small.clock.now
    (last,) = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9), until=date(2026, 3, 15))).points
    assert (last.departures_over, last.departures_open) == (1, 0)
    with small.service.unit(small.itself) as unit:
        again = "update grants set state = 'active', ended_as = null, ended_at = null where person_id = :owen"
        unit.db.execute(text(again), {"owen": owen})
    (last,) = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9), until=date(2026, 3, 15))).points
    assert (last.departures_over, last.departures_open) == (0, 1)


def test_unrecorded_access_is_counted_by_system_as_it_was(small: Small, cluster: Cluster, database: str) -> None:
    """From the versions: found in one week, adopted in the next."""
    with psycopg.connect(cluster.url(database), autocommit=True) as db:
        db.execute("alter table grants disable trigger user")
        db.execute("update grants set recorded = false, recorded_at = '2026-03-11Z' where key is not null")
        db.execute(
            "insert into versions (id, since, organisation_id, kind, until, gone, row) select id, '2026-03-11Z',"
            " organisation_id, 'grants', '2026-03-18Z', false, to_jsonb(grants) from grants"
            " where account_id = %s",
            (small.account("box"),),
        )
        db.execute(
            "update grants set recorded = true, recorded_at = '2026-03-18Z' where account_id = %s",
            (small.account("box"),),
        )
    small.clock.forward(days=14)
    before, one, two, _ = trends(small, schemas.TrendsQuery(since=date(2026, 3, 2))).points
    assert before.unrecorded is None
    assert one.unrecorded is not None
    assert two.unrecorded is not None
    assert [(row.system.name, row.count) for row in one.unrecorded] == [("Books", 1), ("Mail", 5)]
    assert [(row.system.name, row.count) for row in two.unrecorded] == [("Books", 1), ("Mail", 1)]
    assert "Mail: from 5 to 1" in [move.sentence for move in two.moves]
    with small.service.unit(small.itself) as unit:
        unit.record("system.read", "system", new_id(), "Gauges")
    *earlier, now = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9))).points
    assert [[row.system.name for row in point.unrecorded or ()] for point in earlier] == [["Books", "Mail"]] * 2
    assert ("Gauges", 0) in [(row.system.name, row.count) for row in now.unrecorded or ()]


def test_reviews_count_what_somebody_decided_in_time(small: Small, cluster: Cluster, database: str) -> None:
    """Not what came late, nor what a second reviewer has not agreed to."""
    ident = opened(small)
    with psycopg.connect(cluster.url(database), autocommit=True) as db:
        db.execute("alter table items disable trigger user")
        db.execute("update rounds set due_at = '2026-03-12Z'")
        db.execute("update items set decided_at = '2026-03-11Z' where position = 1")
        db.execute("update items set decided_at = '2026-03-11Z', needs_second = true where position = 2")
        db.execute("update items set decided_at = '2026-03-13Z' where position = 3")
    with small.service.unit(small.itself) as unit:
        name = unit.db.get_one(Round, ident).name
    small.clock.forward(days=3)
    (point,) = trends(small, schemas.TrendsQuery(since=date(2026, 3, 9))).points
    assert point.decided_in_time == 1
    assert point.due_items > 2
    assert f"{name}: 1 of {point.due_items} decided by the due date" in [move.sentence for move in point.moves]


def test_only_who_sees_everything_may_ask_and_the_file_has_the_same(small: Small) -> None:
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        page.page(unit, WEEKS)
    look(small)
    found = trends(small)
    (first, *_) = csv.DictReader(io.StringIO(page.write_csv(found)))
    assert (first["first_day"], first["open_risk"]) == ("2026-03-09", str(found.points[0].risk))


def test_the_letter_goes_out_once_a_month_to_those_who_want_it(small: Small) -> None:
    """Not for a month that had not begun here, nor to somebody who no longer sees everything."""
    organisation = small.itself.organisation
    assert organisation is not None
    with small.acting_as_administrator("ada") as unit:
        letter.set_wanted(unit, True)
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        letter.set_wanted(unit, True)
    look(small)
    with small.service.unit(small.itself) as unit:
        assert letter.send_when_due(unit) == 0
        unit.db.get_one(Person, small.person("mara")).wants_trends = True
    small.clock.forward(days=25)
    for expected in (1, 0):
        with small.service.unit(small.itself) as unit:
            assert letter.send_when_due(unit) == expected
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(func.count()).select_from(Mail)) == 1
    small.clock.forward(days=30)
    with small.service.unit(small.itself) as unit:
        unit.db.scalars(select(SignIn)).one().suspended_at = small.clock.now
        unit.db.flush()
        assert letter.send_when_due(unit) == 0
    ((recipient, subject, text_of),) = mailed(small.service, organisation)
    assert (recipient, subject) == ("ada@example.org", "Access in March 2026")
    assert "Open risk: " in text_of
    assert "What moved them:" in text_of


LONDON = ZoneInfo("Europe/London")


def test_periods_are_whole_days_of_the_zone_and_end_now() -> None:
    """Across the change of the clocks, cut off at the present instant, and refused where they can't be."""
    now = datetime(2026, 4, 1, 9, tzinfo=UTC)
    weeks = periods(date(2026, 3, 25), None, Span.WEEK, LONDON, now)
    assert [(week.first, week.last) for week in weeks] == [
        (date(2026, 3, 23), date(2026, 3, 29)),
        (date(2026, 3, 30), date(2026, 4, 1)),
    ]
    assert weeks[0].ends == weeks[1].begins == datetime(2026, 3, 29, 23, tzinfo=UTC)
    assert weeks[1].ends - now == timedelta(microseconds=1)
    (month,) = periods(date(2026, 2, 5), date(2026, 2, 6), Span.MONTH, LONDON, now)
    assert (month.first, month.last) == (date(2026, 2, 1), date(2026, 2, 28))
    for since, until, span in (
        (None, date(1, 1, 2), Span.DAY),
        (date(2026, 3, 3), date(2026, 3, 2), Span.DAY),
        (date(2026, 5, 1), None, Span.DAY),
        (date(2025, 1, 1), None, Span.DAY),
        (date(1, 1, 1), None, Span.MONTH),
    ):
        with pytest.raises(BadInput):
            periods(since, until, span, LONDON, now)
