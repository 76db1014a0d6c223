"""Narrowing: drafts of rules that allow only the use that outsiders were seen to make."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from ipaddress import ip_address
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.exposure.rules import Right
from openlatch.core.exposure.smallest_rule import Use, refusals, shut
from openlatch.core.vocabulary import DraftState
from openlatch.errors import Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.exposure import drafts
from openlatch.service.exposure.access_rules import opens
from openlatch.service.unit import Unit
from openlatch.store.tables import Exposure, OutsideUse, Resource, RuleDraft

_REFUSED = Conflict("No narrower rule would cover the use that was seen.", "Close it, or say that it is intended.")


def exposure(unit: Unit, ident: UUID) -> schemas.RuleDraftRow:
    """A draft of the account's rules that narrows one exposure, for whoever answers for the account.

    Conflict where no use was seen, or it can't be narrower.
    """
    row = unit.db.scalar(select(Exposure).where(Exposure.id == ident, unit.sight.exposures()))
    if row is None:
        raise NotFound("There is no such exposure, or you may not see it.")
    unit.sight.require_answers_for(row.account_id)
    path, told = use_of(unit, row)
    more = refusals(told, Right(row.right), path) if row.gone_at is None and not row.is_blocked else []
    if not more:
        raise _REFUSED
    return _draft(unit, row.account_id, more)


def resources(unit: Unit, account: UUID, idents: Iterable[UUID]) -> RuleDraft:
    """One evaluated draft that narrows everything open on some resources of an account.

    A right without use seen is closed to outsiders if use of another right was seen, since then the system is known to
    report use. Conflict where a resource was not seen in use at all, or none can be narrower.
    """
    more = [rule for ident in idents for rule in of_resource(unit, ident)]
    if not more:
        raise _REFUSED
    row = unit.db.get_one(RuleDraft, _draft(unit, account, more).id)
    if row.state == DraftState.WAITING:
        drafts.work_out(unit, row)
    if row.state == DraftState.REFUSED:
        raise Conflict(
            "The account has rules that can't be read here, so the system can't be given all of them anew.",
            "Change the rules in the system, or close it.",
        )
    return row


def of_resource(unit: Unit, ident: UUID) -> list[JsonObject]:
    """The refusals that narrow what is open on a resource. Conflict where no use was seen."""
    rows = unit.db.scalars(
        select(Exposure).where(opens(ident), Exposure.gone_at.is_(None), ~Exposure.is_blocked).order_by(Exposure.id)
    ).all()
    uses = {row.right: use_of(unit, row) for row in rows}
    if rows and not any(told for _, told in uses.values()):
        part = unit.db.get(Resource, ident)
        name = part.name if part is not None else "the whole account"
        raise Conflict(f"No use of “{name}” by outsiders was seen.", "Close it, or say that it is intended.")
    return [
        rule
        for right, (path, told) in uses.items()
        for rule in (refusals(told, Right(right), path) if told else shut(Right(right), path))
    ]


def _draft(unit: Unit, account: UUID, more: Sequence[dict[str, object]]) -> schemas.RuleDraftRow:
    plain = drafts.current(unit, account).document
    keys = {rule["rule"] for rule in more}
    kept = [rule for rule in plain["rules"] if rule["rule"] not in keys]
    return drafts.make(unit, account, json.dumps({**plain, "rules": [*kept, *more]}, indent=2))


def use_of(unit: Unit, row: Exposure) -> tuple[str, list[Use]]:
    """The resource's path, and everybody who used this right or a farther one, from wherever.

    Whoever changes something has to see it, whether or not the system reports both.
    """
    path = "/" if row.resource_id is None else unit.db.get_one(Resource, row.resource_id).path
    rights = list(Right)[list(Right).index(Right(row.right)) :]
    told = (
        select(OutsideUse.who, OutsideUse.address)
        .where(
            OutsideUse.account_id == row.account_id,
            OutsideUse.right.in_(rights),
            OutsideUse.resource_id.is_not_distinct_from(row.resource_id),
        )
        .distinct()
    )
    return path, [Use(who, ip_address(address) if address else None) for who, address in unit.db.execute(told)]
