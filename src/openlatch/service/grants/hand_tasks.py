"""Tasks by hand, for systems that nobody here can change: assigned, reminded of, reported done."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from uuid import UUID

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.vocabulary import GrantState, Owed, Standing
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.lists import offers
from openlatch.store.tables import Account, Grant, HandTask, Person, Team

REMIND_AFTER = timedelta(days=2)
WAITS = "Waits for a person to do it there by hand."


def ask(unit: Unit, grant: Grant, account: Account, owed: Owed, sentence: str) -> None:
    """Create a task for whoever answers for the account; an earlier task for the same grant is dropped."""
    drop(unit, [grant.id])
    row = HandTask(
        organisation_id=grant.organisation_id,
        grant_id=grant.id,
        account_id=account.id,
        kind=owed,
        sentence=sentence,
        assigned_to_id=account.owner_id,
        asked_at=unit.now,
    )
    unit.db.add(row)
    grant.owed, grant.owed_since, grant.owed_answer, grant.owed_next_try_at = owed, unit.now, WAITS, None
    unit.db.flush()
    unit.record("task.asked", "task", row.id, sentence, account.id)
    notices.tell_and_write(
        unit, notices.answerers(unit, account.id), "task", f"To be done by hand: {sentence}", "/tasks"
    )


def drop(unit: Unit, grants: Sequence[UUID]) -> None:
    """Drop the open tasks of grants."""
    waiting = select(HandTask).where(
        HandTask.grant_id.in_(grants), HandTask.done_at.is_(None), HandTask.dropped_at.is_(None)
    )
    for row in unit.db.scalars(waiting.order_by(HandTask.id).with_for_update()):
        row.dropped_at, row.version = unit.now, row.version + 1
        unit.record("task.dropped", "task", row.id, row.sentence, row.account_id)


def one(unit: Unit, ident: UUID) -> schemas.TaskRow:
    """A task. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = offers.HAND_TASKS.one(unit.db, ident, [unit.sight.hand_tasks()])
    if row is None:
        raise NotFound("There is no such task, or you may not see it.")
    return schemas.TaskRow.model_validate(row)


def _open(unit: Unit, ident: UUID, version: int | None) -> tuple[HandTask, Grant]:
    one(unit, ident)
    # Lock the grant first, as everywhere.
    grant_id = unit.db.scalars(select(HandTask.grant_id).where(HandTask.id == ident)).one()
    grant = unit.db.get_one(Grant, grant_id, with_for_update=True, populate_existing=True)
    row = unit.db.get_one(HandTask, ident, with_for_update=True, populate_existing=True)
    if row.done_at is not None:
        raise Conflict(f"{row.done_by} has said already that it is done.", "There is nothing more to do.")
    if row.dropped_at is not None:
        raise Conflict("It has not to be done any more.", "Look at the grant as it is now.")
    if version is not None and version != row.version:
        raise Conflict("The task was changed meanwhile.", "Look at it again.")
    return row, grant


def done(unit: Unit, ident: UUID, words: str, version: int | None) -> schemas.TaskRow:
    """Report a task as done, in one's own words. The register relies on it, and says whose word it is."""
    require_words(words, "What was done is missing.", "Say in a few words what you did.", "words")
    row, grant = _open(unit, ident, version)
    row.done_at, row.done_by, row.words, row.version = unit.now, unit.viewer.name, words.strip(), row.version + 1
    grant.owed, grant.owed_answer = None, f"Stated by {unit.viewer.name}: {row.words}"
    grant.version += 1
    unit.record("task.done", "task", row.id, row.sentence, row.account_id, words=row.words)
    action = "grant.taken_there" if row.kind == Owed.TAKE else "grant.given_there"
    place = unit.db.get_one(Account, row.account_id).name
    unit.record(action, "grant", grant.id, place, row.account_id, stated_by=unit.viewer.name, words=row.words)
    unit.db.flush()
    evaluate_flags.evaluate(unit, noted=[grant.id])
    if grant.state == GrantState.ACTIVE and row.kind != Owed.TAKE:
        set_up = "set up" if row.kind == Owed.GIVE else "changed as agreed"
        sentence = f"Your access to {place} is {set_up} there, says {unit.viewer.name}: {row.words}"
        notices.tell_and_write(
            unit, answering_for_holder(unit, grant) - {unit.viewer.person}, "grant", sentence, "/mine"
        )
    return one(unit, ident)


def assign(unit: Unit, ident: UUID, person: UUID | None, version: int | None) -> schemas.TaskRow:
    """Assign a task; nobody means whoever answers for the account."""
    row, _ = _open(unit, ident, version)
    unit.sight.require_answers_for(row.account_id)
    found = unit.seen_person(person) if person is not None else None
    if person is not None and (found is None or found.standing == Standing.LEFT):
        raise BadInput("There is no such person, or they have left.", "Choose another.", {"person": "unknown"})
    row.assigned_to_id, row.version = person, row.version + 1
    unit.record("task.assigned", "task", row.id, row.sentence, row.account_id, to=found.name if found else None)
    if found is not None and found.id != unit.viewer.person:
        sentence = f"{unit.viewer.name} asks you to do by hand: {row.sentence}"
        notices.tell_and_write(unit, [found.id], "task", sentence, "/tasks")
    return one(unit, ident)


def remind(unit: Unit) -> int:
    """Remind people of open tasks; returns the number of tasks. Called by the worker."""
    last = func.coalesce(HandTask.reminded_at, HandTask.asked_at)
    due = select(HandTask).where(
        HandTask.done_at.is_(None), HandTask.dropped_at.is_(None), last <= unit.now - REMIND_AFTER
    )
    rows = unit.db.scalars(due.order_by(HandTask.id).limit(200).with_for_update(skip_locked=True)).all()
    for row in rows:
        row.reminded_at = unit.now
        assigned = unit.db.get(Person, row.assigned_to_id) if row.assigned_to_id else None
        is_there = assigned is not None and assigned.standing != Standing.LEFT
        told = {row.assigned_to_id} if is_there else notices.answerers(unit, row.account_id)
        notices.tell_and_write(unit, told, "task", f"Still to be done by hand: {row.sentence}", "/tasks")
    return len(rows)


def answering_for_holder(unit: Unit, grant: Grant) -> set[UUID | None]:
    """Who is notified about a grant: its holder, or the team's speaker."""
    if grant.team_id is not None:
        return {unit.db.get_one(Team, grant.team_id).speaker_id}
    return {grant.person_id}
