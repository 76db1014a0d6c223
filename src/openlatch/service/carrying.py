"""Carrying revocations out: one step at a time, in the system, surviving anything.

Before a step the try is counted and committed; then the system is changed; then the outcome is committed. A
process killed in between leaves a step that is tried again, and every step looks before it acts, so nothing is
done twice. A lock that dies with its connection keeps two workers off the same revocation.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import func, select, update

from openlatch.adapters import Adapter
from openlatch.core import revocation as core
from openlatch.core.words import StepKind, StepState
from openlatch.errors import OpenLatchError, SystemDown, SystemRefused
from openlatch.service import finishing, flags
from openlatch.service.context import Service, Unit, Viewer
from openlatch.service.systems import adapter_for
from openlatch.store.database import alone
from openlatch.store.tables import Account, Grant, Revocation, Step, System

# So many steps of one system are taken, tried and put down together.
MOST_AT_ONCE = 50


@dataclass(frozen=True, slots=True)
class _Task:
    """A step as it is about to be tried."""

    id: UUID
    kind: StepKind
    detail: dict[str, Any]
    account: UUID
    system: UUID
    progress: core.Progress


@dataclass(frozen=True, slots=True)
class _Tried:
    """What came of a step: its progress from an instant on, and what a read showed instead of other steps."""

    task: _Task
    after: Callable[[datetime], core.Progress]
    wrong: dict[UUID, str] = field(default_factory=dict)
    failed: bool = False


def carry_out(service: Service, organisation: UUID, revocation: UUID) -> datetime | None:
    """Carry out every step that is due; gives when to come back, or None when there is nothing to wait for."""
    with alone(service.engine, name_of(revocation)) as only_us, ExitStack() as open_ones:
        if not only_us:
            return None
        viewer = Viewer.itself(organisation)
        adapters: dict[UUID, Adapter] = {}
        while tasks := _take(service, viewer, revocation):
            system = tasks[0].system
            if system not in adapters:
                with service.unit(viewer) as unit:
                    adapters[system] = adapter_for(service, unit.db.get_one(System, system))
                open_ones.enter_context(adapters[system].together())
            _store(service, viewer, revocation, _try(service, viewer, revocation, adapters[system], tasks))
        with service.unit(viewer) as unit:
            return _when_to_come_back(unit, revocation)


def name_of(revocation: UUID) -> str:
    """What carrying out a revocation is called, where only one may do it."""
    return f"carry out {revocation}"


def _tasks(unit: Unit, revocation: UUID, *where: Any) -> list[_Task]:
    rows = unit.db.execute(
        select(Step, Account.system_id)
        .join(Account, Account.id == Step.account_id)
        .where(Step.revocation_id == revocation, *where)
        .order_by(Step.position)
    ).all()
    return [
        _Task(
            step.id,
            StepKind(step.kind),
            step.detail,
            step.account_id,
            system,
            core.Progress(StepState(step.state), step.tries, step.answer, step.next_try_at),
        )
        for step, system in rows
    ]


def _take(service: Service, viewer: Viewer, revocation: UUID) -> list[_Task]:
    """The steps to try now, all of one system, with the try counted; none when none is due."""
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Revocation, revocation, with_for_update=True)
        if row.confirmed_at is not None:
            return []
        tasks = _tasks(unit, revocation, Step.state.not_in(core.OVER))
        due = core.next_due([(t.kind, t.system, t.progress) for t in tasks], unit.now)
        if due is None:
            finishing.finish_if_done(unit, row)
            return []
        taken = list(_together(tasks[due:], unit.now))
        counted = update(Step).where(Step.id.in_([task.id for task in taken])).values(tries=Step.tries + 1)
        unit.db.execute(counted)
    return [
        replace(task, progress=core.Progress(StepState.OPEN, task.progress.tries + 1, task.progress.answer, None))
        for task in taken
    ]


def _together(tasks: Sequence[_Task], now: datetime) -> Iterator[_Task]:
    """The first step, and those of its system that follow it and are due: reading again only by itself."""
    first = tasks[0]
    mine = [task for task in tasks if task.system == first.system and task.progress.state is not StepState.BY_HAND]
    for task in mine[:MOST_AT_ONCE]:
        waits = task.progress.next_try is not None and task.progress.next_try > now
        if waits or (task.kind is StepKind.READ_AGAIN) != (first.kind is StepKind.READ_AGAIN):
            return
        yield task


def _try(service: Service, viewer: Viewer, revocation: UUID, adapter: Adapter, tasks: Sequence[_Task]) -> list[_Tried]:
    """Try steps in their order, up to the first that does not go through; those behind it were not tried."""
    others: dict[UUID, list[_Task]] = {}
    if tasks[0].kind is StepKind.READ_AGAIN:
        with service.unit(viewer) as unit:
            accounts = [task.account for task in tasks]
            for other in _tasks(unit, revocation, Step.account_id.in_(accounts), Step.kind.not_in(_NOT_SEEN)):
                if other.progress.state is not StepState.SKIPPED:
                    others.setdefault(other.account, []).append(other)
    tried: list[_Tried] = []
    for task in tasks:
        tried.append(_tried(adapter, task, others.get(task.account, ())))
        if tried[-1].failed:
            break
    return tried


# What reading again can't tell: what people did, and reading itself.
_NOT_SEEN = (StepKind.BY_HAND, StepKind.READ_AGAIN)


def _tried(adapter: Adapter, task: _Task, others: Sequence[_Task]) -> _Tried:
    wrong: dict[UUID, str] = {}
    try:
        if task.kind is StepKind.READ_AGAIN:
            for other in others:
                shown = adapter.confirm(other.kind, other.detail)
                if shown is not None:
                    wrong[other.id] = shown
            answer = "Read again: it is gone." if not wrong else "; ".join(dict.fromkeys(wrong.values()))
        else:
            answer = adapter.apply(task.kind, task.detail)
    except (SystemDown, SystemRefused) as error:
        said = _words(error)
        return _Tried(task, lambda now: core.failed(task.progress, said, now), failed=True)
    if wrong:
        return _Tried(task, lambda now: core.failed(task.progress, answer, now), wrong)
    return _Tried(task, lambda now: core.succeeded(task.progress, answer))


def _words(error: OpenLatchError) -> str:
    return f"{error.detail} {error.remedy}".strip()


def _store(service: Service, viewer: Viewer, revocation: UUID, tried: Sequence[_Tried]) -> None:
    """Commit what came of steps; what is proved by it is finished in the same transaction."""
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Revocation, revocation, with_for_update=True)
        ids = {one.task.id for one in tried} | {ident for one in tried for ident in one.wrong}
        rows = unit.db.scalars(select(Step).where(Step.id.in_(ids)).order_by(Step.id).with_for_update())
        steps = {step.id: step for step in rows.all()}
        for one in tried:
            _reopen(unit, [(steps[ident], shown) for ident, shown in one.wrong.items()])
            step = steps[one.task.id]
            if step.state == StepState.SKIPPED:
                continue
            progress = one.after(unit.now)
            done = progress.state is StepState.DONE
            step.state, step.answer, step.next_try_at = progress.state, progress.answer, progress.next_try
            step.done_at = unit.now if done else None
            action = "step.done" if done else "step.waits"
            unit.record(action, "step", step.id, step.sentence, step.account_id, answer=step.answer, tries=step.tries)
        unit.db.flush()
        finishing.finish_if_done(unit, row)


def _reopen(unit: Unit, wrong: Sequence[tuple[Step, str]]) -> None:
    """A read contradicts steps that were done: they are open again, and what they should have ended is flagged."""
    grants = []
    for step, shown in wrong:
        progress = core.contradicted(core.Progress(StepState(step.state), step.tries), shown, unit.now)
        step.state, step.answer, step.next_try_at = progress.state, progress.answer, progress.next_try
        step.done_at = None
        unit.record("step.contradicted", "step", step.id, step.sentence, step.account_id, answer=step.answer)
        if step.grant_id is not None:
            grants.append(step.grant_id)
    if grants:
        unit.db.execute(update(Grant).where(Grant.id.in_(grants)).values(contradicted_at=unit.now))
        flags.evaluate(unit, grants=grants)


def _when_to_come_back(unit: Unit, revocation: UUID) -> datetime | None:
    return unit.db.scalar(select(func.min(Step.next_try_at)).where(Step.revocation_id == revocation))


def unfinished(unit: Unit) -> list[UUID]:
    """Revocations with a step that is due now, for a worker that looks round."""
    due = select(Step.revocation_id).where(
        (Step.state == StepState.OPEN) | ((Step.state == StepState.WAITING) & (Step.next_try_at <= unit.now))
    )
    return list(unit.db.scalars(due.distinct()))
