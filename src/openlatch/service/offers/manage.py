"""Pending offers: changing and withdrawing them, and how they end without access."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import latches
from openlatch.core.register import Holder
from openlatch.core.states import OFFERS, OfferState, move
from openlatch.core.vocabulary import EndedAs, GrantState, HolderKind, OfferKind, Reach
from openlatch.errors import Conflict, NotAllowed, NotFound
from openlatch.service import locks
from openlatch.service.grants import lifecycle
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers import page as offer_page
from openlatch.service.offers.preview import (
    Candidate,
    breaches,
)
from openlatch.service.unit import Unit
from openlatch.store.lists import offers
from openlatch.store.tables import (
    Account,
    Grant,
    Offer,
    Person,
    Term,
)


def locked(unit: Unit, ident: UUID, version: int | None = None) -> Offer:
    """A pending offer that the viewer may change or withdraw, locked."""
    if offers.OFFERS.one(unit.db, ident, [unit.sight.offers()]) is None:
        raise NotFound("There is no such offer, or you may not see it.")
    row = unit.db.get_one(Offer, ident, with_for_update=True, populate_existing=True)
    unit.sight.require_answers_for(row.account_id)
    if row.kind == OfferKind.OWNERSHIP:
        unit.sight.require_owns(row.account_id)
    refuse_outdated(row, version)
    return row


def refuse_outdated(row: Offer, version: int | None) -> None:
    """Conflict when an offer changed since it was looked at."""
    if version is not None and version != row.version:
        raise Conflict(
            f"The offer was changed meanwhile; it is {row.state.replace('_', ' ')} now.", "Look at it again."
        )


def withdraw(unit: Unit, ident: UUID, version: int | None = None) -> schemas.OfferPage:
    """Withdraw an offer before it is answered."""
    row = locked(unit, ident, version)
    end(unit, row, OfferState.WITHDRAWN, EndedAs.WITHDRAWN, "")
    name = unit.db.get_one(Account, row.account_id).name
    sentence = f"{unit.viewer.name} has withdrawn the offer of {name}."
    notices.tell_and_write(unit, [row.person_id], "offer", sentence)
    return offer_page.one(unit, ident)


def end(unit: Unit, row: Offer, then: OfferState, as_: EndedAs, answer: str) -> None:
    """End an offer without access; its pending grant ends with it."""
    row.state = move(OFFERS, "offer", OfferState(row.state), then)
    row.answered_at, row.answer, row.version = unit.now, answer.strip(), row.version + 1
    name = unit.db.get_one(Account, row.account_id).name
    unit.record(f"offer.{then}", "offer", row.id, name, row.account_id, answer=row.answer)
    _end_grant(unit, row, as_, name)
    unit.db.flush()


def _end_grant(unit: Unit, row: Offer, as_: EndedAs, name: str) -> None:
    """End the pending grant of an offer, unless it has ended already."""
    grant = unit.db.get_one(Grant, row.grant_id, with_for_update=True) if row.grant_id is not None else None
    if grant is not None and grant.state == GrantState.PENDING:
        lifecycle.set_state(grant, GrantState.ENDED)
        grant.ended_as, grant.ended_at = as_, unit.now
        unit.record(f"grant.{as_}", "grant", grant.id, name, row.account_id)


def change(unit: Unit, ident: UUID, choice: Choice, version: int | None) -> schemas.OfferPage:
    """Change a pending offer. Whoever has opened it has to read it again."""
    locks.access(unit)
    row = locked(unit, ident, version)
    if row.state != OfferState.PENDING or row.grant_id is None:
        raise Conflict(f"The offer is {row.state.replace('_', ' ')} and can't be changed.", "Send a new one.")
    account = unit.db.get_one(Account, row.account_id)
    terms = lifecycle.terms_from(unit, account, choice)
    if any(t.level.reach is Reach.STEWARD for t in terms):
        unit.require_proof("Offering steward reach")
    grant = unit.db.get_one(Grant, row.grant_id, with_for_update=True)
    person = unit.db.get_one(Person, row.person_id)
    name = lifecycle.holder_name(unit, grant)
    holder = Holder(HolderKind(grant.holder_kind), grant.holder_id)
    candidate = Candidate(holder, name, row.address, person.inside, person)
    guard.refuse(latches.held(breaches(unit, account, candidate, terms)))
    for term in unit.db.scalars(select(Term).where(Term.grant_id == grant.id)):
        unit.db.delete(term)
    unit.db.flush()
    lifecycle.write_terms(unit, grant.id, terms)
    grant.version, row.version = grant.version + 1, row.version + 1
    unit.record("offer.changed", "offer", row.id, f"{account.name} to {person.name}", account.id)
    return offer_page.one(unit, ident)


def run_out(unit: Unit) -> int:
    """Let offers expire whose time is over; returns how many. Called by the worker."""
    due = select(Offer).where(Offer.state == OfferState.PENDING, Offer.runs_out_at <= unit.now)
    rows = unit.db.scalars(due.order_by(Offer.id).limit(500).with_for_update(skip_locked=True)).all()
    for row in rows:
        row.state = move(OFFERS, "offer", OfferState(row.state), OfferState.RUN_OUT)
        row.version += 1
        name = unit.db.get_one(Account, row.account_id).name
        person = unit.db.get_one(Person, row.person_id).name
        unit.record("offer.run_out", "offer", row.id, name, row.account_id)
        _end_grant(unit, row, EndedAs.EXPIRED, name)
        sentence = f"{person} has not answered the offer of {name}; it has run out."
        notices.tell_and_write(unit, [row.sender_id], "offer", sentence, "/offers")
        notices.tell_and_write(unit, [row.person_id], "offer", f"The offer of {name} to you has run out unanswered.")
    return len(rows)


def refuse_stranger(person: Person, viewer: UUID | None) -> None:
    """NotAllowed when somebody other than the recipient is signed in."""
    if viewer is not None and viewer != person.id:
        raise NotAllowed("This offer is for somebody else.", "Sign out, and open the link again.")
