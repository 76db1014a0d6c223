"""Revocations: the preview, starting one, retrying a step, and saying what was done by hand."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import rfc8785
from sqlalchemy import or_, select, update

from openlatch.core import latches
from openlatch.core import revocation as core
from openlatch.core.access import Path
from openlatch.core.register import Holder, Permission, Register
from openlatch.core.states import GRANTS, may_become, move
from openlatch.core.words import GrantState, HolderKind, StepKind, StepState
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service import finishing, latching
from openlatch.service.context import Unit
from openlatch.service.jsonable import jsonable
from openlatch.service.systems import adapter_for
from openlatch.store import cut
from openlatch.store.lists import REVOCATIONS
from openlatch.store.tables import (
    Account,
    Grant,
    Level,
    Resource,
    Revocation,
    RevocationTarget,
    Session,
    Step,
    System,
    Term,
)

# Ending more than this many grants at once is ending in bulk, and needs a fresh proof.
BULK = 5


@dataclass(frozen=True, slots=True)
class Wish:
    """What somebody wants to end or trim. A trim names one grant and a lower level, an earlier end, or both.

    ``parts`` are resources to be closed to the public.
    """

    grants: tuple[UUID, ...] = ()
    sessions: tuple[UUID, ...] = ()
    trim_level: UUID | None = None
    trim_until: datetime | None = None
    parts: tuple[UUID, ...] = ()

    @property
    def is_trim(self) -> bool:
        """Whether something is left afterwards."""
        return self.trim_level is not None or self.trim_until is not None


@dataclass(frozen=True, slots=True)
class _Prepared:
    register: Register
    targets: list[core.Target]
    sessions: list[core.LiveSession]
    preview: core.Preview
    systems: dict[UUID, System]


def preview(unit: Unit, wish: Wish) -> dict[str, Any]:
    """What a revocation would do, in words, with a fingerprint by which to confirm having seen it."""
    _refuse_unfit(unit, wish)
    prepared = _prepare(unit, wish)
    broken = [latching.shown(breach) for breach in _breaches(unit, prepared, wish)]
    return {**_with_fingerprint(_shown(prepared)), "latches": broken}


def _breaches(unit: Unit, prepared: _Prepared, wish: Wish) -> list[latches.Breach]:
    """What a latch says to it: the one that wants two stewards can refuse that one goes."""
    if not wish.grants:
        return []
    after = core.afterwards(prepared.register, prepared.targets)
    return latching.supposed(unit, prepared.register, after, list(prepared.register.accounts))


def start(unit: Unit, wish: Wish, reason: str, cause: str = "asked", fingerprint: str = "") -> UUID:
    """Start a revocation: its steps are stored, its grants read *revoking*, and the worker is woken.

    Conflict when a grant can't be revoked in its present state, or when the preview that was seen (by its
    ``fingerprint``) is no longer what would happen; Held when a latch refuses. Time that runs out asks no latch.
    """
    _refuse_unfit(unit, wish)
    if cause == "asked" and len(set(wish.grants)) > BULK:
        unit.require_proof(f"Ending {len(set(wish.grants))} grants at once")
    if len(reason.strip()) < 3:
        raise BadInput("A revocation needs a reason.", "Say in a few words why.", {"reason": "is missing"})
    grants = _lock(unit, wish)
    prepared = _prepare(unit, wish)
    shown = _with_fingerprint(_shown(prepared))
    if fingerprint and fingerprint != shown["fingerprint"]:
        raise Conflict("What this would do has changed since it was shown.", "Look at the preview again.")
    row = Revocation(
        organisation_id=unit.viewer.organisation,
        cause=cause,
        reason=reason.strip(),
        asked_by_id=unit.viewer.person,
        preview=jsonable(shown),
    )
    unit.db.add(row)
    unit.db.flush()
    _store_targets(unit, row, wish, prepared)
    for position, step in enumerate(prepared.preview.steps, 1):
        unit.db.add(_step_row(unit, row.id, position, step))
    for grant in grants:
        grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.REVOKING)
        grant.version += 1
        unit.record(
            "grant.revoking", "grant", grant.id, shown["title"], grant.account_id, reason=reason, revocation=row.id
        )
    accounts = {grant.account_id for grant in grants} | {s.account for s in prepared.sessions}
    accounts |= {part.account for part in prepared.preview.parts}
    if cause != "expired":
        latching.refuse(latches.held(_breaches(unit, prepared, wish)))
    for account in sorted(accounts):
        unit.record("revocation.started", "revocation", row.id, shown["title"], account, reason=reason)
    unit.db.flush()
    if prepared.preview.steps:
        unit.wake("carry_out", revocation=row.id)
    else:
        finishing.finish(unit, row)
    return row.id


def _refuse_unfit(unit: Unit, wish: Wish) -> None:
    if not wish.grants and not wish.sessions and not wish.parts:
        raise BadInput("Nothing is named to be ended.", "Give the ids of grants or sessions.")
    if wish.is_trim and (len(wish.grants) != 1 or wish.sessions or wish.parts):
        raise BadInput("A trim is of one grant.", "Give one grant, and a lower level or an earlier end.")
    if wish.trim_until is not None and wish.trim_until <= unit.now:
        raise BadInput("That end has passed.", "Choose a later one, or revoke.", {"trim_until": "has passed"})


def _lock(unit: Unit, wish: Wish) -> list[Grant]:
    """The grants, locked in one order so that two revocations at once can't wait for each other."""
    statement = select(Grant).where(Grant.id.in_(wish.grants)).order_by(Grant.id).with_for_update()
    grants = list(unit.db.scalars(statement.execution_options(populate_existing=True)))
    if len(grants) != len(set(wish.grants)):
        raise NotFound("There is no such grant, or you may not see it.")
    for grant in grants:
        unit.sight.require_answers_for(grant.account_id)
        if not may_become(GRANTS, GrantState(grant.state), GrantState.REVOKING):
            raise Conflict(
                f"The grant is {grant.state} and can't be revoked now.",
                "Look at its revocation." if grant.state == "revoking" else "There is nothing to revoke.",
            )
    return grants


