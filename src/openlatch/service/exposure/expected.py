"""Expected exposures: filters that mark what is meant to be open, so that nobody has to judge it one by one."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import or_, select, update

from openlatch import schemas
from openlatch.errors import BadInput, NotFound
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.lists.columns import among
from openlatch.store.lists.exposures import EXPOSURES
from openlatch.store.tables import ExpectedExposure, Exposure


def listed(unit: Unit) -> list[schemas.ExpectedRow]:
    """All of the organisation's expected exposures."""
    rows = unit.db.scalars(select(ExpectedExposure).order_by(ExpectedExposure.name, ExpectedExposure.id)).all()
    return [_shown(row) for row in rows]


def _shown(row: ExpectedExposure) -> schemas.ExpectedRow:
    return schemas.ExpectedRow(id=row.id, name=row.name, filter=row.filter, reason=row.reason, made_by=row.made_by)


def add(unit: Unit, name: str, filter_: str, reason: str) -> schemas.ExpectedRow:
    """Mark exposures as expected by a filter. BadInput for an invalid filter, or one that matches everything."""
    unit.sight.require_administrator()
    if not filter_.strip():
        raise BadInput("Without a filter everything would be expected.", 'Say which, as in: account.kind eq "site"')
    EXPOSURES.checked(filter_)
    row = ExpectedExposure(
        organisation_id=unit.viewer.organisation,
        name=name.strip(),
        filter=filter_.strip(),
        reason=reason.strip(),
        made_by=unit.viewer.name,
    )
    unit.db.add(row)
    unit.db.flush()
    unit.record("expected_exposure.added", "expected_exposure", row.id, row.name, filter=row.filter, reason=row.reason)
    mark(unit)
    unit.announce("exposures")
    return _shown(row)


def remove(unit: Unit, ident: UUID) -> None:
    """Remove an expectation: exposures that nobody judged otherwise have to be judged again."""
    unit.sight.require_administrator()
    row = unit.db.get(ExpectedExposure, ident)
    if row is None:
        raise NotFound("There is no such rule of expected exposures.")
    unit.db.execute(
        update(Exposure)
        .where(Exposure.expected_by_id == ident)
        .values(expected_by_id=None, version=Exposure.version + 1)
    )
    unit.record("expected_exposure.removed", "expected_exposure", row.id, row.name)
    unit.db.delete(row)
    unit.db.flush()
    mark(unit)
    unit.announce("exposures")


def mark(unit: Unit, of: Sequence[UUID] | None = None) -> None:
    """Store for each exposure, or for those with these ids, which expectation covers it, if any.

    The oldest one that matches counts.
    """
    rules = unit.db.scalars(select(ExpectedExposure).order_by(ExpectedExposure.id)).all()
    unit.db.flush()
    some = [] if of is None else [among(Exposure.id, of)]
    if of is not None and not of:
        return
    here = [EXPOSURES.of(unit.viewer.organisation), *some]
    expected: dict[UUID, UUID] = {}
    for rule in rules:
        for ident in unit.db.scalars(EXPOSURES.matching(rule.filter, here)):
            expected.setdefault(ident, rule.id)
    marked = or_(Exposure.expected_by_id.is_not(None), among(Exposure.id, expected))
    changed = set()
    for row in unit.db.scalars(select(Exposure).where(marked, *some)):
        if row.expected_by_id != expected.get(row.id):
            row.expected_by_id = expected.get(row.id)
            row.version += 1
            changed.add(row.account_id)
    unit.db.flush()
    evaluate_flags.evaluate(unit, accounts=sorted(changed))
