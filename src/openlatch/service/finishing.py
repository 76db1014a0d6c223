"""The end of a revocation: what the register says once the system has shown that access is gone."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import select

from openlatch.core import revocation as core
from openlatch.core.states import GRANTS, move
from openlatch.core.words import EndedAs, GrantState, StepState
from openlatch.service import flags, latching, telling
from openlatch.service.context import Unit
from openlatch.store.tables import Account, Grant, Level, Resource, Revocation, RevocationTarget, Session, Step, Term

_ENDED_AS = {"expired": EndedAs.EXPIRED, "given_up": EndedAs.GIVEN_UP, "replaced": EndedAs.REPLACED}


def finish_if_done(unit: Unit, revocation: Revocation) -> bool:
    """Finish a revocation, which must be locked, when all its steps are done; gives whether it is finished."""
    if revocation.confirmed_at is not None:
        return True
    states = unit.db.scalars(select(Step.state).where(Step.revocation_id == revocation.id)).all()
    if not core.is_finished(core.Progress(StepState(state)) for state in states):
        return False
    finish(unit, revocation)
    return True


def finish(unit: Unit, revocation: Revocation) -> None:
    """Write down that access is gone, with the proof; the flags on it clear in the same transaction."""
    targets = unit.db.scalars(select(RevocationTarget).where(RevocationTarget.revocation_id == revocation.id)).all()
    proof = unit.db.execute(
        select(Step.sentence, Step.answer).where(Step.revocation_id == revocation.id).order_by(Step.position)
    ).all()
    grants, sessions = [], []
    for target in targets:
        if target.grant_id is not None:
            _end_or_trim(unit, unit.db.get_one(Grant, target.grant_id, with_for_update=True), target, revocation)
            grants.append(target.grant_id)
        elif target.session_id is not None:
            _end_session(unit, unit.db.get_one(Session, target.session_id))
            sessions.append(target.session_id)
        elif target.resource_id is not None:
            _close(unit, unit.db.get_one(Resource, target.resource_id))
    revocation.confirmed_at = unit.now
    title = revocation.preview["title"]
    for account in sorted({target.account_id for target in targets}):
        unit.record(
            "revocation.confirmed",
            "revocation",
            revocation.id,
            title,
            account,
            proof=[{"step": sentence, "answer": answer} for sentence, answer in proof],
        )
    unit.db.flush()
    flags.evaluate(unit, grants=grants, sessions=sessions)
    if grants:
        latching.evaluate(unit, {target.account_id for target in targets})
        _tell(unit, targets)


def _end_or_trim(unit: Unit, grant: Grant, target: RevocationTarget, revocation: Revocation) -> None:
    grant.version += 1
    grant.contradicted_at = None
    if target.trim_level_id is None and target.trim_until is None:
        grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.ENDED)
        grant.ended_at, grant.owed = unit.now, None
        grant.ended_as = _ENDED_AS.get(revocation.cause, EndedAs.REVOKED)
        action = f"grant.{grant.ended_as}"
    else:
        grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.ACTIVE)
        _trim(unit, grant.id, target)
        action = "grant.trimmed"
    skipped = unit.db.scalars(
        select(Step.answer).where(
            Step.revocation_id == revocation.id, Step.grant_id == grant.id, Step.state == StepState.SKIPPED
        )
    ).all()
    # Nobody saw that it is gone; should a read show it, it is flagged as still there.
    unproved = {"unproved": list(skipped)} if skipped else {}
    title = revocation.preview["title"]
    unit.record(action, "grant", grant.id, title, grant.account_id, reason=revocation.reason, **unproved)


def _tell(unit: Unit, targets: Sequence[RevocationTarget]) -> None:
    """Tell those whose own access has ended."""
    for target in targets:
        grant = unit.db.get(Grant, target.grant_id) if target.grant_id else None
        if grant is not None and grant.state == GrantState.ENDED and grant.ended_as != EndedAs.GIVEN_UP:
            name = unit.db.get_one(Account, target.account_id).name
            telling.tell(unit, [grant.person_id], "grant", f"Your access to {name} has ended.", "/mine")


def _trim(unit: Unit, grant: UUID, target: RevocationTarget) -> None:
    lower = unit.db.get(Level, target.trim_level_id) if target.trim_level_id else None
    for term in unit.db.scalars(select(Term).where(Term.grant_id == grant)):
        held = unit.db.get_one(Level, term.level_id)
        if lower is not None and lower.reach <= held.reach:
            term.level_id = lower.id
        if target.trim_until is not None and (term.until is None or term.until > target.trim_until):
            term.until = target.trim_until


def _close(unit: Unit, part: Resource) -> None:
    part.public = False
    unit.record("resource.closed", "resource", part.id, part.name, part.account_id)


def _end_session(unit: Unit, session: Session) -> None:
    if session.ended_at is None or session.ended_as == "signed_out":
        session.ended_at, session.ended_as = session.ended_at or unit.now, "revoked"
        unit.record("session.revoked", "session", session.id, session.device, session.account_id)
