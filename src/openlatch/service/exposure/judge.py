"""Judging exposures: intended, until a day, or to be closed."""

from __future__ import annotations

from datetime import date, datetime
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.time_windows import end_of_last_day, zone_of
from openlatch.core.vocabulary import Judgement
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.exposure.access_rules import opens
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.lists import register
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, Exposure

MOST = 500


def judge(
    unit: Unit, idents: list[UUID], judgement: str, reason: str, last_day: date | None = None
) -> list[schemas.ExposureRow]:
    """Judge exposures, all or none: *intended* with a reason, *to_close*, or *unjudged* again.

    For whoever answers for their accounts. BadInput without a reason, or for a day that is over; Conflict for one that
    is gone.
    """
    rows = [_opened(unit, ident) for ident in sorted(set(idents))]
    if judgement == Judgement.INTENDED:
        require_words(reason, "Say why it is intended.", "Whoever looks at it next has only your reason.")
    for row in rows:
        zone = zone_of(unit.db.get_one(Account, row.account_id).time_zone)
        _judge(unit, row, judgement, reason.strip(), end_of_last_day(last_day, zone) if last_day else None)
    unit.db.flush()
    evaluate_flags.evaluate(unit, accounts=sorted({row.account_id for row in rows}))
    unit.announce("exposures")
    return [register.one(unit, "exposures", row.id, schemas.ExposureRow) for row in rows]


def intend_all(unit: Unit, part: UUID, reason: str, until: datetime | None) -> int:
    """Judge everything open on a resource, or an account as a whole, as intended; returns how many there are."""
    rows = unit.db.scalars(
        select(Exposure)
        .where(opens(part), Exposure.gone_at.is_(None), ~Exposure.is_blocked)
        .order_by(Exposure.id)
        .with_for_update()
    ).all()
    for row in rows:
        _judge(unit, row, "intended", reason, until)
    unit.db.flush()
    evaluate_flags.evaluate(unit, accounts=sorted({row.account_id for row in rows}))
    unit.announce("exposures")
    return len(rows)


def _opened(unit: Unit, ident: UUID) -> Exposure:
    row = unit.db.scalar(select(Exposure).where(Exposure.id == ident, unit.sight.exposures()).with_for_update())
    if row is None:
        raise NotFound("There is no such exposure, or you may not see it.")
    unit.sight.require_answers_for(row.account_id)
    if row.gone_at is not None:
        raise Conflict("It is open no longer.", "There is nothing to judge.")
    return row


def _judge(unit: Unit, row: Exposure, judgement: str, reason: str, until: datetime | None) -> None:
    account = unit.db.get_one(Account, row.account_id)
    if until is not None and until <= unit.now:
        raise BadInput("That day is over.", "Give a day to come, or none.", {"last_day": "over"})
    row.judgement, row.judged_reason = judgement, reason
    row.judged_by_id, row.judged_at = unit.viewer.person, unit.now
    is_intended = judgement == Judgement.INTENDED
    row.intended_until = until if is_intended else None
    row.judged_ways = list(row.ways) if is_intended else None
    row.judged_sensitivity = account.sensitivity if is_intended else None
    row.version += 1
    unit.record(
        "exposure.judged",
        "exposure",
        row.id,
        row.sentence,
        row.account_id,
        judgement=judgement,
        reason=reason,
        **({"until": until.isoformat()} if until and is_intended else {}),
    )
