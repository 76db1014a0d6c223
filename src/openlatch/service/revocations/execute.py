"""Carrying revocations out, one step at a time, so that a crash at any point does no harm.

Before a step the try is counted and committed; then the system is changed; then the outcome is committed. If the
process dies in between, the step is tried again; every step looks before it acts, so nothing is done twice. An advisory
lock, which ends with its connection, keeps two workers off the same revocation.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from datetime import datetime
from itertools import takewhile
from uuid import UUID

from sqlalchemy import exists, select, update
from sqlalchemy.orm import aliased

from openlatch.adapters import Adapter
from openlatch.core import retries
from openlatch.core.revocations import step_states
from openlatch.core.vocabulary import StepKind, StepState
from openlatch.errors import OpenLatchError, SystemDown, SystemRefused
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.connections import adapter_for
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import provisioning
from openlatch.service.revocations import confirm, transitions
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import alone
from openlatch.store.due import is_over
from openlatch.store.tables import Account, Grant, Revocation, Step, System

before, of_before, of_step = aliased(Step), aliased(Account), aliased(Account)
# Steps of one system that are taken, tried and stored together.
MOST_AT_ONCE = 50


@dataclass(frozen=True, slots=True)
class _Task:
    """A step to be tried; for reading again, with the steps whose effect is checked."""

    id: UUID
    kind: StepKind
    detail: JsonObject
    account: UUID
    system: UUID
    progress: step_states.Progress
    others: tuple[tuple[UUID, StepKind, JsonObject], ...] = ()


@dataclass(frozen=True, slots=True)
class _Tried:
    """What came of a step: the answer, whether it ``failed``, and what a reading showed instead of other steps."""

    task: _Task
    answer: str
    failed: bool = False
    wrong: dict[UUID, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class _Turn:
    """The steps to try now, all of one system; or, without any, when to come back."""

    tasks: list[_Task] = field(default_factory=list)
    back: datetime | None = None


def carry_out(service: Service, organisation: UUID, revocation: UUID) -> datetime | None:
    """Carry out every due step; returns when to come back, or None when there is nothing to wait for."""
    with alone(service.engine, name_of(revocation)) as only_us, ExitStack() as open_ones:
        if not only_us:
            return None
        viewer = Viewer.itself(organisation)
        adapters: dict[UUID, Adapter] = {}
        opened: set[UUID] = set()
        tried: Sequence[_Tried] = ()
        while True:
            # Lease the grants of the steps until they were tried, so that nobody gives them meanwhile.
            with ExitStack() as leases:
                turn = _next(service, viewer, revocation, adapters, open_ones, leases, tried)
                if not turn.tasks:
                    return turn.back
                system = turn.tasks[0].system
                if system not in opened:
                    opened.add(system)
                    open_ones.enter_context(adapters[system].together())
                tried = _try(adapters[system], turn.tasks)


def name_of(revocation: UUID) -> str:
    """The name of the advisory lock for carrying out a revocation."""
    return f"carry out {revocation}"


def _next(
    service: Service,
    viewer: Viewer,
    revocation: UUID,
    adapters: dict[UUID, Adapter],
    rooms: ExitStack,
    leases: ExitStack,
    tried: Sequence[_Tried] = (),
) -> _Turn:
    """Commit the outcome of the tried steps, and take the next ones, with their try counted.

    What is proved is finished in the same transaction. The revocation's lock covers all its steps.
    """
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Revocation, revocation, with_for_update=True)
        if row.settled_at is not None:
            return _Turn()
        steps = {
            step.id: (step, system)
            for step, system in unit.db.execute(
                select(Step, System)
                .join(Account, Account.id == Step.account_id)
                .join(System, System.id == Account.system_id)
                .where(Step.revocation_id == revocation)
                .order_by(Step.position)
            )
        }
        own = [step for step, _ in steps.values()]
        _store(unit, steps, tried)
        if tried and confirm.finish_if_done(unit, row, own):
            return _Turn()
        tasks = [_task(step, system.id) for step, system in steps.values() if step.state not in step_states.OVER]
        due = step_states.next_due([(t.kind, t.system, t.progress) for t in tasks], unit.now)
        if due is None:
            confirm.finish_if_done(unit, row, own)
            waits = [step.next_try_at for step in own if step.next_try_at is not None]
            return _Turn(back=min(waits, default=None))
        wanted = list(_together(tasks[due:], unit.now))
        grants = {steps[task.id][0].grant_id for task in wanted} - {None}
        leased = {None, *leases.enter_context(locks.lease_on_grants(service, sorted(g for g in grants if g)))}
        system = wanted[0].system
        if system not in adapters and not rooms.enter_context(service.rooms.enter(system)):
            return _Turn(back=unit.now + provisioning.AGAIN_AFTER)
        free = takewhile(lambda task: steps[task.id][0].grant_id in leased, wanted)
        taken = [_counted(steps[task.id][0], task, own) for task in free]
        if not taken:
            return _Turn(back=unit.now + provisioning.AGAIN_AFTER)
        if system not in adapters:
            adapters[system] = adapter_for(service, unit.db.get_one(System, system))
    return _Turn(taken)


def _task(step: Step, system: UUID) -> _Task:
    return _Task(step.id, StepKind(step.kind), step.detail, step.account_id, system, transitions.progress_of(step))


def _counted(step: Step, task: _Task, own: Sequence[Step]) -> _Task:
    """A step with one more try counted."""
    transitions.write(step, step_states.tried(task.progress))
    seen: tuple[tuple[UUID, StepKind, JsonObject], ...] = ()
    if task.kind is StepKind.READ_AGAIN:
        seen = tuple(
            (other.id, StepKind(other.kind), other.detail)
            for other in own
            if other.account_id == task.account and other.kind not in _NOT_SEEN and other.state != StepState.SKIPPED
        )
    return replace(task, others=seen)


def _together(tasks: Sequence[_Task], now: datetime) -> Iterator[_Task]:
    """The first step, and the due ones of its system that follow it."""
    mine = [task for task in tasks if task.system == tasks[0].system and task.progress.state is not StepState.BY_HAND]
    yield from takewhile(lambda task: retries.is_due(task.progress.next_try, now), mine[:MOST_AT_ONCE])


def _try(adapter: Adapter, tasks: Sequence[_Task]) -> list[_Tried]:
    """Try steps in order, up to the first that fails; those after it are not tried."""
    tried: list[_Tried] = []
    for task in tasks:
        tried.append(_tried(adapter, task))
        if tried[-1].failed:
            break
    return tried


# Kinds that reading again can't check.
_NOT_SEEN = (StepKind.BY_HAND, StepKind.READ_AGAIN)


def _tried(adapter: Adapter, task: _Task) -> _Tried:
    wrong: dict[UUID, str] = {}
    try:
        if task.kind is StepKind.READ_AGAIN:
            for ident, kind, detail in task.others:
                shown = adapter.confirm(kind, detail)
                if shown is not None:
                    wrong[ident] = shown
            answer = "Read again: it is gone." if not wrong else "; ".join(dict.fromkeys(wrong.values()))
        else:
            answer = adapter.apply(task.kind, task.detail)
    except (SystemDown, SystemRefused) as error:
        return _Tried(task, _words(error), failed=True)
    return _Tried(task, answer, wrong=wrong)


def _words(error: OpenLatchError) -> str:
    return f"{error.detail} {error.remedy}".strip()


def _store(unit: Unit, steps: Mapping[UUID, tuple[Step, System]], tried: Sequence[_Tried]) -> None:
    """Store what came of steps, and journal it; one that somebody skipped meanwhile stays skipped."""
    for one in tried:
        _reopen(unit, [(steps[ident][0], shown) for ident, shown in one.wrong.items()])
        step, system = steps[one.task.id]
        if step.state == StepState.SKIPPED:
            continue
        before = transitions.progress_of(step)
        if one.failed or one.wrong:
            transitions.write(step, step_states.failed(before, one.answer, unit.now))
            action = "step.waits"
        else:
            transitions.write(step, step_states.succeeded(before, one.answer, system.name, unit.now))
            action = "step.done"
        unit.record(action, "step", step.id, step.sentence, step.account_id, answer=step.answer, tries=step.tries)
    unit.db.flush()


def _reopen(unit: Unit, wrong: Sequence[tuple[Step, str]]) -> None:
    """A reading contradicts steps that were done: they are carried out again, and what they should end is flagged."""
    grants = []
    for step, shown in wrong:
        if step.state == StepState.SKIPPED:
            continue
        transitions.write(step, step_states.contradicted(transitions.progress_of(step), shown, unit.now))
        unit.record("step.contradicted", "step", step.id, step.sentence, step.account_id, answer=step.answer)
        if step.grant_id is not None:
            grants.append(step.grant_id)
    if grants:
        unit.db.execute(update(Grant).where(Grant.id.in_(grants)).values(contradicted_at=unit.now))
        evaluate_flags.evaluate(unit, noted=grants)


def unfinished(unit: Unit) -> list[UUID]:
    """Revocations with a step that is due now."""
    holds_up = exists().where(
        before.revocation_id == Step.revocation_id,
        before.position < Step.position,
        before.state == StepState.WAITING,
        ~is_over(before.next_try_at, unit.now),
        of_before.id == before.account_id,
        of_step.id == Step.account_id,
        of_before.system_id == of_step.system_id,
    )
    due = select(Step.revocation_id).where(
        (Step.state == StepState.OPEN) | ((Step.state == StepState.WAITING) & is_over(Step.next_try_at, unit.now)),
        ~holds_up,
    )
    return list(unit.db.scalars(due.distinct()))