def _prepare(unit: Unit, wish: Wish) -> _Prepared:
    grants = list(unit.db.scalars(select(Grant).where(Grant.id.in_(wish.grants)).order_by(Grant.id)))
    if len(grants) != len(set(wish.grants)):
        raise NotFound("There is no such grant, or you may not see it.")
    sessions = _sessions(unit, wish, grants)
    parts = [
        core.PublicPart(row.id, row.account_id, row.name)
        for row in unit.db.scalars(select(Resource).where(Resource.id.in_(wish.parts)).order_by(Resource.id))
    ]
    accounts = {g.account_id for g in grants} | {s.account_id for s in sessions} | {p.account for p in parts}
    for account in accounts:
        unit.sight.require_answers_for(account)
    systems = _systems(unit, accounts)
    register = cut.around_accounts(unit.db, sorted(accounts), onward=True)
    targets = [_target(unit, grant, systems[grant.account_id], wish) for grant in grants]
    live = [_live(session, systems[session.account_id]) for session in sessions]
    return _Prepared(register, targets, live, core.preview(register, targets, live, unit.now, parts), systems)


def _systems(unit: Unit, accounts: set[UUID]) -> dict[UUID, System]:
    found = unit.db.execute(
        select(Account.id, System).join(System, System.id == Account.system_id).where(Account.id.in_(accounts))
    )
    return dict(found.all())


def _sessions(unit: Unit, wish: Wish, grants: Sequence[Grant]) -> list[Session]:
    """The sessions named, and those that the grants' holders have in the same system."""
    named = unit.db.scalars(select(Session).where(Session.id.in_(wish.sessions), Session.ended_at.is_(None))).all()
    if len(named) != len(set(wish.sessions)):
        raise NotFound("There is no such session, or it has ended.")
    found = {session.id: session for session in named}
    if not wish.is_trim:
        for grant in grants:
            system = select(Account.system_id).where(Account.id == grant.account_id).scalar_subquery()
            connected = select(Account.id).join(System, System.id == Account.system_id)
            beside = connected.where(System.id == system, System.kind != "by_hand")
            # A login of a connected system signs in once for all its accounts there.
            there = (Session.account_id == grant.account_id) | Session.account_id.in_(beside)
            mine = select(Session).where(Session.holder_id == grant.holder_id, Session.ended_at.is_(None), there)
            found |= {session.id: session for session in unit.db.scalars(mine)}
    return sorted(found.values(), key=lambda s: s.id)


