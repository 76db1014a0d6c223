"""The states of a revocation's step, and which may follow which.

Plain values: ``service.revocations.transitions`` reads them from rows and writes them there.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from uuid import UUID

from openlatch.core import retries
from openlatch.core.states import Table, move
from openlatch.core.vocabulary import StepKind, StepState
from openlatch.errors import Conflict

STEPS: Table[StepState] = {
    StepState.OPEN: frozenset({StepState.DONE, StepState.WAITING, StepState.SKIPPED}),
    StepState.WAITING: frozenset({StepState.DONE, StepState.WAITING, StepState.SKIPPED}),
    StepState.BY_HAND: frozenset({StepState.DONE, StepState.SKIPPED}),
    # A later reading can contradict what was done.
    StepState.DONE: frozenset({StepState.WAITING}),
    StepState.SKIPPED: frozenset(),
}
OVER = (StepState.DONE, StepState.SKIPPED)


@dataclass(frozen=True, slots=True)
class Progress:
    """Where a step is: its state, how often it was tried, what was last answered, when to try again.

    Once it is over, ``by`` is the system that answered, or the person who did or skipped it, and ``at`` is when.
    """

    state: StepState
    tries: int = 0
    answer: str = ""
    next_try: datetime | None = None
    by: str = ""
    at: datetime | None = None


def tried(before: Progress) -> Progress:
    """The step with one more try counted. Counted before the system is asked, so that no try is forgotten."""
    return replace(before, tries=before.tries + 1)


def succeeded(before: Progress, answer: str, system: str, now: datetime) -> Progress:
    """The step after its system did it, or showed that it was done already."""
    return Progress(_to(before, StepState.DONE), before.tries, answer, None, system, now)


def failed(before: Progress, answer: str, now: datetime) -> Progress:
    """The step after a try that did not go through: it waits, longer each time, and is never given up."""
    return Progress(_to(before, StepState.WAITING), before.tries, answer, now + retries.wait_after(before.tries))


def contradicted(before: Progress, answer: str, now: datetime) -> Progress:
    """A step after a reading showed that the system did not keep to it: it is carried out again."""
    state = _to(before, StepState.WAITING)
    return Progress(state, before.tries, f"Contradicted by a read: {answer}", now + retries.wait_after(1))


def done_by_hand(before: Progress, person: str, words: str, now: datetime) -> Progress:
    """A step that ``person`` says they did. Conflict when it does not wait for hands."""
    if before.state is not StepState.BY_HAND:
        raise Conflict(f"The step is {before.state}; it does not wait for hands.", "Look at it again.")
    state = _to(before, StepState.DONE)
    return Progress(state, before.tries + 1, f"{person} says: {words}", None, person, now)


def skipped(before: Progress, person: str, reason: str, now: datetime) -> Progress:
    """A step that ``person`` says will not be done. Conflict when it is over already."""
    if before.state in OVER:
        raise Conflict(f"The step is {before.state} already.", "Look at it again.")
    return _left_out(before, person, f"Skipped by {person}: {reason}", now)


def undone(before: Progress, person: str, reason: str, now: datetime) -> Progress:
    """A step that is left out because ``person`` undid its revocation; one that is over stays as it is."""
    if before.state in OVER:
        return before
    return _left_out(before, person, f"Undone by {person}: {reason}", now)


def _left_out(before: Progress, person: str, answer: str, now: datetime) -> Progress:
    return Progress(_to(before, StepState.SKIPPED), before.tries, answer, None, person, now)


def _to(before: Progress, then: StepState) -> StepState:
    return move(STEPS, "step", before.state, then)


def next_due(steps: Sequence[tuple[StepKind, UUID | None, Progress]], now: datetime) -> int | None:
    """The index of the step to carry out now, or None when all are done or the next ones have to wait.

    Each step comes with its system. Steps of one system run in order, so one that waits holds up those behind
    it there; other systems go on. A step that waits for hands holds up nothing.
    """
    held_up: set[UUID | None] = set()
    for index, (_, system, progress) in enumerate(steps):
        if progress.state in (*OVER, StepState.BY_HAND) or system in held_up:
            continue
        if progress.state is StepState.WAITING and not retries.is_due(progress.next_try, now):
            held_up.add(system)
            continue
        return index
    return None


def is_finished(progress: Iterable[Progress]) -> bool:
    """Whether every step is done, or skipped by somebody who said why."""
    return all(p.state in OVER for p in progress)
