"""The end of a revocation: what the register says once its steps are over, and how each end is known."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from uuid import UUID

from sqlalchemy import ColumnElement, and_, or_, select

from openlatch.core.revocations import proof, step_states
from openlatch.core.revocations.proof import Evidence, StepOutcome
from openlatch.core.states import GRANTS, move
from openlatch.core.time_windows import day_in_words
from openlatch.core.vocabulary import (
    Cause,
    EndedAs,
    GrantState,
    ItemState,
    Owed,
    Proof,
    StepKind,
    StepState,
    Subject,
    Verdict,
)
from openlatch.service.exposure import access_rules, evaluate
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import hand_tasks, lifecycle, terms
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.revocations import transitions
from openlatch.service.unit import Unit
from openlatch.store.tables import (
    Account,
    Grant,
    Item,
    Level,
    Revocation,
    RevocationTarget,
    Round,
    Session,
    Step,
    Term,
)
from openlatch.store.tables.base import Proved

_ENDED_AS = {
    Cause.EXPIRED: EndedAs.EXPIRED,
    Cause.GIVEN_UP: EndedAs.GIVEN_UP,
    Cause.REPLACED: EndedAs.REPLACED,
}


def finish_if_done(unit: Unit, revocation: Revocation, own: Sequence[Step] | None = None) -> bool:
    """Finish what is proved of a revocation, which must be locked, and all of it when all its steps are done.

    ``own`` are its steps, if already loaded. Returns whether it is finished.
    """
    if revocation.settled_at is not None:
        return True
    steps = _steps(unit, revocation) if own is None else own
    if step_states.is_finished(transitions.progress_of(step) for step in steps):
        finish(unit, revocation, steps)
        return True
    unread = {
        step.account_id for step in steps if step.kind == StepKind.READ_AGAIN and step.state not in step_states.OVER
    }
    if unread.issuperset(step.account_id for step in steps):
        return False
    by_target = _Steps(steps)
    proved = [target for target in _targets(unit, revocation) if by_target.prove(target)]
    _end(unit, revocation, proved, by_target)
    _prove_logins(unit, by_target)
    return False


def _steps(unit: Unit, revocation: Revocation) -> Sequence[Step]:
    return unit.db.scalars(select(Step).where(Step.revocation_id == revocation.id).order_by(Step.position)).all()


def _targets(unit: Unit, revocation: Revocation) -> Sequence[RevocationTarget]:
    mine = select(RevocationTarget).where(RevocationTarget.revocation_id == revocation.id)
    return unit.db.scalars(mine.order_by(RevocationTarget.id)).all()


class _Steps:
    """The steps of a revocation, by target."""

    def __init__(self, steps: Sequence[Step]) -> None:
        self._of: dict[str, list[Step]] = {}
        self._reads: dict[UUID, list[Step]] = {}
        self.of_logins: list[Step] = []
        for step in steps:
            if step.kind == StepKind.READ_AGAIN:
                self._reads.setdefault(step.account_id, []).append(step)
            elif step.kind in (StepKind.LOCK, StepKind.DROP):
                self.of_logins.append(step)
            else:
                of = step.grant_id or step.session_id or step.detail.get("rule")
                self._of.setdefault(str(of), []).append(step)

    def of(self, target: RevocationTarget) -> list[Step]:
        """Those of one target."""
        of = target.grant_id or target.session_id or target.rule_id
        return self._of.get(str(of), [])

    def prove(self, target: RevocationTarget) -> bool:
        """Whether everything that proves a target is done: its own steps, and the reading of its account, if there
        is one.
        """
        own = self.of(target)
        return bool(own) and all(
            step.state in step_states.OVER for step in (*own, *self._reads.get(target.account_id, ()))
        )

    def is_over(self, login: Step) -> bool:
        """Whether a login was locked or dropped and its system read again, or the step was skipped."""
        return all(step.state in step_states.OVER for step in (login, *self._reads.get(login.account_id, ())))

    def evidence(self, target: RevocationTarget, now: datetime) -> Evidence:
        """How the end of a target is known."""
        return proof.of_steps(_outcomes(self.of(target)), _outcomes(self._reads.get(target.account_id, ())), now)

    def evidence_of_login(self, step: Step, now: datetime) -> Evidence:
        """How it is known that a login was locked or dropped."""
        return proof.of_steps(_outcomes([step]), _outcomes(self._reads.get(step.account_id, ())), now)


def step_proof(step: Step, steps: Sequence[Step]) -> Proof | None:
    """The proof that a step gives by itself, among all steps of its revocation."""
    reads = [s for s in steps if s.kind == StepKind.READ_AGAIN and s.account_id == step.account_id and s.id != step.id]
    return proof.of_step(_outcomes([step])[0], _outcomes(reads))


def _outcomes(steps: Iterable[Step]) -> list[StepOutcome]:
    return [StepOutcome(StepKind(s.kind), StepState(s.state), s.answer, s.done_by, s.done_at) for s in steps]


def finish(unit: Unit, revocation: Revocation, own: Sequence[Step] | None = None) -> None:
    """Settle a revocation whose steps are over, each end with its proof.

    It is confirmed only when every end is; the journal keeps the counts apart.
    """
    targets = _targets(unit, revocation)
    steps = _steps(unit, revocation) if own is None else own
    by_target = _Steps(steps)
    _end(unit, revocation, targets, by_target)
    _prove_logins(unit, by_target)
    proofs = [Proof(known) for known in (*(t.proof for t in targets), *(s.proof for s in by_target.of_logins)) if known]
    action = transitions.settle(unit, revocation, proofs)
    title = revocation.preview["title"]
    shown = [{"step": step.sentence, "answer": step.answer} for step in steps]
    for account in sorted({target.account_id for target in targets}):
        unit.record(action, "revocation", revocation.id, title, account, proof=shown, ends=proof.count(proofs))
    unit.db.flush()


def _prove_logins(unit: Unit, steps: _Steps) -> None:
    """Store how it is known that logins were locked or dropped, where that is over."""
    for step in steps.of_logins:
        if steps.is_over(step):
            step.proof = steps.evidence_of_login(step, unit.now).proof


def _end(unit: Unit, revocation: Revocation, targets: Sequence[RevocationTarget], steps: _Steps) -> None:
    """End the targets that have not ended; flags on them are updated in the same transaction."""
    if not targets:
        return
    grants, sessions, ruled = [], [], list[tuple[RevocationTarget, Evidence]]()
    named = [target.grant_id for target in targets if target.grant_id is not None]
    rows = select(Grant).where(Grant.id.in_(named)).order_by(Grant.id).with_for_update()
    locked = {grant.id: grant for grant in unit.db.scalars(rows.execution_options(populate_existing=True))}
    for target in targets:
        known = None if _is_kept_here(target) else steps.evidence(target, unit.now)
        if target.grant_id is not None:
            grant = locked[target.grant_id]
            if grant.state == GrantState.REVOKING:
                _end_or_trim(unit, grant, target, revocation, known)
                _keep(target, known)
                grants.append(target)
        elif target.session_id is not None and known is not None:
            session = unit.db.get_one(Session, target.session_id)
            if session.ended_at is None or session.ended_as == "signed_out":
                _end_session(unit, session, known)
                sessions.append(session.id)
            _keep(target, known)
        elif target.rule_id is not None and known is not None and target.proof is None:
            access_rules.close(unit, target, known)
            _keep(target, known)
            ruled.append((target, known))
    _follow_rules(unit, ruled)
    if not grants and not sessions:
        return
    unit.db.flush()
    ended = [target.grant_id for target in grants if target.grant_id is not None]
    evaluate_flags.evaluate(unit, grants=ended, sessions=sessions)
    if grants:
        guard.evaluate(unit, guard.touched(unit, {target.account_id for target in grants}))
        _tell(unit, [locked[ident] for ident in ended])


def _is_kept_here(target: RevocationTarget) -> bool:
    """An earlier end alone is kept by the register, which ends the grant when it comes."""
    return target.trim_until is not None and target.trim_level_id is None and target.trim_terms is None


def _keep(row: Proved, known: Evidence | None) -> None:
    """Store with a record how its end is known."""
    if known is not None:
        row.proof, row.proved_at, row.proved_by, row.proof_words = known.proof, known.at, known.by, known.words


def said(unit: Unit, row: Proved) -> str:
    """How an end is known, in a few words: "confirmed by Telemetry on 10 March 2026"."""
    if row.proof is None or row.proved_at is None:
        return ""
    by = f" by {row.proved_by}" if row.proved_by and row.proof != Proof.UNPROVED else ""
    return f"{row.proof}{by} on {day_in_words(row.proved_at, unit.zone)}"


def _end_or_trim(
    unit: Unit, grant: Grant, target: RevocationTarget, revocation: Revocation, known: Evidence | None
) -> None:
    grant.version += 1
    grant.contradicted_at = None
    is_trim = target.trim_level_id is not None or target.trim_until is not None or target.trim_terms is not None
    if not is_trim and known is not None:
        grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.ENDED)
        grant.ended_at, grant.owed = unit.now, None
        cause = _ENDED_AS.get(Cause(revocation.cause), EndedAs.REVOKED)
        grant.ended_as = proof.ended_as(cause, known.proof)
        _keep(grant, known)
        action = f"grant.{cause}" if grant.ended_as == cause else "grant.ended"
    else:
        grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.ACTIVE)
        if known is None or known.proof is not Proof.UNPROVED:
            _trim(unit, grant, target)
            grant.ends_here = grant.ends_here or target.trim_until is not None
        if (target.was or {}).get("owed") == Owed.GIVE:
            # Not provisioned yet: what is left of it still has to be.
            lifecycle.owe(unit, grant, Owed.GIVE)
        action = "grant.trimmed"
    facts = {"proof": known.proof, "proved_by": known.by, "words": known.words} if known is not None else {}
    title = revocation.preview["title"]
    unit.record(action, "grant", grant.id, title, grant.account_id, reason=revocation.reason, **facts)


def _tell(unit: Unit, grants: Sequence[Grant]) -> None:
    """Notify those whose own access has ended, and how that is known."""
    over = [grant for grant in grants if grant.state == GrantState.ENDED and grant.ended_as != EndedAs.GIVEN_UP]
    wanted = select(Account.id, Account.name).where(Account.id.in_({grant.account_id for grant in over}))
    names = dict(unit.db.execute(wanted).all())
    told = (
        (
            hand_tasks.answering_for_holder(unit, grant),
            f"Your access to {names[grant.account_id]} has ended ({said(unit, grant)}).",
        )
        for grant in over
    )
    notices.tell_each(unit, told, "grant", "/mine")


def _trim(unit: Unit, grant: Grant, target: RevocationTarget) -> None:
    if target.trim_terms is not None:
        terms.write_stored(unit, grant, target.trim_terms)
        return
    lower = unit.db.get(Level, target.trim_level_id) if target.trim_level_id else None
    for term in unit.db.scalars(select(Term).where(Term.grant_id == grant.id)):
        held = unit.db.get_one(Level, term.level_id)
        if lower is not None and lower.reach <= held.reach:
            term.level_id = lower.id
        if target.trim_until is not None and (term.until is None or term.until > target.trim_until):
            term.until = target.trim_until


def _follow_rules(unit: Unit, targets: Sequence[tuple[RevocationTarget, Evidence]]) -> None:
    """Evaluate what is open without the removed rules, and store how their end is known."""
    evaluate.changed(unit, {target.account_id for target, _ in targets})
    for target, known in targets:
        access_rules.prove(unit, target, known)


def _end_session(unit: Unit, session: Session, known: Evidence) -> None:
    session.ended_at = session.ended_at or unit.now
    session.ended_as = proof.ended_as(EndedAs.REVOKED, known.proof)
    _keep(session, known)
    action = "session.revoked" if known.proof is Proof.CONFIRMED else "session.ended"
    unit.record(
        action,
        "session",
        session.id,
        session.device,
        session.account_id,
        proof=known.proof,
        proved_by=known.by,
        words=known.words,
    )


def contradict(unit: Unit, grants: Sequence[UUID], system: str) -> None:
    """A reading shows access whose end was known: the end and everything based on it is contradicted.

    Its revocation is no longer confirmed; an item of a review that has not ended is open again. The evidence of an
    ended review stays as it is, and gets an addendum.
    """
    shown = _contradiction(unit, system)
    rows = unit.db.execute(
        select(Grant, Account.name)
        .join(Account, Account.id == Grant.account_id)
        .where(Grant.id.in_(grants))
        .order_by(Grant.id)
        .with_for_update(of=Grant)
    ).all()
    for grant, account in rows:
        before = said(unit, grant) or "not known"
        _keep(grant, shown)
        if grant.ended_as in (EndedAs.REVOKED, EndedAs.STATED, EndedAs.UNPROVED):
            grant.ended_as = EndedAs.CONTRADICTED
        unit.record("grant.contradicted", "grant", grant.id, account, grant.account_id, before=before, system=system)
        sentence = f"A reading of {system} shows access to {account} that had ended ({before})."
        _tell_of_contradiction(unit, grant.account_id, sentence)
    of_these = RevocationTarget.grant_id.in_(grants)
    _contradict_targets(unit, of_these, shown)
    _open_items_again(unit, Item.grant_id.in_(grants), shown)


def contradict_sessions(unit: Unit, sessions: Sequence[UUID], system: str) -> None:
    """A reading shows sessions that were known to have ended: the end is contradicted."""
    shown = _contradiction(unit, system)
    wanted = select(Session).where(Session.id.in_(sessions)).order_by(Session.id).with_for_update()
    for session in unit.db.scalars(wanted.execution_options(populate_existing=True)):
        before = said(unit, session) or "not known"
        session.ended_at = session.ended_as = None
        _keep(session, shown)
        unit.record(
            "session.contradicted",
            "session",
            session.id,
            session.device,
            session.account_id,
            before=before,
            system=system,
        )
        sentence = f"A reading of {system} shows a session that had ended ({before})."
        _tell_of_contradiction(unit, session.account_id, sentence)
    _contradict_targets(unit, RevocationTarget.session_id.in_(sessions), shown)
    _open_items_again(unit, and_(Item.kind == Subject.SESSION, Item.subject_id.in_(sessions)), shown)


def contradict_rules(unit: Unit, account: UUID, rules: Sequence[str], system: str) -> None:
    """A reading shows access rules that were known to be removed."""
    of_these = and_(
        RevocationTarget.account_id == account,
        RevocationTarget.was["rule"].astext.in_(rules),
        RevocationTarget.rule_id.is_not(None),
        RevocationTarget.proof.in_((Proof.CONFIRMED, Proof.STATED)),
    )
    closed = unit.db.scalars(select(RevocationTarget.was["rule"].astext).where(of_these).distinct()).all()
    if not closed:
        return
    shown = _contradiction(unit, system)
    for key in sorted(closed):
        unit.record("access_rule.contradicted", "access_rule", None, key, account, system=system)
        sentence = f"A reading of {system} shows the access rule “{key}”, which had been taken away."
        _tell_of_contradiction(unit, account, sentence)
    begun = select(RevocationTarget.revocation_id).where(of_these)
    _open_items_again(unit, and_(Item.kind == Subject.EXPOSURE, Item.revocation_id.in_(begun)), shown)
    _contradict_targets(unit, of_these, shown)


def _contradiction(unit: Unit, system: str) -> Evidence:
    return Evidence(Proof.CONTRADICTED, unit.now, system, f"A reading on {day_in_words(unit.now, unit.zone)} shows it.")


def _tell_of_contradiction(unit: Unit, account: UUID, sentence: str) -> None:
    answering = notices.administrators(unit) | notices.answerers(unit, account)
    notices.tell(unit, sorted(answering), "flag", sentence, f"/accounts/{account}")


def _contradict_targets(unit: Unit, which: ColumnElement[bool], shown: Evidence) -> None:
    for target in unit.db.scalars(
        select(RevocationTarget).where(which, RevocationTarget.proof.is_not(None)).order_by(RevocationTarget.id)
    ):
        _keep(target, shown)
        transitions.unconfirm(unit.db.get_one(Revocation, target.revocation_id))
    unit.db.flush()


def _open_items_again(unit: Unit, which: ColumnElement[bool], shown: Evidence) -> None:
    """Items whose end is contradicted have to be decided, or carried out, again; except of ended rounds."""
    wanted = (
        select(Item, Round)
        .join(Round, Round.id == Item.round_id)
        .where(
            which,
            Item.verdict == Verdict.REVOKE,
            Round.ended_at.is_(None),
            or_(Item.done_at.is_not(None), Item.revocation_id.is_not(None)),
        )
        .order_by(Item.id)
        .with_for_update(of=Item)
    )
    for item, round_row in unit.db.execute(wanted).all():
        _keep(item, shown)
        item.done_at, item.revocation_id, item.version = None, None, item.version + 1
        item.outcome = f"Contradicted: {shown.words}"
        if round_row.closed_at is None:
            item.state, item.verdict, item.reason = ItemState.UNDECIDED, None, ""
            item.decided_by_id = item.decided_at = item.seconded_by_id = item.seconded_at = None
        unit.record(
            "item.contradicted",
            "item",
            item.id,
            f"{item.holder} on {item.account}",
            item.account_id,
            round=round_row.name,
            round_id=round_row.id,
            position=item.position,
        )
    unit.db.flush()
