"""One exposure with its rules and its use, and the smallest rule that would do for the use that was seen."""

from __future__ import annotations

import json
from ipaddress import ip_address
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, select

from openlatch.core.exposure.rules import Right
from openlatch.core.exposure.smallest_rule import Use, narrowest, refusals
from openlatch.errors import Conflict, NotFound
from openlatch.service import register
from openlatch.service.context import Unit
from openlatch.service.exposure import drafts
from openlatch.store.tables import AccessRule, Exposure, OutsideUse, Resource

MOST_USES = 100


def page(unit: Unit, ident: UUID) -> dict[str, Any]:
    """An exposure as its page shows it. NotFound when there is none that the viewer may see."""
    shown = register.one(unit, "exposures", ident)
    row = unit.db.get_one(Exposure, ident)
    uses = uses_of(unit, row)
    return {
        **shown,
        "rules": [_rule(each) for each in rules_of(unit, row)],
        "uses": [{"day": u.day, "right": u.right, "who": u.who, "address": u.address} for u in uses],
        "narrower": _narrower(unit, row),
    }


def rules_of(unit: Unit, row: Exposure) -> list[AccessRule]:
    """The rules that let outsiders in or keep others out, as they stand."""
    keys = [*row.admitted_by, *row.narrowed_by]
    wanted = select(AccessRule).where(AccessRule.account_id == row.account_id, AccessRule.key.in_(keys))
    return sorted(unit.db.scalars(wanted), key=lambda rule: keys.index(rule.key))


def _rule(row: AccessRule) -> dict[str, Any]:
    return {
        "key": row.key,
        "rule": row.plain,
        "admits": "admit" in row.plain,
        "is_guard": row.is_guard,
        "by_hand": row.by_hand,
        "can_close": bool(row.handle),
        "since": row.created_at,
    }


def uses_of(unit: Unit, row: Exposure) -> list[OutsideUse]:
    """Its use by outsiders, the latest first."""
    wanted = select(OutsideUse).where(*_of(row))
    return list(unit.db.scalars(wanted.order_by(OutsideUse.day.desc(), OutsideUse.id).limit(MOST_USES)))


def _of(row: Exposure) -> tuple[ColumnElement[bool], ...]:
    """That a use was of what an exposure opens."""
    return (
        OutsideUse.account_id == row.account_id, OutsideUse.right == row.right,
        OutsideUse.resource_id.is_not_distinct_from(row.resource_id),
    )  # fmt: skip


def narrow(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A draft of the account's rules by which only the use that was seen goes on.

    For whoever answers for the account. Conflict where nothing was seen, or it could not be narrower.
    """
    row = unit.db.scalar(select(Exposure).where(Exposure.id == ident, unit.sight.exposures()))
    if row is None:
        raise NotFound("There is no such exposure, or you may not see it.")
    unit.sight.require_answers_for(row.account_id)
    path, told = _use(unit, row)
    more = refusals(told, Right(row.right), path) if row.gone_at is None and not row.is_blocked else []
    if not more:
        raise Conflict("No narrower rule would cover the use that was seen.", "Close it, or say that it is intended.")
    plain = drafts.current(unit, row.account_id)["document"]
    keys = {rule["rule"] for rule in more}
    kept = [rule for rule in plain["rules"] if rule["rule"] not in keys]
    return drafts.make(unit, row.account_id, json.dumps({**plain, "rules": [*kept, *more]}, indent=2))


def _narrower(unit: Unit, row: Exposure) -> dict[str, Any] | None:
    """The smallest rule that covers the use seen; none where nothing was seen, or it would be no smaller."""
    path, told = _use(unit, row)
    return narrowest(told, Right(row.right), path) if row.gone_at is None else None


def _use(unit: Unit, row: Exposure) -> tuple[str, list[Use]]:
    """The path of the resource, and all who used it, from wherever: not only those that the page shows."""
    path = "/" if row.resource_id is None else unit.db.get_one(Resource, row.resource_id).path
    told = select(OutsideUse.who, OutsideUse.address).where(*_of(row)).distinct()
    return path, [Use(who, ip_address(address) if address else None) for who, address in unit.db.execute(told)]
