"""Revocations: the preview, and starting one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from uuid import UUID

from sqlalchemy import or_, select

from openlatch import schemas
from openlatch.core import latches
from openlatch.core.checks import require_words
from openlatch.core.revocations import preview as core_preview
from openlatch.core.states import GRANTS, move
from openlatch.core.vocabulary import Cause, GrantState
from openlatch.errors import BadInput, Conflict
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.canonical_json import jsonable
from openlatch.service.grants import hand_tasks, terms
from openlatch.service.latches import guard
from openlatch.service.revocations import confirm, prepare, transitions
from openlatch.service.revocations.preview import Prepared, shown, with_fingerprint
from openlatch.service.unit import Unit
from openlatch.store.tables import (
    Account,
    Grant,
    Person,
    Revocation,
    RevocationTarget,
    System,
)
from openlatch.store.tables import Term as TermRow

# Ending more grants than this at once needs a fresh proof.
BULK = 5


def preview(unit: Unit, wish: prepare.Wish, leaver: str = "") -> schemas.Preview:
    """What a revocation would do, in words, with a fingerprint by which to confirm having seen it.

    ``leaver`` is the name of whoever leaves by it; they may have nothing left to end.
    """
    _refuse_unfit(unit, wish, leaver)
    prepared = prepare.prepare(unit, wish, leaver)
    broken = [guard.shown(breach) for breach in _breaches(unit, prepared, wish)]
    told = with_fingerprint(shown(prepared))
    return told.model_copy(update={"latches": broken, "unknown": unknown(unit, prepared.systems)})


def unknown(unit: Unit, accounts: Iterable[UUID]) -> list[str]:
    """What readings of these accounts did not cover: access may remain there unseen."""
    rows = unit.db.execute(
        select(Account.name, Account.coverage, System.coverage)
        .join(System, System.id == Account.system_id)
        .where(Account.id.in_(list(accounts)))
        .order_by(Account.name)
    )
    return [
        f"{name}: {gap}"
        for name, own, everywhere in rows
        for gap in (*own.get("not_looked_at", ()), *everywhere.get("not_looked_at", ()))
    ]


def _breaches(unit: Unit, prepared: Prepared, wish: prepare.Wish) -> list[latches.Breach]:
    """Latches that the revocation would break: only the one for two stewards can refuse it."""
    if not wish.grants:
        return []
    after = core_preview.afterwards(prepared.register, prepared.targets)
    return guard.supposed(unit, prepared.register, after, list(prepared.register.accounts))


def start(
    unit: Unit,
    wish: prepare.Wish,
    reason: str,
    cause: Cause = Cause.ASKED,
    fingerprint: str = "",
    leaver: Person | None = None,
) -> UUID:
    """Start a revocation: store its steps, mark its grants as *revoking*, wake the worker.

    Conflict when a grant can't be revoked in its present state, or the preview with this ``fingerprint`` is no longer
    what would happen; Held when a latch refuses. Expiry asks no latch.
    """
    _refuse_unfit(unit, wish, leaver.name if leaver else "")
    if cause == Cause.ASKED and len(set(wish.grants)) > BULK:
        unit.require_proof(f"Ending {len(set(wish.grants))} grants at once")
    require_words(reason, "A revocation needs a reason.")
    locks.access(unit)
    grants = prepare.lock(unit, wish)
    prepared = prepare.prepare(unit, wish, leaver.name if leaver else "", grants)
    told = with_fingerprint(shown(prepared))
    if fingerprint and fingerprint != told.fingerprint:
        raise Conflict("What this would do has changed since it was shown.", "Look at the preview again.")
    row = Revocation(
        organisation_id=unit.viewer.organisation,
        cause=cause,
        reason=reason.strip(),
        asked_by_id=unit.viewer.person,
        preview=jsonable(told),
        leaver_id=leaver.id if leaver else None,
    )
    unit.db.add(row)
    unit.db.flush()
    _store_targets(unit, row, wish, prepared, grants)
    for position, step in enumerate(prepared.preview.steps, 1):
        unit.db.add(transitions.new_step(unit, row.id, position, step))
    for grant in grants:
        grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.REVOKING)
        # Cancel pending provisioning.
        grant.owed, grant.owed_next_try_at, grant.owed_answer = None, None, ""
        grant.version += 1
        unit.record("grant.revoking", "grant", grant.id, told.title, grant.account_id, reason=reason, revocation=row.id)
    hand_tasks.drop(unit, [grant.id for grant in grants])
    accounts = {grant.account_id for grant in grants} | {s.account for s in prepared.sessions}
    accounts |= {rule.account for rule in prepared.preview.rules}
    # No latch keeps the access of somebody whose time is over, or who has left; of a successor the guard around both
    # knows.
    if cause not in (Cause.EXPIRED, Cause.LEFT, Cause.REPLACED):
        guard.refuse(latches.held(_breaches(unit, prepared, wish)))
    for account in sorted(accounts):
        unit.record("revocation.started", "revocation", row.id, told.title, account, reason=reason)
    unit.db.flush()
    if grants:
        guard.evaluate(unit, prepared.register.accounts)
    if prepared.preview.steps:
        unit.wake("carry_out", revocation=row.id)
    else:
        confirm.finish(unit, row)
    return row.id


def _refuse_unfit(unit: Unit, wish: prepare.Wish, leaver: str) -> None:
    if not leaver and not (wish.grants or wish.sessions or wish.logins or wish.rules):
        raise BadInput("Nothing is named to be ended.", "Give the ids of grants or sessions.")
    if wish.is_trim and (len(wish.grants) != 1 or wish.sessions or wish.rules):
        raise BadInput("Trim one grant at a time.", "Give one grant, and a lower level or an earlier end.")


def _store_targets(
    unit: Unit, row: Revocation, wish: prepare.Wish, prepared: Prepared, grants: Sequence[Grant]
) -> None:
    base = {"organisation_id": unit.viewer.organisation, "revocation_id": row.id}
    before = _as_they_were(unit, grants)
    for target in prepared.targets:
        unit.db.add(
            RevocationTarget(
                **base,
                account_id=target.grant.account,
                grant_id=target.grant.id,
                trim_level_id=wish.trim_level,
                trim_until=target.trim.until if target.trim else None,
                trim_terms=[terms.stored(term) for term in wish.keep] or None,
                was=before[target.grant.id],
            )
        )
    for session in prepared.sessions:
        unit.db.add(RevocationTarget(**base, account_id=session.account, session_id=session.id))
    for rule in prepared.preview.rules:
        was = {"rule": rule.key, "words": rule.words}
        unit.db.add(RevocationTarget(**base, account_id=rule.account, rule_id=rule.id, was=was))


def _as_they_were(unit: Unit, grants: Sequence[Grant]) -> dict[UUID, JsonObject]:
    """Grants before the revocation: state, name in their system, terms."""
    names = ("level_id", "resource_id", "group_id", "since", "until", "hours")
    found: dict[UUID, JsonObject] = {
        grant.id: {"state": str(grant.state), "handle": grant.handle, "terms": [], "owed": grant.owed}
        for grant in grants
    }
    held = unit.db.scalars(select(TermRow).where(TermRow.grant_id.in_(found)).order_by(TermRow.id))
    for term in held:
        found[term.grant_id]["terms"].append(jsonable({name: getattr(term, name) for name in names}))
    return found


def expired(unit: Unit, most: int = 200) -> list[UUID]:
    """Grants whose time is over, and whose end has not begun.

    Only if the register set the end: an end reported by a system is the system's to keep.
    """
    over = select(TermRow.grant_id).where(TermRow.until <= unit.now)
    going_on = select(TermRow.grant_id).where(or_(TermRow.until.is_(None), TermRow.until > unit.now))
    due = select(Grant.id).where(
        Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED)),
        Grant.ends_here,
        Grant.id.in_(over),
        Grant.id.not_in(going_on),
    )
    return list(unit.db.scalars(due.order_by(Grant.id).limit(most)))
