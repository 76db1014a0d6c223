"""Working out what each action on flags would clear. The worker does it whenever flags have changed.

What an action would clear is found out by running the rules: the register is changed as the action would leave it, the
rules are evaluated, and everything is rolled back. Only some actions at a time, so that nobody waits long for a row.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import ColumnElement, delete, func, insert, or_, select, text

from openlatch.core.access import paths as access_paths
from openlatch.core.flags import BOOKS
from openlatch.core.flags.next_actions import risk_of
from openlatch.core.ids import new_id
from openlatch.core.register import Holder
from openlatch.core.vocabulary import FlagState, HolderKind
from openlatch.errors import Collision
from openlatch.json_values import JsonObject
from openlatch.service.attempt import attempt
from openlatch.service.flags.evaluate import ruling
from openlatch.service.next_actions import suppositions
from openlatch.service.next_actions.proposals import OpenFlag, Proposal, proposals
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.database import alone
from openlatch.store.tables import ActionEffect, Flag

# The gravest open flags of an organisation that actions are looked for; answers say how many were left out.
MOST_FLAGS = 1_000
AT_ONCE = 10
# How long a row may be somebody else's before the action is tried by itself, and then left for the next time.
_WAIT = "set local lock_timeout = '100ms'"
# The least time between two times, and at least so many times as long as the last one took.
REST = timedelta(seconds=30)
TIMES_AS_LONG = 20
# What does not depend on flags alone, such as use, is looked at anew after so long.
AT_LEAST_EVERY = timedelta(hours=6)


def work_out(service: Service, organisation: UUID) -> None:
    """Work out what each action on the gravest flags would clear, in the place of what was known before.

    Nothing where that is not due, or another process is at it.
    """
    with alone(service.engine, f"actions {organisation}") as only_us:
        if only_us:
            _work_out(service, Viewer.itself(organisation))


def _work_out(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        if not is_due(unit):
            return
        at, started = unit.now, time.monotonic()
        held = _held(unit)
        flags = open_flags(unit)
        rules = {rule.key: rule.number for book in BOOKS for rule in ruling(unit).rules(book.subject)}
        made = list(proposals(unit, flags))
    known = {(rules[flag.rule], flag.subject_id): flag.id for flag in flags if flag.rule in rules}
    fresh = [proposal for proposal in made if not held.has(proposal)]
    rows = [row for some in _some(fresh) for row in _tried(service, viewer, some, known)]
    rows += [held.rows[proposal.key] for proposal in made if held.has(proposal)]
    with service.unit(viewer) as unit:
        unit.db.execute(delete(ActionEffect))
        if rows:
            own = {"organisation_id": viewer.organisation, "at": at, "seconds": time.monotonic() - started}
            worked_out = {"worked_out_at": at}
            unit.db.execute(insert(ActionEffect), [{"id": new_id(), **own, **worked_out, **row} for row in rows])
        unit.kinds.add("action")


def is_due(unit: Unit) -> bool:
    """Whether flags have changed since actions were worked out, and that was long enough ago."""
    at, seconds = unit.db.execute(select(func.max(ActionEffect.at), func.max(ActionEffect.seconds))).one()
    if at is None:
        return unit.db.scalar(select(Flag.id).where(Flag.state == FlagState.OPEN).limit(1)) is not None
    rest = max(REST, timedelta(seconds=TIMES_AS_LONG * seconds))
    return at + rest < unit.now and unit.db.scalar(select(Flag.id).where(_changed(at)).limit(1)) is not None


def _changed(since: datetime) -> ColumnElement[bool]:
    return or_(Flag.raised_at > since, Flag.cleared_at > since, Flag.worse_at > since)


@dataclass(frozen=True, slots=True)
class _Held:
    """What was worked out before, and still holds where no flag of an account or a holder has changed since."""

    rows: Mapping[str, JsonObject]
    accounts: frozenset[UUID]
    holders: frozenset[UUID]

    def has(self, proposal: Proposal) -> bool:
        """Whether an action was worked out, and nothing has changed about it since."""
        row = self.rows.get(proposal.key)
        is_same = row is not None and row["proposal"] == proposal.stored
        return is_same and proposal.account not in self.accounts and proposal.holder not in self.holders


def _held(unit: Unit) -> _Held:
    rows = list(unit.db.scalars(select(ActionEffect).where(ActionEffect.worked_out_at > unit.now - AT_LEAST_EVERY)))
    since = max((row.at for row in rows), default=unit.now)
    changed = unit.db.execute(select(Flag.account_id, Flag.holder_id).where(_changed(since))).all()
    names = ("key", "account_id", "holder_id", "proposal", "clears", "raises", "loses_path", "worked_out_at")
    return _Held(
        {row.key: {name: getattr(row, name) for name in names} for row in rows},
        frozenset(account for account, _ in changed if account),
        frozenset(holder for _, holder in changed),
    )


def open_flags(unit: Unit) -> list[OpenFlag]:
    """The gravest open flags of the organisation."""
    wanted = (
        select(Flag.id, Flag.rule, Flag.subject_kind, Flag.subject_id, Flag.account_id, Flag.holder_id)
        .where(Flag.state == FlagState.OPEN)
        .order_by(Flag.score.desc(), Flag.id)
        .limit(MOST_FLAGS)
    )
    return [OpenFlag(*row) for row in unit.db.execute(wanted)]


def _some(made: Sequence[Proposal]) -> Iterator[Sequence[Proposal]]:
    for start in range(0, len(made), AT_ONCE):
        yield made[start : start + AT_ONCE]


def _tried(
    service: Service, viewer: Viewer, some: Sequence[Proposal], known: Mapping[tuple[int, UUID], UUID]
) -> list[JsonObject]:
    """What these actions would clear; without those whose rows others hold."""
    try:
        with service.unit(viewer) as unit, attempt(unit, keep=False) as within:
            within.db.execute(text(_WAIT))
            return [_row(within, proposal, known) for proposal in some]
    except Collision:
        # Those that hold a row have gone on; what they changed is worked out again the next time.
        return [] if len(some) == 1 else [row for one in some for row in _tried(service, viewer, [one], known)]


def _row(unit: Unit, proposal: Proposal, known: Mapping[tuple[int, UUID], UUID]) -> JsonObject:
    """An action with the flags that it would clear, out of the ``known`` ones by their rule and subject."""
    clears, raises, lost = set(proposal.flags), 0, False
    if proposal.suppose is not None:
        loses = proposal.loses
        found, lost = suppositions.found_under(
            unit, proposal.suppose, lambda: loses is not None and not _has_path(unit, *loses)
        )
        clears = {known[rule, seen.subject] for seen in found for rule in seen.clears if (rule, seen.subject) in known}
        raises = sum(risk_of(severity) for seen in found for severity in seen.raises)
    return {
        "key": proposal.key,
        "account_id": proposal.account,
        "holder_id": proposal.holder,
        "proposal": proposal.stored,
        "clears": sorted(clears),
        "raises": raises,
        "loses_path": lost,
    }


def _has_path(unit: Unit, person: UUID, account: UUID) -> bool:
    """Whether a person can still act in an account."""
    holder = Holder(HolderKind.PERSON, person)
    return bool(access_paths.paths_to(subgraph.between(unit.db, holder, account), holder, account, unit.now))
