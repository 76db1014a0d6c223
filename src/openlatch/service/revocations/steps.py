"""One revocation with its steps, and what people do with steps: try again now, done by hand, skipped."""

from __future__ import annotations

from typing import cast
from uuid import UUID

from sqlalchemy import select, update

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.revocations import step_states
from openlatch.core.vocabulary import Proof, StepKind, StepState
from openlatch.errors import Conflict, NotFound
from openlatch.service.grants import lifecycle
from openlatch.service.revocations import confirm, transitions
from openlatch.service.unit import Unit
from openlatch.store.lists.register import REVOCATIONS
from openlatch.store.tables import Account, Grant, Resource, Revocation, RevocationTarget, Session, Step


def page(unit: Unit, ident: UUID) -> schemas.RevocationPage:
    """A revocation with its preview and its steps. NotFound when the viewer may not see it."""
    unit.db.flush()
    row = REVOCATIONS.one(unit.db, ident, [unit.sight.revocations()])
    if row is None:
        raise NotFound("There is no such revocation, or you may not see it.")
    steps = unit.db.scalars(select(Step).where(Step.revocation_id == ident).order_by(Step.position)).all()
    stored = unit.db.get_one(Revocation, ident)
    shown = [_step_shown(step, confirm.step_proof(step, steps)) for step in steps]
    return schemas.RevocationPage.model_validate(
        {**row, "preview": stored.preview, "step_list": shown, "ends": _ends(unit, ident)}
    )


def _step_shown(step: Step, proof: Proof | None) -> schemas.StepRow:
    names = ("id", "position", "kind", "sentence", "state", "tries", "answer", "next_try_at", "done_at", "done_by")
    return schemas.StepRow.model_validate({**{name: getattr(step, name) for name in names}, "proof": proof})


def _ends(unit: Unit, ident: UUID) -> list[schemas.End]:
    """Each end of a revocation, with how it is known; nothing is known while it is being carried out."""
    rows = unit.db.execute(
        select(RevocationTarget, Account.name, Session.device, Resource.name.label("part"), Grant)
        .join(Account, Account.id == RevocationTarget.account_id)
        .outerjoin(Grant, Grant.id == RevocationTarget.grant_id)
        .outerjoin(Session, Session.id == RevocationTarget.session_id)
        .outerjoin(Resource, Resource.id == RevocationTarget.resource_id)
        .where(RevocationTarget.revocation_id == ident)
        .order_by(Account.name, RevocationTarget.id)
    )
    return [
        schemas.End(
            kind="grant" if grant is not None else "session" if target.session_id else "exposure",
            what=f"{lifecycle.holder_name(unit, grant)} on {account}"
            if grant is not None
            else f"session on {device or 'an unknown device'} in {account}"
            if target.session_id
            else f"{part} in {account}"
            if part
            else f"the access rule “{(target.was or {}).get('rule', '')}” of {account}",
            proof=cast("schemas.Proof | None", target.proof),
            proved_at=target.proved_at,
            proved_by=target.proved_by,
            words=target.proof_words,
        )
        for target, account, device, part, grant in rows
    ]


def retry(unit: Unit, ident: UUID) -> None:
    """Try the waiting steps of a revocation now instead of later."""
    require(unit, ident)
    _lock(unit, ident)
    waiting = update(Step).where(Step.revocation_id == ident, Step.state == StepState.WAITING)
    unit.db.execute(waiting.values(next_try_at=unit.now))
    unit.wake("carry_out", revocation=ident)


def done_by_hand(unit: Unit, ident: UUID, step_id: UUID, proof: str) -> None:
    """Report a step by hand as done, and what was seen. Conflict when it does not wait for that."""
    require(unit, ident)
    require_words(proof, "Say what was done.", "Write what you did and what you saw.", "proof")
    revocation = _lock(unit, ident)
    step = unit.db.get(Step, step_id)
    if step is None or step.revocation_id != ident:
        raise NotFound("This revocation has no such step.")
    before = transitions.progress_of(step)
    transitions.write(step, step_states.done_by_hand(before, unit.viewer.name, proof.strip(), unit.now))
    unit.record("step.done", "step", step.id, step.sentence, step.account_id, answer=step.answer, by_hand=True)
    unit.db.flush()
    confirm.finish_if_done(unit, revocation)


def _lock(unit: Unit, ident: UUID) -> Revocation:
    """Lock a revocation, and with it all its steps, which are read again."""
    locked = unit.db.get_one(Revocation, ident, with_for_update=True)
    unit.db.expire_all()
    return locked


def require(unit: Unit, ident: UUID) -> None:
    """Only whoever answers for every account concerned may help a revocation along."""
    page(unit, ident)
    accounts = select(RevocationTarget.account_id).where(RevocationTarget.revocation_id == ident).distinct()
    for account in unit.db.scalars(accounts):
        unit.sight.require_answers_for(account)


def skip(unit: Unit, ident: UUID, step_id: UUID, reason: str) -> None:
    """Report that a step will not be done, and why. What it would have ended is then not proved.

    Conflict for one that is done, and for reading again, which is the proof.
    """
    require(unit, ident)
    require_words(reason, "Skipping a step needs a reason.", "Say why it will not be done.")
    revocation = _lock(unit, ident)
    step = unit.db.get(Step, step_id)
    if step is None or step.revocation_id != ident:
        raise NotFound("This revocation has no such step.")
    after = step_states.skipped(transitions.progress_of(step), unit.viewer.name, reason.strip(), unit.now)
    others = select(Step).where(Step.revocation_id == ident, Step.account_id == step.account_id, Step.id != step.id)
    if step.kind == StepKind.READ_AGAIN and any(
        other.kind != StepKind.BY_HAND and other.state != StepState.SKIPPED for other in unit.db.scalars(others)
    ):
        raise Conflict(
            "Reading again is what proves that access is gone.", "Skip the steps that can't be done; then it asks less."
        )
    transitions.write(step, after)
    unit.record("step.skipped", "step", step.id, step.sentence, step.account_id, reason=reason.strip())
    unit.db.flush()
    if not confirm.finish_if_done(unit, revocation):
        unit.wake("carry_out", revocation=ident)
