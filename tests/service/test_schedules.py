"""Schedules: rounds that open by themselves, once, late when they were missed, whatever happens meanwhile."""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch.core.reviews.assignment import Line, Place
from openlatch.core.vocabulary import Subject
from openlatch.errors import BadFilter, BadInput, Conflict, NotAllowed
from openlatch.service.reviews import close_round, schedules
from openlatch.service.reviews.plans import Review
from openlatch.service.reviews.schedules import Plan
from openlatch.store.tables import Round, Schedule
from openlatch.worker import tasks
from tests.service.conftest import Small

REVIEW = Review("Monthly", 'account.name eq "Box"')
PLAN = Plan(REVIEW, "month", datetime(2026, 4, 1, 9))


def planned(plan: Plan = PLAN, **review: Any) -> Plan:
    return replace(plan, review=replace(plan.review, **review))


def make(small: Small, plan: Plan = PLAN) -> UUID:
    with small.service.unit(small.itself) as unit:
        ident: UUID = schedules.keep(unit, plan).id
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
    tasks.look_round(small.service)
    assert opened(small) == []
    small.clock.now = following[0]
    tasks.look_round(small.service)
    tasks.look_round(small.service)
    assert opened(small) == ["Monthly, 1 April 2026"]
    assert small.told("ada") == ["4 items of “Monthly, 1 April 2026” are yours to decide, by 15 April 2026."]


def test_reviews_recur_by_sensitivity(small: Small) -> None:
    """Critical accounts every month, low ones every year; the next dates are those of all."""
    plan = planned(replace(PLAN, recurrence="sensitivity"), name="All", scope="account.name pr")
    with small.service.unit(small.itself) as unit:
        following = schedules.upcoming(unit, plan)
        made = schedules.keep_by_sensitivity(unit, plan)
    assert [at.month for at in following] == [4, 5, 6, 7, 8, 9]
    assert [(row.name, row.scope, row.recurrence) for row in made] == [
        ("All, critical", "(account.name pr) and account.sensitivity eq 4", "FREQ=MONTHLY"),
        ("All, high", "(account.name pr) and account.sensitivity eq 3", "FREQ=MONTHLY;INTERVAL=3"),
        ("All, medium", "(account.name pr) and account.sensitivity eq 2", "FREQ=MONTHLY;INTERVAL=6"),
        ("All, low", "(account.name pr) and account.sensitivity eq 1", "FREQ=YEARLY"),
    ]


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
    tasks.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        schedules.keep(unit, planned(replace(PLAN, recurrence="FREQ=WEEKLY", paused=True), name="Weekly"), ident, 1)
    with pytest.raises(Conflict, match="meanwhile"), small.service.unit(small.itself) as unit:
        schedules.keep(unit, PLAN, ident, 1)
    small.clock.forward(days=40)
    tasks.look_round(small.service)
    assert opened(small) == ["Monthly, 1 April 2026"]
    with small.service.unit(small.itself) as unit:
        schedules.keep(unit, planned(replace(PLAN, recurrence="FREQ=WEEKLY"), name="Weekly"), ident, 2)
        assert unit.db.scalars(select(Round.due_at)).one() == datetime(2026, 4, 16, tzinfo=small.clock.now.tzinfo)
    tasks.look_round(small.service)
    assert len(opened(small)) == 1


def test_what_is_left_undecided_becomes_what_the_schedule_says(small: Small) -> None:
    """When its round is closed without another word."""
    revoke = dict.fromkeys(("observe", "operate", "spend", "steward"), "revoke")
    ident = make(small, planned(undecided=revoke, scope='holder.name eq "Sync"'))
    small.clock.now = datetime(2026, 4, 2, tzinfo=small.clock.now.tzinfo)
    tasks.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        opened_now = unit.db.scalars(select(Round.id).where(Round.schedule_id == ident)).one()
        close_round.close(unit, opened_now)
    close_round.carry_on(small.service, small.itself, opened_now)
    assert small.state(small.grant("box|app|sync|read")) == "revoking"


def test_a_schedule_that_matches_nothing_says_so_and_goes_on(small: Small) -> None:
    """Told once for each time."""
    ident = make(small, planned(scope='account.name eq "None"'))
    small.clock.now = datetime(2026, 4, 2, tzinfo=small.clock.now.tzinfo)
    tasks.look_round(small.service)
    tasks.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        assert "Nothing that can be reviewed" in unit.db.get_one(Schedule, ident).answer
        assert schedules.due(small.service, small.itself) == []
    assert opened(small) == []


@pytest.mark.parametrize(
    ("plan", "kind"),
    [
        (planned(name=" "), BadInput),
        (planned(days=0), BadInput),
        (planned(scope="nothing eq 1"), BadFilter),
        (planned(scope='reach eq "spend"', covers=(Subject.GRANT, Subject.SESSION)), BadFilter),
        (planned(covers=()), BadInput),
        (planned(reviewers=(Place(Line.PERSON, UUID(int=1)),)), BadInput),
        (planned(undecided={"spend": "forget"}), BadInput),
        (planned(second_from=5), BadInput),
        (planned(reminders=(15,)), BadInput),
        (planned(closes_after=-1), BadInput),
        (replace(PLAN, time_zone="Europe/Nowhere"), BadInput),
        (replace(PLAN, recurrence="now and then"), BadInput),
        (replace(PLAN, recurrence=""), BadInput),
        (replace(PLAN, starts=None), BadInput),
    ],
)
def test_what_a_schedule_refuses(small: Small, plan: Plan, kind: type[Exception]) -> None:
    """With the field at fault; and those who may not."""
    with pytest.raises(kind):
        make(small, plan)
    with pytest.raises(BadInput, match="zone of its own"):
        make(small, replace(PLAN, starts=small.clock.now + timedelta(days=1)))
    with pytest.raises(NotAllowed), small.acting("ines") as unit:
        schedules.keep(unit, PLAN)
