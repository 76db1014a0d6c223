"""Systems: connecting them, and reading them by their schedule or when somebody asks.

A reading is compared with the register when it is whole (``service.systems.comparison``); one that breaks off changes
nothing.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from datetime import timedelta
from uuid import UUID

from sqlalchemy import func, or_, select, text, update

from openlatch.core.checks import require_count
from openlatch.core.counts import counted
from openlatch.errors import NotFound, SystemDown, SystemRefused
from openlatch.service import connections
from openlatch.service.systems.comparison import Comparison, Outcome
from openlatch.service.systems.staging import Spool
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import alone
from openlatch.store.tables import System

# How often an open console is told how far a reading has come, in seconds.
TOLD_EVERY = 2.0
# Trust change tokens for one day, then do a full read.
FULLY_EVERY = timedelta(days=1)
MOST_MINUTES = 7 * 24 * 60


def ask_to_read(unit: Unit, ident: UUID, fully: bool = False) -> None:
    """Schedule a read now; ``fully`` also of what its change tokens say is unchanged.

    While a read is running, another one follows it.
    """
    system = _locked(unit, ident)
    connections.adapter_for(unit.service, system)
    system.next_read_at = unit.now
    if fully:
        system.read_fully_at = None
    unit.record("system.read_asked", "system", system.id, system.name)
    unit.wake("read_system", system=ident)


def set_schedule(unit: Unit, ident: UUID, minutes: int) -> None:
    """Set how often a system is read. BadInput for less than a minute or more than a week."""
    system = _locked(unit, ident)
    require_count(minutes, MOST_MINUTES, "minutes", "read_every")
    system.read_every = minutes
    system.next_read_at = (system.read_at or unit.now) + timedelta(minutes=minutes)
    unit.record("system.schedule_set", "system", system.id, system.name, read_every=minutes)


def _locked(unit: Unit, ident: UUID) -> System:
    unit.sight.require_administrator()
    system = unit.db.get(System, ident, with_for_update=True)
    if system is None:
        raise NotFound("There is no such system.")
    return system


def due(unit: Unit) -> list[UUID]:
    """Connected systems whose next reading is due; each is rescheduled at once, so that only one worker takes it."""
    wanted = select(System).where(
        System.kind.in_(unit.service.adapters),
        System.has_secret,
        System.paused_at.is_(None),
        System.archived_at.is_(None),
        or_(
            System.next_read_at.is_(None),
            System.next_read_at <= unit.now,
            # Later than the schedule ever sets it: the clock was set back.
            System.next_read_at > unit.now + func.make_interval(0, 0, 0, 0, 0, System.read_every),
        ),
    )
    found = unit.db.scalars(wanted.with_for_update(skip_locked=True)).all()
    for system in found:
        system.next_read_at = unit.now + timedelta(minutes=system.read_every)
    return [system.id for system in found]


def read(service: Service, organisation: UUID, ident: UUID) -> Outcome | None:
    """Read a system and update the register.

    None when it did not answer, which is noted on the system, or when it is being read already.
    """
    viewer = Viewer.itself(organisation)
    with alone(service.engine, f"read {ident}") as only_us, service.rooms.enter(ident) as has_room:
        if only_us and has_room:
            return _read(service, viewer, ident)
    if only_us:
        with service.unit(viewer) as unit:
            # No free slot: it stays due and is read in the next round.
            unit.db.execute(update(System).where(System.id == ident).values(next_read_at=unit.now))
    return None


def _read(service: Service, viewer: Viewer, ident: UUID) -> Outcome | None:
    begun = service.clock()
    with service.unit(viewer) as unit:
        system = unit.db.get_one(System, ident)
        adapter = connections.adapter_for(service, system)
        fully = system.read_fully_at is None or system.read_fully_at <= begun - FULLY_EVERY
        stamps = {} if fully else _trusted(unit, system)
        system.reading_since, system.reading_seen = begun, 0
        unit.announce("system")
    with Spool() as spool:
        try:
            spool.take(adapter.read(stamps), _teller(service, viewer, ident))
        except (SystemDown, SystemRefused) as error:
            with service.unit(viewer) as unit:
                _note_down(unit, ident, error.detail)
            return None
        with service.unit(viewer) as unit:
            system = unit.db.get_one(System, ident, with_for_update=True)
            system.read_at, system.down_since, system.reading_since = unit.now, None, None
            if system.next_read_at is None or not begun < system.next_read_at <= unit.now:
                # Requested during the read: due again at once, since the reading may be older.
                system.next_read_at = unit.now + timedelta(minutes=system.read_every)
            outcome = Comparison(unit, system, spool, begun).carry_out()
            if fully:
                system.read_fully_at = unit.now
            system.stamps = dict(
                unit.db.execute(
                    # Accounts read only in part are read again in full.
                    text(
                        "select handle, stamp from reading_accounts where stamp <> '' and handle not in "
                        "(select account from reading_partial)"
                    )
                ).all()
            )
            system.answer = _in_words(outcome, spool.counts["unchanged"]) + _unknown(spool) + _unable(spool)
            unit.record("system.read", "system", system.id, system.name, answer=system.answer)
    return outcome


# Accounts changed in the register since the last reading have to be read again.
_CHANGED_HERE = """
    select distinct a.handle from accounts a join grants g on g.account_id = a.id
    where a.system_id = :system and (
        (g.state = 'ended' and g.ended_at >= :read_at)
        or (g.state <> 'ended' and g.holder_kind <> 'team' and g.shown is null and g.missing_since is null))
