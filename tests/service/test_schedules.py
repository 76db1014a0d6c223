"""Schedules: rounds that open by themselves, once, late when they were missed, whatever happens meanwhile."""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import datetime, timedelta
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch.errors import BadFilter, BadInput, Conflict, NotAllowed
from openlatch.service import rounds, schedules
from openlatch.service.schedules import Plan
from openlatch.store.tables import Round, Schedule
from openlatch.work import worker
from tests.service.conftest import Small

PLAN = Plan("Monthly", 'account.name eq "Box"', "month", datetime(2026, 4, 1, 9))


def make(small: Small, plan: Plan = PLAN) -> UUID:
    with small.service.unit(small.itself) as unit:
        ident: UUID = schedules.keep(unit, plan)["id"]
        return ident


def opened(small: Small) -> list[str]:
    with small.service.unit(small.itself) as unit:
        return list(unit.db.scalars(select(Round.name).order_by(Round.id)))


def test_a_round_opens_at_its_time_and_tells_its_reviewers(small: Small) -> None:
    """The next times are shown as one types, where the clocks are."""
    with small.service.unit(small.itself) as unit:
        following = schedules.upcoming(unit, PLAN)
    assert [at.isoformat() for at in following[:2]] == ["2026-04-01T08:00:00+00:00", "2026-05-01T08:00:00+00:00"]
    make(small)
    worker.look_round(small.service)
    assert opened(small) == []
    small.clock.now = following[0]
    worker.look_round(small.service)
    worker.look_round(small.service)
    assert opened(small) == ["Monthly, 1 April 2026"]
    assert small.told("ines") == ["4 items of “Monthly, 1 April 2026” are yours to decide, by 15 April 2026."]


def test_missed_times_open_once_and_two_workers_open_one(small: Small) -> None:
    """After months in which the service was down."""
    ident = make(small)
    small.clock.now = datetime(2026, 7, 20, tzinfo=small.clock.now.tzinfo)
    several = [
        threading.Thread(target=schedules.open_round, args=(small.service, small.itself, ident)) for _ in range(3)
    ]
    for one in several:
        one.start()
    for one in several:
        one.join()
    assert opened(small) == ["Monthly, 1 July 2026"]


def test_a_changed_schedule_touches_no_open_round_and_a_paused_one_opens_nothing(small: Small) -> None:
    """Two who change it at once do not overwrite each other."""
    ident = make(small)
    small.clock.now = datetime(2026, 4, 2, tzinfo=small.clock.now.tzinfo)
    worker.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        schedules.keep(unit, replace(PLAN, name="Weekly", recurrence="FREQ=WEEKLY", paused=True), ident, 1)
    with pytest.raises(Conflict, match="meanwhile"), small.service.unit(small.itself) as unit:
        schedules.keep(unit, PLAN, ident, 1)
    small.clock.forward(days=40)
    worker.look_round(small.service)
    assert opened(small) == ["Monthly, 1 April 2026"]
    with small.service.unit(small.itself) as unit:
        schedules.keep(unit, replace(PLAN, name="Weekly", recurrence="FREQ=WEEKLY"), ident, 2)
        assert unit.db.scalars(select(Round.due_at)).one() == datetime(2026, 4, 16, tzinfo=small.clock.now.tzinfo)
    worker.look_round(small.service)
    assert len(opened(small)) == 1


def test_what_is_left_undecided_becomes_what_the_schedule_says(small: Small) -> None:
    """When its round is closed without another word."""
    make(small, replace(PLAN, undecided="revoke", scope='holder.name eq "Sync"'))
    small.clock.now = datetime(2026, 4, 2, tzinfo=small.clock.now.tzinfo)
    worker.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        rounds.close(unit, unit.db.scalars(select(Round.id)).one())
    assert small.state(small.grant("box|app|sync|read")) == "revoking"


def test_a_schedule_that_matches_nothing_says_so_and_goes_on(small: Small) -> None:
    """Told once for each time."""
    ident = make(small, replace(PLAN, scope='account.name eq "None"'))
    small.clock.now = datetime(2026, 4, 2, tzinfo=small.clock.now.tzinfo)
    worker.look_round(small.service)
    worker.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        assert "No live grant matches" in unit.db.get_one(Schedule, ident).answer
        assert schedules.due(small.service, small.itself) == []
    assert opened(small) == []


@pytest.mark.parametrize(
    ("changed", "kind"),
    [
        ({"name": " "}, BadInput),
        ({"days_to_decide": 0}, BadInput),
        ({"scope": "nothing eq 1"}, BadFilter),
        ({"time_zone": "Europe/Nowhere"}, BadInput),
        ({"recurrence": "now and then"}, BadInput),
        ({"reviewer": UUID(int=1)}, BadInput),
    ],
)
def test_what_a_schedule_refuses(small: Small, changed: dict[str, object], kind: type[Exception]) -> None:
    """With the field at fault; and those who may not."""
    with pytest.raises(kind):
        make(small, replace(PLAN, **changed))  # type: ignore[arg-type]
    with pytest.raises(BadInput, match="zone of its own"):
        make(small, replace(PLAN, starts=small.clock.now + timedelta(days=1)))
    with pytest.raises(NotAllowed), small.acting("ines") as unit:
        schedules.keep(unit, PLAN)
