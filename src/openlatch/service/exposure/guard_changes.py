"""Setting and lifting guards, with a preview of what is open against each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.exposure import document
from openlatch.core.exposure.rules import Rule
from openlatch.errors import BadInput, Conflict
from openlatch.json_values import JsonValue
from openlatch.service.canonical_json import fingerprint
from openlatch.service.exposure import account_rules, evaluate, guards, previews, system_guards
from openlatch.service.exposure.account_rules import AccountRules
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, ExposureGuard, Resource, SystemGuard


@dataclass(frozen=True, slots=True)
class Wish:
    """A guard to be set: on an account, a kind, a resource, or on everything if none is named."""

    rights: Sequence[str]
    reason: str
    but: Sequence[JsonValue] = ()
    account: UUID | None = None
    account_kind: str | None = None
    resource: UUID | None = None


def preview(unit: Unit, wish: Wish) -> schemas.ExposureChanges:
    """What is open against such a guard now."""
    guard = _draft(unit, wish)
    path = None if guard.resource_id is None else unit.db.get_one(Resource, guard.resource_id).path
    return _against(unit, guard, guards.as_rule(guard, path))


def _against(unit: Unit, guard: ExposureGuard, rule: Rule) -> schemas.ExposureChanges:
    """What is open against one guard, with a fingerprint."""

    def only(account: Account) -> AccountRules:
        return replace(account_rules.opened(unit, account), ours=[rule])

    shown = previews.of_accounts(unit, guards.concerned(unit, guard), only)
    lines = [line for line in shown.lines if line.forbidden]
    told = sorted((line.sentence, str(line.account.id)) for line in lines)
    everywhere = (guard.account_id, guard.account_kind, guard.resource_id) == (None, None, None)
    return shown.model_copy(
        update={
            "lines": lines,
            "more": shown.forbidden - len(lines),
            "fingerprint": fingerprint(told),
            "systems": [system.name for system in system_guards.able(unit)] if everywhere else [],
        }
    )


def add(unit: Unit, wish: Wish, seen: str = "") -> schemas.GuardRow:
    """Set a guard. Conflict when what is open against it differs from what was ``seen`` in the preview."""
    guard = _draft(unit, wish)
    if not guard.reason:
        raise BadInput("Say why the guard is there.", "Whoever meets it next has only your reason.", {"reason": "none"})
    if seen and preview(unit, wish).fingerprint != seen:
        raise _otherwise()
    unit.db.add(guard)
    unit.db.flush()
    account = guard.account_id
    unit.record("exposure_guard.set", "exposure_guard", guard.id, ", ".join(guard.rights), account, reason=guard.reason)
    evaluate.soon(unit, guards.concerned(unit, guard))
    system_guards.want(unit)
    unit.announce("exposure_guards")
    return next(row for row in guards.listed(unit) if row.id == guard.id)


def preview_lifting(unit: Unit, ident: UUID) -> schemas.ExposureChanges:
    """What is open against a guard now, and would no longer be flagged."""
    guard = guards.opened(unit, ident)
    path = None if guard.resource_id is None else unit.db.get_one(Resource, guard.resource_id).path
    return _against(unit, guard, guards.as_rule(guard, path))


def remove(unit: Unit, ident: UUID, reason: str, seen: str = "") -> None:
    """Lift a guard. Needs a fresh proof of identity."""
    guard = guards.opened(unit, ident)
    unit.require_proof("Lifting a guard")
    if seen and preview_lifting(unit, ident).fingerprint != seen:
        raise _otherwise()
    concerned = guards.concerned(unit, guard)
    unit.record(
        "exposure_guard.lifted",
        "exposure_guard",
        guard.id,
        ", ".join(guard.rights),
        guard.account_id,
        reason=reason.strip(),
    )
    unit.db.delete(guard)
    unit.db.flush()
    evaluate.soon(unit, concerned)
    system_guards.tell_anew(unit)
    unit.announce("exposure_guards")


def set_again(unit: Unit, ident: UUID) -> None:
    """Set a guard again where it was switched off or failed. Conflict where it is set wherever it can be."""
    guard = guards.opened(unit, ident)
    rows = unit.db.scalars(
        select(SystemGuard)
        .where(SystemGuard.guard_id == ident, SystemGuard.state.in_(("off", "failed")))
        .with_for_update()
    ).all()
    if not rows:
        raise Conflict("It is not switched off anywhere.", "There is nothing to set again.")
    for row in rows:
        row.state, row.words = "waiting", ""
        unit.wake("set_guards", system=row.system_id)
    unit.record("exposure_guard.set_again", "exposure_guard", guard.id, ", ".join(guard.rights))
    unit.announce("exposure_guards")


def _draft(unit: Unit, wish: Wish) -> ExposureGuard:
    try:
        for each in wish.but:
            document.who_of(each)
    except document.Unreadable as error:
        raise BadInput(str(error.problems[0].message), "Name them as rules do.", {"but": "not readable"}) from error
    return guards.draft(unit, wish.rights, wish.but, wish.reason, wish.account, wish.account_kind, wish.resource)


def _otherwise() -> Conflict:
    return Conflict("Something else is open by now.", "Look at the preview again.")
