"""Reminders that access ends soon, while there is time to extend it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import func, or_, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import aliased

from openlatch.core.time_windows import end_in_words
from openlatch.core.vocabulary import GrantState
from openlatch.service.grants import hand_tasks, lifecycle
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, EndReminder, Grant, Organisation, Term

DAYS = (14, 3)
MOST = 500


def days_before(unit: Unit) -> list[int]:
    """How many days before an end people are reminded, the longest first."""
    held = unit.db.get_one(Organisation, unit.viewer.organisation).settings
    return sorted({int(day) for day in held.get("remind_days", DAYS)}, reverse=True)


def remind(unit: Unit) -> int:
    """Remind holders, givers and owners of what ends soon; returns the number of grants. Called by the worker.

    Once for each of the days before, and only for the last of those that have passed. Access given for less time than
    that is not announced so early.
    """
    days = days_before(unit)
    if not days:
        return 0
    told = 0
    for grant, until in _ending(unit, timedelta(days=days[0])):
        passed = [day for day in days if grant.given_at <= until - timedelta(days=day) <= unit.now]
        if passed and _note(unit, grant.id, until, passed):
            _tell(unit, grant, until)
            told += 1
    return told


def _ending(unit: Unit, within: timedelta) -> Sequence[tuple[Grant, datetime]]:
    """Active grants that end entirely within a span, and for which a reminder is due."""
    other = aliased(Term)
    later = select(other.id).where(
        other.grant_id == Grant.id, or_(other.until.is_(None), other.until > unit.now + within)
    )
    rows = unit.db.execute(
        select(Grant, func.max(Term.until))
        .join(Term, Term.grant_id == Grant.id)
        .where(
            Term.until > unit.now,
            Term.until <= unit.now + within,
            Grant.state == GrantState.ACTIVE,
            Grant.ends_here,
            ~later.exists(),
        )
        .group_by(Grant.id)
        .order_by(Grant.id)
    )
    return [(grant, until) for grant, until in rows if until is not None]


def _note(unit: Unit, grant: UUID, until: datetime, days: Iterable[int]) -> bool:
    """Store reminders in one statement, so two workers don't both send them; returns those that are new."""
    rows = [
        {"organisation_id": unit.viewer.organisation, "grant_id": grant, "until": until, "days": day} for day in days
    ]
    made = insert(EndReminder).values(rows).on_conflict_do_nothing().returning(EndReminder.days)
    return bool(unit.db.scalars(made).all())


def _tell(unit: Unit, grant: Grant, until: datetime) -> None:
    account = unit.db.get_one(Account, grant.account_id)
    ends = end_in_words(until, ZoneInfo(account.time_zone))
    holders = hand_tasks.answering_for_holder(unit, grant)
    sentence = f"Your access to {account.name} runs {ends}. If you need it for longer, ask for more time."
    notices.tell_and_write(unit, holders, "ending", sentence, f"/mine?longer={grant.id}")
    name = lifecycle.holder_name(unit, grant)
    others = {*notices.answerers(unit, account.id), grant.given_by_id} - holders
    sentence = f"{name}’s access to {account.name} runs {ends}. Extend it if it is needed for longer."
    notices.tell_and_write(unit, others, "ending", sentence, f"/accounts/{account.id}?extend={grant.id}")
