"""The register as an action would leave it in the end, for finding out which flags it would clear.

The rows are changed, the rules evaluated, and the rows changed back: nothing is carried out in a system, nothing is
confirmed, no flag changes, and nobody is told. Changing them back is quicker than rolling back, after which all
statements would be planned anew; the whole is rolled back in the end.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from sqlalchemy import select, update

from openlatch.core.flags.score import severity_of
from openlatch.core.vocabulary import EndedAs, GrantState
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags.evaluate import Judge
from openlatch.service.unit import Unit
from openlatch.store.flags.evaluate_many import Looked
from openlatch.store.flags.sql_expressions import ROOM
from openlatch.store.sql_types import AnyTable
from openlatch.store.tables import Account, Exposure, Grant, Session, Term


@dataclass(frozen=True, slots=True)
class Change:
    """New values of some rows of a table."""

    table: AnyTable
    ids: tuple[UUID, ...]
    values: Mapping[str, object]


@dataclass(frozen=True, slots=True)
class Supposition:
    """Changes of rows, and how the rules are evaluated for what they touch."""

    changes: tuple[Change, ...]
    look: Callable[[Unit, Judge], None]


class Found(NamedTuple):
    """What would be otherwise on a subject: the numbers of rules that would not apply any more, and the severities of
    those that would.
    """

    subject: UUID
    clears: frozenset[int]
    raises: tuple[int, ...]


def found_under(unit: Unit, supposition: Supposition, meanwhile: Callable[[], bool]) -> tuple[list[Found], bool]:
    """What would be otherwise on all subjects that a supposition touches, and what ``meanwhile`` gives under it."""
    found: list[Found] = []

    def judge(_: Unit, kind: str, subjects: Iterable[Looked]) -> None:
        for seen in subjects:
            now = {number // ROOM: int(severity_of(number % ROOM)) for number in seen.found}
            before = {number // ROOM for number in seen.before}
            fresh = tuple(severity for rule, severity in now.items() if rule not in before)
            found.append(Found(seen.id, frozenset(before - now.keys()), fresh))

    before = [(change, _values(unit, change)) for change in supposition.changes]
    for change in supposition.changes:
        _set(unit, change.table, change.ids, change.values)
    supposition.look(unit, judge)
    also = meanwhile()
    for change, rows in before:
        for ident, values in rows.items():
            _set(unit, change.table, [ident], values)
    return found, also


def _values(unit: Unit, change: Change) -> dict[UUID, dict[str, object]]:
    columns = [getattr(change.table, name) for name in change.values]
    rows = unit.db.execute(select(change.table.id, *columns).where(change.table.id.in_(change.ids)))
    return {row[0]: dict(zip(change.values, row[1:], strict=True)) for row in rows}


def _set(unit: Unit, table: AnyTable, ids: Sequence[UUID], values: Mapping[str, object]) -> None:
    statement = update(table).where(table.id.in_(ids)).values(values)
    unit.db.execute(statement.execution_options(synchronize_session=False))


def ended(now: datetime, grants: Sequence[UUID], sessions: Sequence[UUID] = ()) -> Supposition:
    """These grants and sessions have ended, and their systems have shown it."""
    gone = {"state": GrantState.ENDED, "ended_as": EndedAs.REVOKED, "ended_at": now}
    return Supposition(
        (Change(Grant, tuple(grants), gone), Change(Session, tuple(sessions), {"ended_at": now})),
        lambda unit, judge: evaluate_flags.evaluate(unit, grants, sessions, judge=judge),
    )


def trimmed(grant: UUID, terms: Sequence[UUID], level: UUID) -> Supposition:
    """All terms of a grant have this level."""
    return _of_grant(grant, Change(Term, tuple(terms), {"level_id": level}))


def ending(grant: UUID, terms: Sequence[UUID], until: datetime) -> Supposition:
    """These terms of a grant, which went on for longer, end then."""
    return _of_grant(grant, Change(Term, tuple(terms), {"until": until}))


def recorded(grant: UUID) -> Supposition:
    """A grant is recorded as its system has it."""
    return _of_grant(grant, Change(Grant, (grant,), {"recorded": True, "differs": None}))


def owned(account: UUID, before: UUID | None, owner: UUID) -> Supposition:
    """An account is somebody's."""
    return Supposition(
        (Change(Account, (account,), {"owner_id": owner}),),
        lambda unit, judge: evaluate_flags.evaluate_owner(unit, account, [before, owner], judge),
    )


def closed(now: datetime, account: UUID, exposures: Sequence[UUID]) -> Supposition:
    """These exposures of an account are gone."""
    return Supposition(
        (Change(Exposure, tuple(exposures), {"gone_at": now}),),
        lambda unit, judge: evaluate_flags.evaluate(unit, accounts=[account], judge=judge),
    )


def reviewed(grants: Sequence[UUID]) -> Supposition:
    """Somebody has decided on these grants in a review, and kept them."""
    return Supposition(
        (Change(Grant, tuple(grants), {"left_undecided_at": None}),),
        lambda unit, judge: evaluate_flags.evaluate(unit, noted=grants, judge=judge),
    )


def identified(grants: Sequence[UUID], login: UUID, person: UUID) -> Supposition:
    """The grants of a login that was not identified are those of a person."""
    return Supposition(
        (Change(Grant, tuple(grants), {"person_id": person}),),
        lambda unit, judge: evaluate_flags.evaluate(unit, grants, people=[login, person], judge=judge),
    )


def _of_grant(grant: UUID, change: Change) -> Supposition:
    return Supposition((change,), lambda unit, judge: evaluate_flags.evaluate(unit, [grant], judge=judge))
