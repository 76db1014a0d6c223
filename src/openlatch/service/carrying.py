"""Carrying revocations out: one step at a time, in the system, surviving anything.

Before a step the try is counted and committed; then the system is changed; then the outcome is committed. A
process killed in between leaves a step that is tried again, and every step looks before it acts, so nothing is
done twice. A lock that dies with its connection keeps two workers off the same revocation.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import select

from openlatch.core import revocation as core
from openlatch.core.words import StepKind, StepState
from openlatch.errors import OpenLatchError, SystemDown, SystemRefused
from openlatch.service import finishing, flags
from openlatch.service.context import Service, Unit, Viewer
from openlatch.service.systems import adapter_for
from openlatch.store.database import alone
from openlatch.store.tables import Account, Grant, Revocation, Step, System


@dataclass(frozen=True, slots=True)
class _Task:
    """A step as it is about to be tried."""

    id: UUID
    kind: StepKind
    detail: dict[str, Any]
    account: UUID
    system: UUID
    progress: core.Progress


def carry_out(service: Service, organisation: UUID, revocation: UUID) -> datetime | None:
    """Carry out every step that is due; gives when to come back, or None when there is nothing to wait for."""
    with alone(service.engine, name_of(revocation)) as only_us:
        if not only_us:
            return None
        viewer = Viewer.itself(organisation)
        while (task := _take(service, viewer, revocation)) is not None:
            _try(service, viewer, revocation, task)
        with service.unit(viewer) as unit:
            return _when_to_come_back(unit, revocation)


def name_of(revocation: UUID) -> str:
    """What carrying out a revocation is called, where only one may do it."""
    return f"carry out {revocation}"


def _tasks(unit: Unit, revocation: UUID) -> list[_Task]:
    rows = unit.db.execute(
        select(Step, Account.system_id)
        .join(Account, Account.id == Step.account_id)
        .where(Step.revocation_id == revocation)
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


def _take(service: Service, viewer: Viewer, revocation: UUID) -> _Task | None:
    """The step to try now, with the try counted; None when there is none that is due."""
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Revocation, revocation, with_for_update=True)
        if finishing.finish_if_done(unit, row):
            return None
        tasks = _tasks(unit, revocation)
        due = core.next_due([(t.kind, t.system, t.progress) for t in tasks], unit.now)
        if due is None:
            return None
        step = unit.db.get_one(Step, tasks[due].id)
        step.tries += 1
        task = tasks[due]
        progress = core.Progress(StepState.OPEN, step.tries, task.progress.answer, None)
        return _Task(task.id, task.kind, task.detail, task.account, task.system, progress)


def _try(service: Service, viewer: Viewer, revocation: UUID, task: _Task) -> None:
    with service.unit(viewer) as unit:
        adapter = adapter_for(service, unit.db.get_one(System, task.system))
        others = [t for t in _tasks(unit, revocation) if t.account == task.account and _is_seen(t)]
    wrong: dict[UUID, str] = {}
    try:
        if task.kind is StepKind.READ_AGAIN:
            for other in others:
                shown = None if other.kind is StepKind.READ_AGAIN else adapter.confirm(other.kind, other.detail)
                if shown is not None:
                    wrong[other.id] = shown
            answer = "Read again: it is gone." if not wrong else "; ".join(dict.fromkeys(wrong.values()))
        else:
            answer = adapter.apply(task.kind, task.detail)
    except (SystemDown, SystemRefused) as error:
        said = _words(error)
        _store(service, viewer, revocation, task, lambda now: core.failed(task.progress, said, now))
        return
    if wrong:
        _reopen(service, viewer, wrong)
        _store(service, viewer, revocation, task, lambda now: core.failed(task.progress, answer, now))
    else:
        _store(service, viewer, revocation, task, lambda now: core.succeeded(task.progress, answer))


def _is_seen(task: _Task) -> bool:
    """Whether reading again can tell that a step was done: not what people did, or said that they will not do."""
    return task.kind is not StepKind.BY_HAND and task.progress.state is not StepState.SKIPPED


def _words(error: OpenLatchError) -> str:
    return f"{error.detail} {error.remedy}".strip()


def _store(service: Service, viewer: Viewer, revocation: UUID, task: _Task, after: Any) -> None:
    """Commit what came of a try; when it was the last step, the revocation is finished in the same transaction."""
    with service.unit(viewer) as unit:
        row = unit.db.get_one(Revocation, revocation, with_for_update=True)
        step = unit.db.get_one(Step, task.id, with_for_update=True)
        if step.state == StepState.SKIPPED:
            return
        progress: core.Progress = after(unit.now)
        done = progress.state is StepState.DONE
        step.state, step.answer, step.next_try_at = progress.state, progress.answer, progress.next_try
        step.done_at = unit.now if done else None
        action = "step.done" if done else "step.waits"
        unit.record(action, "step", step.id, step.sentence, step.account_id, answer=step.answer, tries=step.tries)
        unit.db.flush()
        finishing.finish_if_done(unit, row)


def _reopen(service: Service, viewer: Viewer, wrong: dict[UUID, str]) -> None:
    """A read contradicts steps that were done: they are open again."""
    with service.unit(viewer) as unit:
        for ident, shown in wrong.items():
            step = unit.db.get_one(Step, ident, with_for_update=True)
            progress = core.contradicted(core.Progress(StepState(step.state), step.tries), shown, unit.now)
            step.state, step.answer, step.next_try_at = progress.state, progress.answer, progress.next_try
            step.done_at = None
            unit.record("step.contradicted", "step", step.id, step.sentence, step.account_id, answer=step.answer)
            if step.grant_id is not None:
                unit.db.get_one(Grant, step.grant_id, with_for_update=True).contradicted_at = unit.now
                flags.evaluate(unit, grants=[step.grant_id])


def _when_to_come_back(unit: Unit, revocation: UUID) -> datetime | None:
    waiting = [t.progress.next_try for t in _tasks(unit, revocation) if t.progress.next_try is not None]
    return min(waiting, default=None)


def unfinished(unit: Unit) -> list[UUID]:
    """Revocations with a step that is due now, for a worker that looks round."""
    due = select(Step.revocation_id).where(
        (Step.state == StepState.OPEN) | ((Step.state == StepState.WAITING) & (Step.next_try_at <= unit.now))
    )
    return list(unit.db.scalars(due.distinct()))
