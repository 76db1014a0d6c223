"""Where a revocation and its steps change state. Nothing else writes these columns.

Which state may follow which is decided in ``core.revocations.step_states``, and how an end is known in
``core.revocations.proof``. Whoever calls this holds the revocation's lock, which is that of all its steps.
"""

from __future__ import annotations

from collections.abc import Collection
from uuid import UUID

from openlatch.core.revocations import proof
from openlatch.core.revocations.plan import PlannedStep
from openlatch.core.revocations.step_states import Progress
from openlatch.core.vocabulary import Proof, StepKind, StepState
from openlatch.service.unit import Unit
from openlatch.store.tables import Revocation, Step


def progress_of(step: Step) -> Progress:
    """Where a stored step is."""
    return Progress(StepState(step.state), step.tries, step.answer, step.next_try_at, step.done_by, step.done_at)


def write(step: Step, progress: Progress) -> None:
    """Store where a step is now."""
    step.state, step.tries, step.answer = progress.state, progress.tries, progress.answer
    step.next_try_at, step.done_by, step.done_at = progress.next_try, progress.by, progress.at


def new_step(unit: Unit, revocation: UUID, position: int, planned: PlannedStep) -> Step:
    """A planned step as a row, which is not added yet."""
    return Step(
        organisation_id=unit.viewer.organisation,
        revocation_id=revocation,
        position=position,
        kind=planned.kind,
        account_id=planned.account,
        grant_id=planned.grant,
        session_id=planned.session,
        sentence=planned.sentence,
        detail=planned.detail or {},
        state=StepState.BY_HAND if planned.kind is StepKind.BY_HAND else StepState.OPEN,
    )


def settle(unit: Unit, revocation: Revocation, ends: Collection[Proof]) -> str:
    """Nothing is left to do. Gives the action for the journal.

    ``ends`` is how each of its ends is known: it is confirmed only when there are any and all of them are.
    """
    revocation.settled_at = unit.now
    if proof.weakest(ends) is not Proof.CONFIRMED:
        return "revocation.settled"
    revocation.confirmed_at = unit.now
    return "revocation.confirmed"


def unconfirm(revocation: Revocation) -> None:
    """One of its ends is contradicted."""
    revocation.confirmed_at = None


def mark_undone(unit: Unit, revocation: Revocation) -> None:
    """Somebody undid it: nothing is left to do, and nothing is confirmed by that."""
    revocation.undone_at, revocation.undone_by_id = unit.now, unit.viewer.person
    revocation.settled_at = revocation.settled_at or unit.now