def _target(unit: Unit, row: Grant, system: System, wish: Wish) -> core.Target:
    value = cut.grant_value(row, cut.terms_of(unit.db, [row.id]).get(row.id, []))
    connected = system.kind in unit.service.adapters and bool(row.handle)
    trim = None
    if wish.is_trim:
        trim = core.Trim(_lower_level(unit, row, system, wish.trim_level, connected), wish.trim_until)
    if not connected:
        return core.Target(value, connected, row.handle, trim)
    adapter = adapter_for(unit.service, system)
    lower = trim.level if trim is not None else None
    kind = StepKind.REMOVE if lower is None else StepKind.REDUCE
    detail = {**row.handle, **({"to": _key_of(unit, lower.id)} if lower is not None else {})}
    moves = adapter.plan(kind, detail) if trim is None or lower is not None else ()
    return core.Target(value, connected, row.handle, trim, moves, adapter.can.sessions_first)


def _key_of(unit: Unit, level: UUID) -> str:
    return unit.db.get_one(Level, level).key or ""


def _lower_level(unit: Unit, grant: Grant, system: System, ident: UUID | None, connected: bool) -> Any:
    if ident is None:
        return None
    level = unit.db.get(Level, ident)
    if level is None or level.system_id != system.id:
        raise BadInput(
            "The account's system has no such level.", "Choose one of its levels.", {"trim_level": "unknown"}
        )
    held = unit.db.scalars(select(Level).join(Term, Term.level_id == Level.id).where(Term.grant_id == grant.id)).all()
    if all(level.reach > h.reach or level.id == h.id for h in held):
        raise BadInput(
            f"“{level.name}” takes nothing away.", "Choose a level that reaches less far.", {"trim_level": "not lower"}
        )
    if connected:
        adapter = adapter_for(unit.service, system)
        if not all(adapter.can_reduce(h.key or "", level.key or "") for h in held):
            raise BadInput(
                f"{system.name} can't reduce this access to “{level.name}”.",
                "Revoke it, and give the lower access instead; or trim the time.",
                {"trim_level": "can't be set there"},
            )
    return cut.level_value(level)


def _live(row: Session, system: System) -> core.LiveSession:
    holder = Holder(HolderKind(row.holder_kind), row.holder_id)
    return core.LiveSession(row.id, row.account_id, holder, system.kind != "by_hand" and bool(row.handle), row.handle)


def _store_targets(unit: Unit, row: Revocation, wish: Wish, prepared: _Prepared) -> None:
    base = {"organisation_id": unit.viewer.organisation, "revocation_id": row.id}
    for target in prepared.targets:
        unit.db.add(
            RevocationTarget(
                **base,
                account_id=target.grant.account,
                grant_id=target.grant.id,
                trim_level_id=wish.trim_level,
                trim_until=wish.trim_until,
            )
        )
    for session in prepared.sessions:
        unit.db.add(RevocationTarget(**base, account_id=session.account, session_id=session.id))
    for part in prepared.preview.parts:
        unit.db.add(RevocationTarget(**base, account_id=part.account, resource_id=part.id))


def _step_row(unit: Unit, revocation: UUID, position: int, step: core.PlannedStep) -> Step:
    return Step(
        organisation_id=unit.viewer.organisation,
        revocation_id=revocation,
        position=position,
        kind=step.kind,
        account_id=step.account,
        grant_id=step.grant,
        session_id=step.session,
        sentence=step.sentence,
        detail=step.detail or {},
        state=StepState.BY_HAND if step.kind is StepKind.BY_HAND else StepState.OPEN,
    )


# Words.


def _shown(prepared: _Prepared) -> dict[str, Any]:
    register, preview = prepared.register, prepared.preview
    return {
        "title": _title(prepared),
        "changes": [_change(register, change) for change in preview.changes],
        "sessions": [
            {"id": s.id, "holder": register.name_of(s.holder), "account": _account_name(register, s.account)}
            for s in preview.sessions
        ],
        "apps_that_stop": [register.name_of(change.holder) for change in preview.apps_that_stop],
        "without_owner": [account.name for account in preview.without_owner],
        "undo_alone": preview.undo_alone,
        "steps": [{"kind": step.kind, "sentence": step.sentence} for step in preview.steps],
    }


def _title(prepared: _Prepared) -> str:
    register, targets = prepared.register, prepared.targets
    if prepared.preview.parts:
        part = prepared.preview.parts[0]
        return f"Close “{part.name}” in {_account_name(register, part.account)} to everyone outside"
    if not targets:
        count = len(prepared.sessions)
        return f"End {count} session{'s' * (count != 1)}"
    first = targets[0].grant
    verb = "Trim" if targets[0].trim else "End"
    what = f"{verb} the access of {register.name_of(first.holder)} to {_account_name(register, first.account)}"
    return what if len(targets) == 1 else f"{what}, and {len(targets) - 1} more"


