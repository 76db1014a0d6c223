"""The end of a revocation: what the register says once the system has shown that access is gone."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import select

from openlatch.core import revocation as core
from openlatch.core.states import GRANTS, move
from openlatch.core.words import EndedAs, GrantState, StepKind, StepState
from openlatch.service import flags, latching, telling
from openlatch.service.context import Unit
from openlatch.store.tables import Account, Grant, Level, Resource, Revocation, RevocationTarget, Session, Step, Term

_ENDED_AS = {"expired": EndedAs.EXPIRED, "given_up": EndedAs.GIVEN_UP, "replaced": EndedAs.REPLACED}


def finish_if_done(unit: Unit, revocation: Revocation, own: Sequence[Step] | None = None) -> bool:
    """Finish what is proved of a revocation, which must be locked, and all of it when all its steps are done.

    ``own`` are its steps, where they are at hand. Gives whether it is finished.
    """
    if revocation.confirmed_at is not None:
        return True
    steps = _steps(unit, revocation) if own is None else own
    if core.is_finished(core.Progress(StepState(step.state)) for step in steps):
        finish(unit, revocation, steps)
        return True
    unread = {step.account_id for step in steps if step.kind == StepKind.READ_AGAIN and step.state not in core.OVER}
    if unread.issuperset(step.account_id for step in steps):
        return False
    by_target = _Steps(steps)
    proved = [target for target in _targets(unit, revocation) if by_target.prove(target)]
    _end(unit, revocation, proved, by_target)
    return False


def _steps(unit: Unit, revocation: Revocation) -> Sequence[Step]:
    return unit.db.scalars(select(Step).where(Step.revocation_id == revocation.id).order_by(Step.position)).all()


def _targets(unit: Unit, revocation: Revocation) -> Sequence[RevocationTarget]:
    mine = select(RevocationTarget).where(RevocationTarget.revocation_id == revocation.id)
    return unit.db.scalars(mine.order_by(RevocationTarget.id)).all()


class _Steps:
    """The steps of a revocation, by what they are of."""

    def __init__(self, steps: Sequence[Step]) -> None:
        self._of: dict[str, list[Step]] = {}
        self._reads: dict[UUID, list[Step]] = {}
        for step in steps:
            if step.kind == StepKind.READ_AGAIN:
                self._reads.setdefault(step.account_id, []).append(step)
            else:
                self._of.setdefault(str(step.grant_id or step.session_id or step.detail.get("part")), []).append(step)

    def of(self, target: RevocationTarget) -> list[Step]:
        """Those of one target."""
        return self._of.get(str(target.grant_id or target.session_id or target.resource_id), [])

    def prove(self, target: RevocationTarget) -> bool:
        """Whether all that a target needs is done: its own, and reading its account again, where that is a step."""
        own = self.of(target)
        return bool(own) and all(step.state in core.OVER for step in (*own, *self._reads.get(target.account_id, ())))


def finish(unit: Unit, revocation: Revocation, own: Sequence[Step] | None = None) -> None:
    """Write down that all of it is gone, with the proof."""
    targets = _targets(unit, revocation)
    steps = _steps(unit, revocation) if own is None else own
    _end(unit, revocation, targets, _Steps(steps))
    revocation.confirmed_at = unit.now
    title = revocation.preview["title"]
    proof = [{"step": step.sentence, "answer": step.answer} for step in steps]
    for account in sorted({target.account_id for target in targets}):
        unit.record("revocation.confirmed", "revocation", revocation.id, title, account, proof=proof)
    unit.db.flush()


def _end(unit: Unit, revocation: Revocation, targets: Sequence[RevocationTarget], steps: _Steps) -> None:
    """Targets that have not ended yet end now; the flags on them clear in the same transaction."""
    if not targets:
        return
    grants, sessions = [], []
    named = [target.grant_id for target in targets if target.grant_id is not None]
    rows = select(Grant).where(Grant.id.in_(named)).order_by(Grant.id).with_for_update()
    locked = {grant.id: grant for grant in unit.db.scalars(rows.execution_options(populate_existing=True))}
    for target in targets:
        if target.grant_id is not None:
            grant = locked[target.grant_id]
            if grant.state == GrantState.REVOKING:
                _end_or_trim(unit, grant, target, revocation, steps.of(target))
                grants.append(target)
        elif target.session_id is not None:
            session = unit.db.get_one(Session, target.session_id)
            if session.ended_at is None or session.ended_as == "signed_out":
                _end_session(unit, session)
                sessions.append(session.id)
        elif target.resource_id is not None:
            _close(unit, unit.db.get_one(Resource, target.resource_id))
    if not grants and not sessions:
        return
    unit.db.flush()
    ended = [target.grant_id for target in grants if target.grant_id is not None]
    flags.evaluate(unit, grants=ended, sessions=sessions)
    if grants:
        latching.evaluate(unit, latching.touched(unit, {target.account_id for target in grants}))
        _tell(unit, [locked[ident] for ident in ended])


def _end_or_trim(
    unit: Unit, grant: Grant, target: RevocationTarget, revocation: Revocation, steps: Sequence[Step]
) -> None:
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
    skipped = [step.answer for step in steps if step.state == StepState.SKIPPED]
    # Nobody saw that it is gone; should a read show it, it is flagged as still there.
    unproved = {"unproved": skipped} if skipped else {}
    title = revocation.preview["title"]
    unit.record(action, "grant", grant.id, title, grant.account_id, reason=revocation.reason, **unproved)


def _tell(unit: Unit, grants: Sequence[Grant]) -> None:
    """Tell those whose own access has ended."""
    over = [grant for grant in grants if grant.state == GrantState.ENDED and grant.ended_as != EndedAs.GIVEN_UP]
    wanted = select(Account.id, Account.name).where(Account.id.in_({grant.account_id for grant in over}))
    names = dict(unit.db.execute(wanted).all())
    for grant in over:
        sentence = f"Your access to {names[grant.account_id]} has ended."
        telling.tell(unit, [grant.person_id], "grant", sentence, "/mine")


def _trim(unit: Unit, grant: UUID, target: RevocationTarget) -> None:
    lower = unit.db.get(Level, target.trim_level_id) if target.trim_level_id else None
    for term in unit.db.scalars(select(Term).where(Term.grant_id == grant)):
        held = unit.db.get_one(Level, term.level_id)
        if lower is not None and lower.reach <= held.reach:
            term.level_id = lower.id
        if target.trim_until is not None and (term.until is None or term.until > target.trim_until):
            term.until = target.trim_until


def _close(unit: Unit, part: Resource) -> None:
    if not part.public:
        return
    part.public = False
    unit.record("resource.closed", "resource", part.id, part.name, part.account_id)


def _end_session(unit: Unit, session: Session) -> None:
    session.ended_at, session.ended_as = session.ended_at or unit.now, "revoked"
    unit.record("session.revoked", "session", session.id, session.device, session.account_id)
