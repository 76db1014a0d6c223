"""One exposure with its rules and its use, and the smallest rule that would do for the use that was seen."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import ColumnElement, select

from openlatch import schemas
from openlatch.core.exposure.rules import Right
from openlatch.core.exposure.smallest_rule import narrowest
from openlatch.json_values import JsonObject
from openlatch.service.exposure import narrow
from openlatch.service.lists import register
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Exposure, OutsideUse

MOST_USES = 100


def page(unit: Unit, ident: UUID) -> schemas.ExposurePage:
    """An exposure as its page shows it. NotFound when the viewer may see none with this id."""
    shown = register.one(unit, "exposures", ident, schemas.ExposureRow)
    row = unit.db.get_one(Exposure, ident)
    uses = uses_of(unit, row)
    return schemas.ExposurePage.model_validate(
        {
            **dict(shown),
            "rules": [_rule(each) for each in rules_of(unit, row)],
            "uses": [schemas.ExposureUse(day=u.day, right=u.right, who=u.who, address=u.address) for u in uses],
            "narrower": _narrower(unit, row),
        }
    )


def rules_of(unit: Unit, row: Exposure) -> list[AccessRule]:
    """The rules that now let outsiders in or keep others out."""
    keys = [*row.admitted_by, *row.narrowed_by]
    wanted = select(AccessRule).where(AccessRule.account_id == row.account_id, AccessRule.key.in_(keys))
    return sorted(unit.db.scalars(wanted), key=lambda rule: keys.index(rule.key))


def _rule(row: AccessRule) -> schemas.RuleShown:
    return schemas.RuleShown(
        key=row.key,
        rule=row.plain,
        admits="admit" in row.plain,
        is_guard=row.is_guard,
        by_hand=row.by_hand,
        can_close=bool(row.handle),
        since=row.created_at,
    )


def uses_of(unit: Unit, row: Exposure) -> list[OutsideUse]:
    """Its use by outsiders, the latest first."""
    wanted = select(OutsideUse).where(*_of(row))
    return list(unit.db.scalars(wanted.order_by(OutsideUse.day.desc(), OutsideUse.id).limit(MOST_USES)))


def _of(row: Exposure) -> tuple[ColumnElement[bool], ...]:
    """The condition that a use was of what an exposure opens."""
    return (
        OutsideUse.account_id == row.account_id,
        OutsideUse.right == row.right,
        OutsideUse.resource_id.is_not_distinct_from(row.resource_id),
    )


def _narrower(unit: Unit, row: Exposure) -> JsonObject | None:
    """The smallest rule that covers the use seen; None if no use was seen, or it would not be smaller."""
    path, told = narrow.use_of(unit, row)
    return narrowest(told, Right(row.right), path) if row.gone_at is None else None
