"""Undoing a revocation: restoring what was there, where that is possible.

If the counterparty must consent, an offer is sent instead. Where a system can't give access from outside, it says so.
"""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import and_, select

from openlatch import schemas
from openlatch.adapters import Adapter
from openlatch.core import register as core
from openlatch.core.checks import require_words
from openlatch.core.register import Holder
from openlatch.core.revocations import plan, step_states
from openlatch.core.vocabulary import Cause, GrantState, HolderKind, Reach, Standing, StepKind, StepState
from openlatch.errors import Conflict, OpenLatchError, SystemRefused
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.canonical_json import jsonable
from openlatch.service.connections import adapter_for
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle, terms
from openlatch.service.latches import guard
from openlatch.service.offers import send as send_offer
from openlatch.service.revocations import execute, transitions
from openlatch.service.revocations import steps as revocation_steps
from openlatch.service.unit import Unit
from openlatch.store.access import mapping, subgraph
from openlatch.store.database import alone
from openlatch.store.tables import (
    Account,
    App,
    Grant,
    Handle,
    Membership,
    Person,
    Revocation,
    RevocationTarget,
    Session,
    Step,
    System,
    Team,
)


def preview(unit: Unit, ident: UUID) -> schemas.Undone:
    """What undoing a revocation would put back, line by line, and what it can't."""
    row = _undoable(unit, ident)
    return schemas.Undone(
        title=f"Undo: {row.preview['title']}",
        lines=[_look(unit, row, one) for one in _targets(unit, row)],
        also=_also(unit, row),
    )


def undo(unit: Unit, ident: UUID, reason: str) -> schemas.Undone:
    """Put back what a revocation took away, or is about to.

    Conflict when nothing of it can be put back, or while a step is being carried out this moment.
    """
    revocation_steps.require(unit, ident)
    require_words(reason, "Undoing needs a reason.")
    with alone(unit.service.engine, execute.name_of(ident)) as only_us:
        if not only_us:
            raise Conflict("A step is being carried out this moment.", "Try again in a moment.")
        locks.access(unit)
        row = _undoable(unit, ident, lock=True)
        _come_back(unit, row)
        lines = [_put_back(unit, row, one, reason) for one in _targets(unit, row)]
        if lines and all(line.refused for line in lines):
            raise Conflict(f"Nothing of it can be put back: {lines[0].refused}", "Give access again.")
        also = _also(unit, row)
        _unlock(unit, row, reason)
        _stop(unit, row, reason)
    return schemas.Undone(title=f"Undone: {row.preview['title']}", lines=lines, also=also)


def _undoable(unit: Unit, ident: UUID, lock: bool = False) -> Revocation:
    revocation_steps.require(unit, ident)
    row = unit.db.get_one(Revocation, ident, with_for_update=lock, populate_existing=lock)
    if row.undone_at is not None:
        raise Conflict("That was undone already.", "Look at what was given since.")
    if row.leaver_id is not None:
        unit.sight.require_administrator()
    if row.cause in (Cause.EXPIRED, Cause.REPLACED):
        why = "the time was over" if row.cause == Cause.EXPIRED else "somebody else has taken over"
        raise Conflict(f"It ended because {why}.", "Give access again.")
    return row


def _targets(unit: Unit, row: Revocation) -> list[RevocationTarget]:
    mine = select(RevocationTarget).where(
        RevocationTarget.revocation_id == row.id, RevocationTarget.grant_id.is_not(None)
    )
    return list(unit.db.scalars(mine.order_by(RevocationTarget.id)))


def _look(unit: Unit, row: Revocation, target: RevocationTarget) -> schemas.UndoLine:
    """What would become of one grant. Only words: nothing is done."""
    grant = unit.db.get_one(Grant, target.grant_id)
    try:
        return _line(unit, grant, does=_way(unit, row, target, grant)[1])
    except OpenLatchError as error:
        return _line(unit, grant, refused=f"{error.detail} {error.remedy}".strip())


def _line(unit: Unit, grant: Grant, does: str = "", refused: str = "", offer: UUID | None = None) -> schemas.UndoLine:
    account = unit.db.get_one(Account, grant.account_id)
    return schemas.UndoLine(
        grant_id=grant.id,
        holder=lifecycle.holder_name(unit, grant),
        account=schemas.Named(id=account.id, name=account.name),
        does=does,
        refused=refused or None,
        offer_id=offer,
    )


