"""The organisation's guards in systems that have a guard over all accounts: set there, and watched."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta
from uuid import UUID

from sqlalchemy import Select, select

from openlatch.core.ids import new_id
from openlatch.core.vocabulary import ToldGuardState
from openlatch.json_values import JsonList, JsonObject
from openlatch.service.exposure import boundary
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Account, ExposureGuard, System, SystemGuard

# Prefix of the organisation's guards in systems.
PREFIX = "ours."
AGAIN = timedelta(minutes=1)
_OFF = "It was switched off in the system."


def able(unit: Unit) -> list[System]:
    """The connected systems that have a guard over all accounts."""
    adapters = unit.service.adapters
    rows = unit.db.scalars(
        select(System)
        .where(System.kind.in_(adapters), System.has_secret, System.archived_at.is_(None))
        .order_by(System.id)
    ).all()
    return [row for row in rows if adapters[row.kind](row.settings, "").can.sets_guards]


def want(unit: Unit) -> None:
    """Have every system that can set every guard on everything."""
    everywhere = unit.db.scalars(_everywhere()).all()
    for system in able(unit):
        known = set(unit.db.scalars(select(SystemGuard.guard_id).where(SystemGuard.system_id == system.id)))
        new = [guard for guard in everywhere if guard.id not in known]
        for guard in new:
            unit.db.add(
                SystemGuard(id=new_id(), organisation_id=guard.organisation_id, guard_id=guard.id, system_id=system.id)
            )
        if new:
            unit.wake("set_guards", system=system.id)
    unit.db.flush()


def tell_anew(unit: Unit) -> None:
    """Have every system given the present guards: one was lifted, or the boundary changed."""
    for system in able(unit):
        unit.wake("set_guards", system=system.id)


def watch(unit: Unit, system: System) -> None:
    """After a reading: which guards the system shows now, and which no longer."""
    if unit.service.adapters[system.kind](system.settings, "").can.sets_guards:
        # Systems connected after a guard was set get it, too.
        want(unit)
    rows = rows_of(unit, system.id)
    of_system = select(Account.id).where(Account.system_id == system.id, Account.handle.is_not(None))
    accounts = list(unit.db.scalars(of_system))
    shown = _shown(unit, accounts)
    if not accounts or not (rows or shown):
        return
    changed = False
    for row in rows:
        is_there = f"{PREFIX}{row.guard_id}" in shown
        now = ToldGuardState.SET if is_there else ToldGuardState.OFF if row.state == ToldGuardState.SET else row.state
        if is_there:
            row.seen_at = unit.now
        if now == row.state:
            continue
        changed = True
        row.state, row.words = now, "" if is_there else _OFF
        if row.state == ToldGuardState.OFF:
            guard = unit.db.get_one(ExposureGuard, row.guard_id)
            unit.record("exposure_guard.off", "exposure_guard", guard.id, ", ".join(guard.rights), system=system.name)
        else:
            unit.record("exposure_guard.stands", "exposure_guard", row.guard_id, system.name, system=system.name)
    if shown - {f"{PREFIX}{row.guard_id}" for row in rows} or any(row.state == ToldGuardState.WAITING for row in rows):
        unit.wake("set_guards", unit.now + AGAIN, system=system.id)
    if changed:
        unit.db.flush()
        evaluate_flags.evaluate(unit, accounts=sorted(accounts))
        unit.announce("exposure_guards")


def of_guards(unit: Unit) -> dict[UUID, list[JsonObject]]:
    """By guard: the systems that it was sent to, and whether it is set there."""
    found: dict[UUID, list[JsonObject]] = {}
    rows = unit.db.execute(
        select(SystemGuard, System.name).join(System, System.id == SystemGuard.system_id).order_by(System.name)
    )
    for row, name in rows:
        told = {
            "system": {"id": row.system_id, "name": name},
            "state": row.state,
            "words": row.words,
            "seen_at": row.seen_at,
        }
        found.setdefault(row.guard_id, []).append(told)
    return found


def _everywhere() -> Select[ExposureGuard]:
    return select(ExposureGuard).where(
        ExposureGuard.account_id.is_(None), ExposureGuard.account_kind.is_(None), ExposureGuard.resource_id.is_(None)
    )


def rows_of(unit: Unit, system: UUID) -> list[SystemGuard]:
    """The rows of guards sent to a system, locked."""
    wanted = select(SystemGuard).where(SystemGuard.system_id == system).order_by(SystemGuard.guard_id)
    return list(unit.db.scalars(wanted.with_for_update()))


def _shown(unit: Unit, accounts: Iterable[UUID]) -> set[str]:
    """The keys of the organisation's guards that a system shows."""
    wanted = select(AccessRule.key).where(
        AccessRule.account_id.in_(accounts), AccessRule.is_guard, AccessRule.key.startswith(PREFIX)
    )
    return set(unit.db.scalars(wanted))


def as_told(unit: Unit, row: SystemGuard) -> JsonObject:
    """A guard as a rule document that names everybody who is inside."""
    guard = unit.db.get_one(ExposureGuard, row.guard_id)
    told = boundary.setting(unit)
    inside: JsonList = [{"organisation": name} for name in sorted({*told.domains, *told.organisations})]
    inside += [{"network": each} for each in told.networks]
    return {
        "guard": f"{PREFIX}{guard.id}",
        **({"because": guard.reason} if guard.reason else {}),
        "refuse": ["anyone"],
        "but": [*(inside or ["inside"]), *guard.but],
        "to": guard.rights,
    }


def fail(rows: Iterable[SystemGuard], words: str) -> None:
    """Store for waiting guards why they could not be set."""
    for row in rows:
        if row.state == ToldGuardState.WAITING:
            row.state, row.words = "failed", words