"""


def _trusted(unit: Unit, system: System) -> Mapping[str, str]:
    """The change tokens of the last reading that still match the register."""
    changed = set(unit.db.scalars(text(_CHANGED_HERE), {"system": system.id, "read_at": system.read_at}))
    return {handle: stamp for handle, stamp in system.stamps.items() if handle not in changed}


def _teller(service: Service, viewer: Viewer, ident: UUID) -> Callable[[int], None]:
    """A function that stores now and then how far a reading has come, for open consoles."""
    told = time.monotonic()

    def tell(seen: int) -> None:
        nonlocal told
        if time.monotonic() - told >= TOLD_EVERY:
            told = time.monotonic()
            with service.unit(viewer) as unit:
                unit.db.execute(update(System).where(System.id == ident).values(reading_seen=seen))
                unit.announce("system")

    return tell


def _in_words(outcome: Outcome, unchanged: int) -> str:
    since = f", {counted(unchanged, 'account')} unchanged since the last read" if unchanged else ""
    seen = f"{counted(outcome.grants_seen, 'grant')} and {counted(outcome.sessions_seen, 'session')} seen{since}"
    drift = [
        f"{outcome.unrecorded} unrecorded ({outcome.newly_unrecorded} new)" if outcome.unrecorded else "",
        f"{outcome.missing} newly missing" if outcome.missing else "",
        f"{outcome.differing} otherwise than recorded" if outcome.differing else "",
    ]
    return f"{seen}; {', '.join(filter(None, drift)) or 'all as recorded'}."


def _unknown(spool: Spool) -> str:
    """What a reading could not cover, in words; empty when it was complete."""
    gaps = dict.fromkeys(gap for told in spool.coverage.values() for gap in told.shown["unknown"])
    if not gaps:
        return ""
    more = f", and {len(gaps) - 3} more" if len(gaps) > 3 else ""
    return f" Read only in part: {'; '.join(list(gaps)[:3])}{more}."


def _unable(spool: Spool) -> str:
    """What could not be removed there, in words, and what is needed for that."""
    lacking = dict.fromkeys(one for told in spool.coverage.values() for one in told.unable)
    return f" Open Latch can't take away: {'; '.join(lacking)}." if lacking else ""


def _note_down(unit: Unit, ident: UUID, answer: str) -> None:
    system = unit.db.get_one(System, ident, with_for_update=True)
    if system.down_since is None:
        unit.record("system.down", "system", system.id, system.name, answer=answer)
    system.down_since = system.down_since or unit.now
    system.answer, system.reading_since = answer, None
    unit.announce("system")