def _way(unit: Unit, row: Revocation, target: RevocationTarget, grant: Grant) -> tuple[str, str]:
    """How a grant comes back: kept, given, or offered; and in words. Conflict when it can't."""
    if target.was is None:
        raise Conflict("It was ended before Open Latch could undo.", "Give access again.")
    if grant.person_id is not None and grant.person_id != row.leaver_id:
        person = unit.db.get_one(Person, grant.person_id)
        if person.standing == Standing.LEFT:
            raise Conflict(f"{person.name} has left.", "Nothing is given to somebody who has.")
    if not _going_on(unit, target):
        raise Conflict("Its time is over by now.", "Give access again.")
    account = unit.db.get_one(Account, grant.account_id)
    if grant.state == GrantState.ENDED and row.cause == Cause.GIVEN_UP:
        return "offered", f"is offered again; {lifecycle.holder_name(unit, grant)} gave it up, and has to agree"
    system = unit.db.get_one(System, account.system_id)
    if grant.holder_kind == HolderKind.TEAM or system.kind not in unit.service.adapters or not grant.handle:
        return "given", f"is recorded again; where {system.name} keeps it, give it by hand"
    _refuse_linked(unit, adapter_for(unit.service, system), grant, account)
    others = "; what others lost with it is not put back" if grant.handle.get("also_ends") else ""
    return "given", f"is given in {system.name} again, as it was{others}"


def _refuse_linked(unit: Unit, adapter: Adapter, grant: Grant, account: Account) -> None:
    """Conflict for what the system lets only somebody else give, as an app that is linked by whoever uses it."""
    if adapter.again(grant.handle) is not None:
        return
    try:
        adapter.holding(account.handle or "", grant.handle.get("login", ""), "")
    except SystemRefused as error:
        name = unit.db.get_one(App, grant.app_id).name if grant.app_id else lifecycle.holder_name(unit, grant)
        raise Conflict(f"{name}: {error.detail}", error.remedy) from error


def _going_on(unit: Unit, target: RevocationTarget) -> list[JsonObject]:
    """The stored terms whose time is not over."""
    return [
        term
        for term in (target.was or {}).get("terms", ())
        if term["until"] is None or datetime.fromisoformat(term["until"]) > unit.now
    ]


def _put_back(unit: Unit, row: Revocation, target: RevocationTarget, reason: str) -> schemas.UndoLine:
    grant = unit.db.get_one(Grant, target.grant_id, with_for_update=True, populate_existing=True)
    try:
        way, words = _way(unit, row, target, grant)
    except Conflict as error:
        return _line(unit, grant, refused=f"{error.detail} {error.remedy}".strip())
    account = unit.db.get_one(Account, grant.account_id)
    terms = mapping.terms_of(unit.db, [grant.id]).get(grant.id, [])
    if any(term.level.reach is Reach.STEWARD for term in terms):
        unit.require_proof("Giving steward reach")
    if way == "offered":
        assert grant.person_id is not None
        kept = lifecycle.taken_over(terms, unit.now)
        return _line(
            unit, grant, words, offer=send_offer.offer_again(unit, account, grant.person_id, kept, reason.strip())
        )
    with guard.guarded(unit, guard.touched(unit, [account.id])):
        if grant.state == GrantState.ENDED:
            back = _again(unit, account, grant, target, terms, reason)
        else:
            back = _as_it_was(unit, grant, target)
    unit.record("grant.put_back", "grant", back.id, account.name, account.id, reason=reason.strip(), undoes=row.id)
    if back.state == GrantState.ACTIVE:
        lifecycle.enter_into_force(unit, back)
    return _line(unit, back, words)


def _again(
    unit: Unit, account: Account, grant: Grant, target: RevocationTarget, terms: list[core.Term], reason: str
) -> Grant:
    """The ended grant stays in the history; a new grant just like it begins."""
    assert target.was is not None
    holder = Holder(HolderKind(grant.holder_kind), grant.holder_id)
    state = GrantState(target.was["state"])
    kept = lifecycle.taken_over(terms, unit.now)
    return lifecycle.write_grant(
        unit, account, holder, kept, state, reason=f"Put back: {reason.strip()}", handle=target.was["handle"]
    )


def _as_it_was(unit: Unit, grant: Grant, target: RevocationTarget) -> Grant:
    """A grant that is being revoked, or was trimmed, gets its earlier state and terms back."""
    assert target.was is not None
    if grant.state == GrantState.REVOKING:
        lifecycle.set_state(grant, GrantState.ACTIVE)
        if target.was["state"] == GrantState.SUSPENDED:
            lifecycle.set_state(grant, GrantState.SUSPENDED)
    terms.write_stored(unit, grant, target.was["terms"])
    grant.contradicted_at, grant.handle = None, target.was["handle"]
    grant.version += 1
    unit.db.flush()
    return grant


