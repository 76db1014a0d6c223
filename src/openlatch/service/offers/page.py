"""An offer and what it would give, for its sender and its recipient."""

from __future__ import annotations

from uuid import UUID
from zoneinfo import ZoneInfo

from openlatch import schemas
from openlatch.core.offers import wording
from openlatch.core.time_windows import last_day
from openlatch.core.vocabulary import OfferKind, Reach
from openlatch.errors import NotFound
from openlatch.service.grants import lifecycle
from openlatch.service.offers.preview import (
    sentence,
)
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.lists import offers
from openlatch.store.tables import (
    Account,
    Level,
    Offer,
)


def one(unit: Unit, ident: UUID) -> schemas.OfferPage:
    """An offer with its terms. NotFound when the viewer may not see it."""
    unit.db.flush()
    row = offers.OFFERS.one(unit.db, ident, [unit.sight.offers()])
    if row is None:
        raise NotFound("There is no such offer, or you may not see it.")
    stored = unit.db.get_one(Offer, ident)
    terms = mapping.terms_of(unit.db, [stored.grant_id]).get(stored.grant_id, []) if stored.grant_id else []
    return schemas.OfferPage.model_validate(
        {**row, **dict(details(unit, stored)), "choice": lifecycle.choice_of(terms, unit.db) if terms else None}
    )


def details(unit: Unit, row: Offer) -> schemas.OfferDetails:
    """What an offer would give, in plain sentences."""
    account = unit.db.get_one(Account, row.account_id)
    terms = mapping.terms_of(unit.db, [row.grant_id]).get(row.grant_id, []) if row.grant_id else []
    known = lifecycle.permissions_of(unit, account.system_id).values()
    able = wording.abilities(terms, known)
    keeps = unit.db.get(Level, row.keeps_level_id) if row.keeps_level_id else None
    if row.kind == OfferKind.OWNERSHIP:
        words = "Decides about the account itself: who gets in, what guards it, and who owns it next."
    else:
        words = lifecycle.terms_in_words(terms, ZoneInfo(account.time_zone))
    ends = [t.window.until for t in terms]
    return schemas.OfferDetails(
        words=words,
        can=[sentence(p) for p in able.can],
        cannot=[sentence(p) for p in able.cannot] if row.kind == OfferKind.ACCESS else [],
        reach=int(Reach.STEWARD if row.kind == OfferKind.OWNERSHIP else able.reach),
        parts=sorted({t.part.name for t in terms if t.part}),
        keeps=keeps.name if keeps else None,
        since=min((t.window.since for t in terms if t.window.since), default=None),
        until=(until := None if None in ends else max((end for end in ends if end), default=None)),
        last_day=last_day(until, ZoneInfo(account.time_zone)),
        hours=wording.hours_in_words(next((t.hours for t in terms if t.hours), None)),
        purpose=account.purpose,
    )