def _account_name(register: Register, account: UUID) -> str:
    return register.accounts[account].name if account in register.accounts else ""


def _change(register: Register, change: core.Change) -> dict[str, Any]:
    return {
        "holder": {"kind": change.holder.kind, "id": change.holder.id, "name": register.name_of(change.holder)},
        "account": {"id": change.account, "name": _account_name(register, change.account)},
        "ends": [_permission(p) for p in sorted(change.ends, key=lambda p: (-p.reach, p.key))],
        "remains": [_remaining(path) for path in change.remains],
    }


def _permission(permission: Permission) -> dict[str, Any]:
    return {"key": permission.key, "sentence": permission.sentence, "reach": int(permission.reach)}


def _remaining(path: Path) -> dict[str, Any]:
    level = "Owner" if path.level is None else path.level.name
    return {"words": path.words, "level": level, "reach": int(path.reach), "until": path.window.until}


def _with_fingerprint(shown: dict[str, Any]) -> dict[str, Any]:
    digest = hashlib.sha256(rfc8785.dumps(jsonable(shown))).hexdigest()
    return {**shown, "fingerprint": digest[:32]}


# Looking at one, and helping it on.


def page(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A revocation with its preview and its steps. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = REVOCATIONS.one(unit.db, ident, [unit.sight.revocations()])
    if row is None:
        raise NotFound("There is no such revocation, or you may not see it.")
    steps = unit.db.scalars(select(Step).where(Step.revocation_id == ident).order_by(Step.position))
    stored = unit.db.get_one(Revocation, ident)
    return {**row, "preview": stored.preview, "step_list": [_step_shown(step) for step in steps]}


def _step_shown(step: Step) -> dict[str, Any]:
    names = ("id", "position", "kind", "sentence", "state", "tries", "answer", "next_try_at", "done_at")
    return {name: getattr(step, name) for name in names}


def retry(unit: Unit, ident: UUID) -> None:
    """Try the waiting steps of a revocation now instead of later."""
    _require(unit, ident)
    waiting = update(Step).where(Step.revocation_id == ident, Step.state == StepState.WAITING)
    unit.db.execute(waiting.values(next_try_at=unit.now))
    unit.wake("carry_out", revocation=ident)


def done_by_hand(unit: Unit, ident: UUID, step_id: UUID, proof: str) -> None:
    """Say that a step that waits for hands was done, and what was seen. Conflict when it does not wait."""
    _require(unit, ident)
    if len(proof.strip()) < 3:
        raise BadInput("Say what was done.", "Write what you did and what you saw.", {"proof": "is missing"})
    step = unit.db.get(Step, step_id, with_for_update=True)
    if step is None or step.revocation_id != ident:
        raise NotFound("This revocation has no such step.")
    if step.state != StepState.BY_HAND:
        raise Conflict(f"The step is {step.state}; it does not wait for hands.", "Look at it again.")
    step.state, step.done_at, step.tries = StepState.DONE, unit.now, step.tries + 1
    step.answer = f"{unit.viewer.name} says: {proof.strip()}"
    unit.record("step.done", "step", step.id, step.sentence, step.account_id, answer=step.answer, by_hand=True)
    unit.db.flush()
    finishing.finish_if_done(unit, unit.db.get_one(Revocation, ident, with_for_update=True))


def _require(unit: Unit, ident: UUID) -> None:
    """Whoever answers for every account that it touches may help it on."""
    page(unit, ident)
    accounts = select(RevocationTarget.account_id).where(RevocationTarget.revocation_id == ident).distinct()
    for account in unit.db.scalars(accounts):
        unit.sight.require_answers_for(account)


def expired(unit: Unit, most: int = 200) -> list[UUID]:
    """Grants whose time is over, and which nobody has begun to end."""
    over = select(Term.grant_id).where(Term.until <= unit.now)
    going_on = select(Term.grant_id).where(or_(Term.until.is_(None), Term.until > unit.now))
    due = select(Grant.id).where(
        Grant.state.in_(("active", "suspended")), Grant.id.in_(over), Grant.id.not_in(going_on)
    )
    return list(unit.db.scalars(due.order_by(Grant.id).limit(most)))