def _come_back(unit: Unit, row: Revocation) -> None:
    """Somebody who had left is back, with their teams. Accounts stay with whoever took them over."""
    if row.leaver_id is None:
        return
    was = row.preview.get("leaving", {})
    person = unit.db.get_one(Person, row.leaver_id, with_for_update=True)
    person.standing = was.get("standing", Standing.CURRENT)
    person.leaves_at = datetime.fromisoformat(was["leaves_at"]) if was.get("leaves_at") else None
    for kept in was.get("memberships", ()):
        membership = unit.db.get(Membership, UUID(kept["id"]))
        if membership is not None:
            membership.until = datetime.fromisoformat(kept["until"]) if kept["until"] else None
            team = unit.db.get_one(Team, membership.team_id).name
            unit.record("membership.put_back", "membership", membership.id, f"{person.name} in {team}")
    unit.record("person.back", "person", person.id, person.name, undoes=row.id)
    unit.db.flush()
    reached = subgraph.onward(unit.db, [Holder(HolderKind.PERSON, person.id)])
    guard.evaluate(unit, reached)
    evaluate_flags.evaluate_person(unit, person.id, reached)


def _also(unit: Unit, row: Revocation) -> list[str]:
    """What is not restored, or is restored by somebody else."""
    sessions = unit.db.scalars(
        select(RevocationTarget.session_id)
        .join(Session, Session.id == RevocationTarget.session_id)
        .where(RevocationTarget.revocation_id == row.id, Session.ended_at.is_not(None))
    ).all()
    said = []
    if sessions:
        said.append(f"{len(sessions)} session{'s' * (len(sessions) != 1)} ended; their user has to sign in again.")
    said += [
        f"{one['account']['name']} stays with {one['to']['name']}, who took it over."
        for one in row.preview.get("leaving", {}).get("handed", ())
    ]
    for step in _steps(unit, row, StepKind.DROP):
        if step.state == StepState.DONE:
            said.append(f"The login {step.detail['login']} was dropped for good; create it there again.")
    if any(step.state == StepState.DONE for step in _steps(unit, row, StepKind.LOCK)):
        said.append("Logins that were locked are unlocked again.")
    return said


def _steps(unit: Unit, row: Revocation, kind: StepKind) -> list[Step]:
    mine = select(Step).where(Step.revocation_id == row.id, Step.kind == kind)
    return list(unit.db.scalars(mine.order_by(Step.position)))


def _unlock(unit: Unit, row: Revocation, reason: str) -> None:
    """Logins that were locked are unlocked by steps of their own, which are carried out and proved like others."""
    locked = _locked_logins(unit, row)
    if not locked:
        return
    steps = plan.unlocking(locked)
    title = f"Unlock {len(locked)} login{'s' * (len(locked) != 1)}"
    nothing: JsonObject = {name: [] for name in ("changes", "sessions", "apps_that_stop", "without_owner", "stops")}
    shown = [{"kind": step.kind, "sentence": step.sentence} for step in steps]
    made = Revocation(
        organisation_id=row.organisation_id,
        cause=Cause.ASKED,
        reason=reason.strip(),
        asked_by_id=unit.viewer.person,
        preview=jsonable({**row.preview, **nothing, "title": title, "leaving": {}, "steps": shown}),
    )
    unit.db.add(made)
    unit.db.flush()
    unit.db.add_all(transitions.new_step(unit, made.id, position, step) for position, step in enumerate(steps, 1))
    unit.record("revocation.started", "revocation", made.id, title, reason=reason.strip())
    unit.wake("carry_out", revocation=made.id)


def _locked_logins(unit: Unit, row: Revocation) -> list[plan.LockedLogin]:
    """The logins that the revocation has locked."""
    found = unit.db.execute(
        select(Step, System.name, Person.name)
        .join(Account, Account.id == Step.account_id)
        .join(System, System.id == Account.system_id)
        .outerjoin(Handle, and_(Handle.system_id == System.id, Handle.name == Step.detail["login"].astext))
        .outerjoin(Person, Person.id == Handle.person_id)
        .where(Step.revocation_id == row.id, Step.kind == StepKind.LOCK, Step.state == StepState.DONE)
        .order_by(Step.position)
    ).all()
    return [
        plan.LockedLogin(step.detail["login"], person or "Somebody", step.account_id, system, step.detail)
        for step, system, person in found
    ]


def _stop(unit: Unit, row: Revocation, reason: str) -> None:
    """Leave out the rest of the plan."""
    for step in unit.db.scalars(select(Step).where(Step.revocation_id == row.id).with_for_update()):
        before = transitions.progress_of(step)
        transitions.write(step, step_states.undone(before, unit.viewer.name, reason.strip(), unit.now))
    transitions.mark_undone(unit, row)
    accounts = select(RevocationTarget.account_id).where(RevocationTarget.revocation_id == row.id).distinct()
    for account in sorted(unit.db.scalars(accounts)):
        unit.record("revocation.undone", "revocation", row.id, row.preview["title"], account, reason=reason.strip())
    unit.db.flush()


__all__ = ["preview", "undo"]
