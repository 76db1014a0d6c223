"""The register as an action would leave it in the end, for finding out which flags it would clear.

Each changes rows and has the rules evaluated. They run in a transaction that is rolled back: nothing is carried out in
a system, nothing is confirmed, and nobody is told.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from uuid import UUID

from sqlalchemy import or_, select, update
from sqlalchemy.sql.dml import Update

from openlatch.core.vocabulary import EndedAs, GrantState
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, Exposure, Grant, Session, Term

Supposition = Callable[[Unit], None]


def ended(grants: Sequence[UUID], sessions: Sequence[UUID] = ()) -> Supposition:
    """These grants and sessions have ended, and their systems have shown it."""

    def suppose(unit: Unit) -> None:
        gone = {"state": GrantState.ENDED, "ended_as": EndedAs.REVOKED, "ended_at": unit.now}
        _change(unit, update(Grant).where(Grant.id.in_(grants)).values(gone))
        _change(unit, update(Session).where(Session.id.in_(sessions)).values(ended_at=unit.now))
        evaluate_flags.evaluate(unit, grants, sessions)

    return suppose


def trimmed(grant: UUID, level: UUID) -> Supposition:
    """A grant has this level, and nothing else."""

    def suppose(unit: Unit) -> None:
        _change(unit, update(Term).where(Term.grant_id == grant).values(level_id=level))
        evaluate_flags.evaluate(unit, [grant])

    return suppose


def ending(grant: UUID, until: datetime) -> Supposition:
    """A grant ends then, where it did not end sooner."""

    def suppose(unit: Unit) -> None:
        longer = or_(Term.until.is_(None), Term.until > until)
        _change(unit, update(Term).where(Term.grant_id == grant, longer).values(until=until))
        evaluate_flags.evaluate(unit, [grant])

    return suppose


def recorded(grant: UUID) -> Supposition:
    """A grant is recorded as its system has it."""

    def suppose(unit: Unit) -> None:
        _change(unit, update(Grant).where(Grant.id == grant).values(recorded=True, differs=None))
        evaluate_flags.evaluate(unit, [grant])

    return suppose


def owned(account: UUID, owner: UUID) -> Supposition:
    """An account is somebody's."""

    def suppose(unit: Unit) -> None:
        before = unit.db.scalar(select(Account.owner_id).where(Account.id == account))
        _change(unit, update(Account).where(Account.id == account).values(owner_id=owner))
        evaluate_flags.evaluate_owner(unit, account, [before, owner])

    return suppose


def closed(account: UUID, exposures: Sequence[UUID]) -> Supposition:
    """These exposures of an account are gone."""

    def suppose(unit: Unit) -> None:
        _change(unit, update(Exposure).where(Exposure.id.in_(exposures)).values(gone_at=unit.now))
        evaluate_flags.evaluate(unit, accounts=[account])

    return suppose


def reviewed(grants: Sequence[UUID]) -> Supposition:
    """Somebody has decided on these grants in a review, and kept them."""

    def suppose(unit: Unit) -> None:
        _change(unit, update(Grant).where(Grant.id.in_(grants)).values(left_undecided_at=None))
        evaluate_flags.evaluate(unit, noted=grants)

    return suppose


def identified(grants: Sequence[UUID], login: UUID, person: UUID) -> Supposition:
    """The grants of a login that was not identified are those of a person."""

    def suppose(unit: Unit) -> None:
        _change(unit, update(Grant).where(Grant.id.in_(grants)).values(person_id=person))
        evaluate_flags.evaluate(unit, grants, people=[login, person])

    return suppose


def _change(unit: Unit, statement: Update) -> None:
    unit.db.execute(statement.execution_options(synchronize_session=False))
