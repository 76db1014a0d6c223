"""Provisioning: bringing systems to what the register says.

Pending provisioning is stored in ``grant.owed`` and tried until it is done, at growing intervals. A try looks first, so
nothing is done twice.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import select

from openlatch.adapters import Adapter
from openlatch.core.retries import wait_after
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import GrantState, Owed, StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.connections import adapter_for
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.due import is_over
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account, Grant, Handle, Level, Resource, System, Term

# When to look again while the same grant is being changed in its system.
AGAIN_AFTER = timedelta(seconds=2)
# The state in which a grant has to be for each kind of provisioning.
_FITTING = {Owed.GIVE: GrantState.ACTIVE, Owed.TAKE: GrantState.SUSPENDED}


def settle(service: Service, organisation: UUID, ident: UUID) -> datetime | None:
    """Try the pending provisioning of a grant; returns when to try again, or None when nothing is pending.

    Giving and taking away share a lease on the grant, and giving happens only while it is active: a revocation that
    starts meanwhile runs afterwards and takes away what was given.
    """
    with locks.lease_on_grants(service, [ident]) as leased:
        if ident not in leased:
            return service.clock() + AGAIN_AFTER
        with ExitStack() as rooms:
            return _settle(service, Viewer.itself(organisation), ident, rooms)


def _settle(service: Service, viewer: Viewer, ident: UUID, rooms: ExitStack) -> datetime | None:
    with service.unit(viewer) as unit:
        grant = unit.db.get(Grant, ident, with_for_update=True)
        if grant is None or grant.owed is None:
            return None
        if grant.state != _FITTING[Owed(grant.owed)]:
            grant.owed, grant.owed_next_try_at, grant.owed_answer = None, None, ""
            return None
        account = unit.db.get_one(Account, grant.account_id)
        system = unit.db.get_one(System, account.system_id)
        owed, version = Owed(grant.owed), grant.version
        if not rooms.enter_context(service.rooms.enter(system.id)):
            return unit.now + AGAIN_AFTER
        adapter = adapter_for(service, system)
        moves, lacking = _moves(unit, adapter, grant, account, system, owed)
    detail = next((move.detail for move in moves if move.kind is StepKind.GIVE), {})
    if lacking:
        return _store(service, viewer, ident, version, owed, False, lacking, detail)
    try:
        said = [adapter.apply(move.kind, move.detail) for move in moves]
        # Skip confirming removals that a later give supersedes.
        last = [move for move in moves if owed is Owed.TAKE or move.kind is not StepKind.REMOVE]
        shown = [wrong for move in last if (wrong := adapter.confirm(move.kind, move.detail)) is not None]
    except (SystemDown, SystemRefused) as error:
        return _store(service, viewer, ident, version, owed, False, f"{error.detail} {error.remedy}".strip(), detail)
    return _store(service, viewer, ident, version, owed, not shown, " ".join(shown or said), detail)


def _moves(
    unit: Unit, adapter: Adapter, grant: Grant, account: Account, system: System, owed: Owed
) -> tuple[tuple[Move, ...], str]:
    """What has to be done in the system, in order; or what is missing for it, in words."""
    if owed is Owed.TAKE and grant.handle:
        return adapter.plan(StepKind.REMOVE, grant.handle), ""
    if grant.handle and grant.differs is None and (there := adapter.again(grant.handle)) is not None:
        return (Move(StepKind.GIVE, there),), ""
    details, lacking = holdings(unit, adapter, grant, account, system)
    if lacking:
        return (), lacking
    if owed is Owed.TAKE:
        return tuple(Move(StepKind.REMOVE, detail) for detail in details), ""
    given = tuple(Move(StepKind.GIVE, detail) for detail in details)
    return (*_instead(unit, adapter, grant), *given), ""


def holdings(
    unit: Unit, adapter: Adapter, grant: Grant, account: Account, system: System
) -> tuple[list[JsonObject], str]:
    """How the system names what a grant gives; or what is missing for it, in words."""
    login = grant.handle.get("login") or unit.db.scalar(
        select(Handle.name)
        .where(
            Handle.system_id == system.id,
            (Handle.person_id == grant.holder_id) | (Handle.app_id == grant.holder_id),
        )
        .order_by(Handle.name)
    )
    if not account.handle:
        return [], f"{system.name} has not shown this account yet; have it read first."
    if not login:
        return [], f"The holder has no login in {system.name} that is known here; record it, or make one there."
    # On a part, the part's own name is used; on the whole account the farthest level counts.
    wanted = {part or account.handle: level or "" for level, part in reversed(_held(unit, grant))}
    try:
        details = [adapter.holding(place, login, level) for place, level in sorted(wanted.items())]
    except SystemRefused as error:
        return [], f"{error.detail} {error.remedy}".strip()
    return details, ""


def _held(unit: Unit, grant: Grant) -> Sequence[AnyRow]:
    return unit.db.execute(
        select(Level.key, Resource.key.label("part"))
        .join(Term, Term.level_id == Level.id)
        .outerjoin(Resource, Resource.id == Term.resource_id)
        .where(Term.grant_id == grant.id)
        .order_by(Resource.key.nulls_first(), Level.reach.desc())
    ).all()


def _instead(unit: Unit, adapter: Adapter, grant: Grant) -> tuple[Move, ...]:
    """What to do first where the system gives something else: reduce it if possible, else nothing."""
    there = (grant.differs or {}).get("terms", ())
    if not there:
        return ()
    held = _held(unit, grant)
    if len(there) == 1 and len(held) == 1 and there[0][1] is None and held[0].key is not None:
        shown = unit.db.get_one(Level, UUID(there[0][0])).key or ""
        if adapter.can_reduce(shown, held[0].key):
            return adapter.plan(StepKind.REDUCE, {**grant.handle, "to": held[0].key})
    return adapter.plan(StepKind.REMOVE, grant.handle)


def _store(
    service: Service,
    viewer: Viewer,
    ident: UUID,
    version: int,
    owed: Owed,
    done: bool,
    answer: str,
    detail: Mapping[str, object],
) -> datetime | None:
    with service.unit(viewer) as unit:
        grant = unit.db.get_one(Grant, ident, with_for_update=True, populate_existing=True)
        if grant.owed != owed or grant.version != version:
            return unit.now if grant.owed else None
        name = unit.db.get_one(Account, grant.account_id).name
        if done:
            grant.owed, grant.owed_next_try_at, grant.owed_answer = None, None, answer
            if owed is Owed.GIVE:
                grant.handle, grant.missing_since, grant.differs = {**grant.handle, **detail}, None, None
            action = "grant.given_there" if owed is Owed.GIVE else "grant.taken_there"
            unit.record(action, "grant", grant.id, name, grant.account_id, answer=answer)
            evaluate_flags.evaluate(unit, noted=[grant.id])
            if grant.emergency and owed is Owed.GIVE:
                _tell_of_emergency(unit, grant, f"{name} is open in its system now, in an emergency.")
            return None
        tries = max(1, int((unit.now - (grant.owed_since or unit.now)).total_seconds()) // 2 + 1).bit_length()
        grant.owed_next_try_at = unit.now + wait_after(tries)
        if grant.owed_answer != answer:
            if grant.emergency and owed is Owed.GIVE:
                _tell_of_emergency(unit, grant, f"{name} could not be opened in its system yet: {answer}")
            grant.owed_answer = answer
            unit.record("grant.owed", "grant", grant.id, name, grant.account_id, owed=owed, answer=answer)
        return grant.owed_next_try_at


def _tell_of_emergency(unit: Unit, grant: Grant, sentence: str) -> None:
    told = {grant.person_id, *notices.stewards(unit, grant.account_id), *notices.answerers(unit, grant.account_id)}
    notices.tell_and_write(unit, told, "emergency", sentence, f"/accounts/{grant.account_id}")


def due(unit: Unit) -> list[UUID]:
    """Grants with provisioning that is due."""
    # Tasks by hand have no next try.
    owed = select(Grant.id).where(Grant.owed.is_not(None), is_over(Grant.owed_next_try_at, unit.now))
    live = Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED))
    return list(unit.db.scalars(owed.where(live).order_by(Grant.owed_next_try_at).limit(500)))
