"""Resolving drift between a system and the register: adopt it, restore it, or accept it until a day."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch.core.time_windows import end_in_words
from openlatch.core.vocabulary import FlagState, GrantState, Owed, Reach, Standing
from openlatch.errors import BadInput, Conflict
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import manage as manage_flags
from openlatch.service.grants import lifecycle
from openlatch.service.grants.change_types import Change, Made, guarded, line_of, note, refuse_ended, terms_of
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.lists.register import DRIFT_RULES
from openlatch.store.tables import Account, Flag, Grant, Level, Person, Term


def adopt(unit: Unit, change: Change, grant: Grant) -> Made:
    """Adopt what a system has: unrecorded access, or rights other than recorded.

    An account without an owner can be given one.
    """
    refuse_ended(grant)
    if grant.recorded and grant.differs is None:
        raise Conflict("The grant is recorded already, as its system has it.", "There is nothing to adopt.")
    kept = terms_of(unit, grant)
    found = [(UUID(level), UUID(part) if part else None) for level, part in (grant.differs or {}).get("terms", ())]
    levels = [unit.db.get_one(Level, ident) for ident in [level for level, _ in found] or [t.level_id for t in kept]]
    steward = any(level.reach == Reach.STEWARD for level in levels)
    if steward:
        unit.require_proof("Vouching for steward reach")
    account = unit.db.get_one(Account, grant.account_id)
    does = f"is recorded as given by {unit.viewer.name}"
    with guarded(unit, grant) as warned:
        owned = _give_owner(unit, account, change) if change.successor is not None else ""
        if grant.recorded:
            does = f"is recorded as “{(grant.differs or {})['level']}”, which its system has"
            _take_terms(unit, grant, kept, found)
        else:
            grant.recorded, grant.given_by_id, grant.reason = True, unit.viewer.person, change.reason.strip()
        grant.version += 1
        unit.db.flush()
        note(unit, "grant.adopted", grant, change)
    evaluate_flags.evaluate(unit, grants=[grant.id])
    return line_of(unit, f"{does}{owned}", warned, steward=steward)


def _take_terms(unit: Unit, grant: Grant, kept: Sequence[Term], found: Sequence[tuple[UUID, UUID | None]]) -> None:
    """The system's rights, with the recorded time: the register keeps ends."""
    windows = {(term.since, term.until) for term in kept}
    since, until = windows.pop() if len(windows) == 1 else (None, None)
    for term in kept:
        unit.db.delete(term)
    unit.db.flush()
    for level, part in found:
        unit.db.add(
            Term(
                organisation_id=grant.organisation_id,
                grant_id=grant.id,
                level_id=level,
                resource_id=part,
                since=since,
                until=until,
            )
        )
    grant.differs = None


def _give_owner(unit: Unit, account: Account, change: Change) -> str:
    """Give an account without an owner one; returns it in words."""
    person = unit.db.get(Person, change.successor)
    if person is None or person.standing == Standing.LEFT or not person.recognised:
        raise BadInput("There is no such owner, or they have left.", "Choose another.", {"successor": "unknown"})
    if account.owner_id == person.id:
        return ""
    if account.owner_id is not None:
        raise Conflict(f"{account.name} has an owner.", "Have it handed over instead.")
    unit.sight.require_administrator()
    account.owner_id = person.id
    account.version += 1
    unit.record("account.owned", "account", account.id, account.name, account.id, owner=person.name)
    evaluate_flags.evaluate_owner(unit, account.id, [person.id])
    notices.tell(unit, [person.id], "account", f"You own {account.name} from now on.", f"/accounts/{account.id}")
    return f"; {person.name} owns {account.name} from now on"


def restore(unit: Unit, change: Change, grant: Grant) -> Made:
    """Restore in the system what the register has, where it is missing or different there."""
    if grant.state != GrantState.ACTIVE or (grant.missing_since is None and grant.differs is None):
        raise Conflict("The system has this grant as it is recorded.", "There is nothing to restore.")
    if any(unit.db.get_one(Level, term.level_id).reach == Reach.STEWARD for term in terms_of(unit, grant)):
        unit.require_proof("Giving steward reach")
    lifecycle.owe(unit, grant, Owed.GIVE)
    grant.version += 1
    note(unit, "grant.restored", grant, change)
    lost = grant.differs is None
    return line_of(unit, "is given in the system again" if lost else "is brought to what is recorded, in the system")


def accept(unit: Unit, change: Change, grant: Grant) -> Made:
    """Accept a difference until a day: its flag is accepted, and comes back then."""
    refuse_ended(grant)
    account = unit.db.get_one(Account, grant.account_id)
    until = lifecycle.end_of(account, change.until, change.last_day, unit.now)
    if until is None:
        raise BadInput("No day is given.", "Say until when it is accepted.", {"last_day": "is missing"})
    drifted = select(Flag.id).where(
        Flag.subject_id == grant.id, Flag.rule.in_(DRIFT_RULES), Flag.state == FlagState.OPEN
    )
    found = unit.db.scalars(drifted.order_by(Flag.id)).all()
    if not found:
        raise Conflict("Nothing is open about it.", "It is as recorded, or was accepted already.")
    manage_flags.accept(unit, found, change.reason, until)
    return line_of(unit, f"is accepted {end_in_words(until, ZoneInfo(account.time_zone))}")
