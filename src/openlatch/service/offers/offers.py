"""Offers: what one would say, sending one, and everything that its sender can do about it afterwards.

An offer of access is a pending grant with a link that opens once. An offer of ownership has no grant. Only the hash
of the link's token is kept.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch.core import latches
from openlatch.core import register as core
from openlatch.core.offers import wording
from openlatch.core.register import Holder
from openlatch.core.states import OFFERS, OfferState, move
from openlatch.core.time_windows import last_day
from openlatch.core.vocabulary import EndedAs, GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, TooMany
from openlatch.service import locks
from openlatch.service.grants import lifecycle
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers.preview import (
    Candidate,
    Proposal,
    To,
    breaches,
    candidate,
    preview,
    refuse_owner,
    sentence,
    settings_of,
)
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.lists import offers
from openlatch.store.tables import (
    Account,
    Grant,
    Level,
    Offer,
    Organisation,
    Person,
    SignIn,
    Term,
)

OFFER_HOURS = 48
MOST_TIMES_SENT = 10


# Sending.


def send(unit: Unit, proposal: Proposal, seen: str = "") -> list[UUID]:
    """Send an offer to each of those it is for; gives their ids.

    Held when a latch refuses, ProofNeeded before steward reach is offered, Conflict when what it comes to has changed
    since the preview with the fingerprint ``seen``, or when such an offer is pending already.
    """
    locks.access(unit)
    shown = preview(unit, proposal)
    if seen and seen != shown["fingerprint"]:
        raise Conflict("What this offer comes to has changed since it was shown.", "Look at the preview again.")
    if shown["needs_proof"]:
        unit.require_proof("Offering steward reach")
    account = lifecycle.account_of(unit, proposal.account)
    terms = lifecycle.terms_from(unit, account, proposal.choice)
    return [_send(unit, account, candidate(unit, account, to), terms, proposal.reason) for to in proposal.to]


def _send(unit: Unit, account: Account, to: Candidate, terms: Sequence[core.Term], reason: str) -> UUID:
    guard.refuse(latches.held(breaches(unit, account, to, terms)))
    if to.person is not None and to.person.refuses_offers:
        raise BadInput(f"{to.name} does not take offers.", "Ask them to; or offer it to somebody else.")
    refuse_owner(account, to)
    person = to.person or _make_person(unit, to)
    holder = to.holder if to.person else Holder(HolderKind.PERSON, person.id)
    _refuse_second(unit, account, holder, to.name)
    grant = lifecycle.new_grant(unit, account, holder, terms, GrantState.PENDING, reason=reason.strip())
    return _store(unit, account, person, to.address, "access", grant, reason).id


def offer_again(unit: Unit, account: Account, person: UUID, terms: Sequence[core.Term], reason: str) -> UUID:
    """Offer somebody just these terms, which they have to agree to; gives the offer's id."""
    return _send(unit, account, candidate(unit.as_service(), account, To(person=person)), terms, reason)


def _make_person(unit: Unit, to: Candidate) -> Person:
    person = Person(
        organisation_id=unit.viewer.organisation, name=to.name, address=to.address, inside=to.inside, recognised=True
    )
    unit.db.add(person)
    unit.db.flush()
    unit.record("person.invited", "person", person.id, person.name, inside=person.inside)
    return person


def _refuse_second(unit: Unit, account: Account, holder: Holder, name: str) -> None:
    pending = (
        select(Offer.id)
        .join(Grant, Grant.id == Offer.grant_id)
        .where(Offer.account_id == account.id, Offer.state == OfferState.PENDING, Grant.holder_id == holder.id)
    )
    if unit.db.scalar(pending.limit(1)) is not None:
        raise Conflict(
            f"There is an offer to {name} for {account.name} that waits for an answer.",
            "Send that one again, change it, or withdraw it first.",
        )


def _store(
    unit: Unit,
    account: Account,
    person: Person,
    address: str,
    kind: str,
    grant: Grant | None,
    reason: str,
    keeps: UUID | None = None,
) -> Offer:
    token = secrets.token_urlsafe(32)
    row = Offer(
        organisation_id=unit.viewer.organisation,
        kind=kind,
        account_id=account.id,
        grant_id=grant.id if grant else None,
        person_id=person.id,
        address=address,
        sender_id=unit.viewer.person,
        keeps_level_id=keeps,
        reason=reason.strip(),
        token_hash=digest(token),
        sent_at=unit.now,
        runs_out_at=wording.runs_out(unit.now, hours_to_answer(unit)),
    )
    unit.db.add(row)
    unit.db.flush()
    _post(unit, row, account, person, token)
    unit.record("offer.sent", "offer", row.id, f"{account.name} to {person.name}", account.id, reason=row.reason)
    sentence = (
        f"{unit.viewer.name} offers you {'the ownership of' if kind == 'ownership' else 'access to'} {account.name}."
    )
    notices.tell(unit, [person.id], "offer", sentence, f"/mine?offer={row.id}")
    return row


def hours_to_answer(unit: Unit) -> int:
    """For how many hours an offer stands."""
    return int(settings_of(unit).get("offer_hours", OFFER_HOURS))


def digest(token: str) -> bytes:
    """What is kept of a token."""
    return hashlib.sha256(token.encode()).digest()


def _post(unit: Unit, row: Offer, account: Account, person: Person, token: str) -> None:
    """The letter with the link. It says who offers what kind of thing, and no detail of what it permits."""
    what = "the ownership of" if row.kind == "ownership" else "access to"
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation).name
    until = row.runs_out_at.astimezone(ZoneInfo(account.time_zone))
    has = unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person.id)) is not None
    letter = notices.Letter(
        f"{unit.viewer.name} offers you {what} {account.name}",
        (
            f"Hello {person.name},",
            f"{unit.viewer.name} of {organisation} offers you {what} the shared account {account.name}.",
            "Open the offer to read what it comes to before you decide. You can accept it, decline it, or say that you "
            "do not know the sender."
            + ("" if has else " If you accept, you choose a password of your own on the way."),
            f"The link works once, until {until:%-d %B %Y, %H:%M}. If you did not expect this, leave it alone.",
        ),
        f"{unit.service.address}/offer#{token}",
        "Read the offer",
    )
    notices.write(unit, row.address, letter)


# Afterwards.


def one(unit: Unit, ident: UUID) -> dict[str, Any]:
    """An offer with the terms that it is of. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = offers.OFFERS.one(unit.db, ident, [unit.sight.offers()])
    if row is None:
        raise NotFound("There is no such offer, or you may not see it.")
    stored = unit.db.get_one(Offer, ident)
    terms = mapping.terms_of(unit.db, [stored.grant_id]).get(stored.grant_id, []) if stored.grant_id else []
    return {**row, **details(unit, stored), "choice": lifecycle.choice_of(terms, unit.db) if terms else None}


def details(unit: Unit, row: Offer) -> dict[str, Any]:
    """What an offer comes to, in plain sentences, for its sender and for whoever is to answer it."""
    account = unit.db.get_one(Account, row.account_id)
    terms = mapping.terms_of(unit.db, [row.grant_id]).get(row.grant_id, []) if row.grant_id else []
    known = lifecycle.permissions_of(unit, account.system_id).values()
    able = wording.abilities(terms, known)
    keeps = unit.db.get(Level, row.keeps_level_id) if row.keeps_level_id else None
    if row.kind == "ownership":
        words = "Decides about the account itself: who gets in, what guards it, and who owns it next."
    else:
        words = lifecycle.terms_in_words(terms, ZoneInfo(account.time_zone))
    ends = [t.window.until for t in terms]
    return {
        "words": words,
        "can": [sentence(p) for p in able.can],
        "cannot": [sentence(p) for p in able.cannot] if row.kind == "access" else [],
        "reach": int(Reach.STEWARD if row.kind == "ownership" else able.reach),
        "parts": sorted({t.part.name for t in terms if t.part}),
        "keeps": keeps.name if keeps else None,
        "since": min((t.window.since for t in terms if t.window.since), default=None),
        "until": (until := None if None in ends else max((end for end in ends if end), default=None)),
        "last_day": last_day(until, ZoneInfo(account.time_zone)),
        "hours": wording.hours_in_words(next((t.hours for t in terms if t.hours), None)),
        "purpose": account.purpose,
    }


def _locked(unit: Unit, ident: UUID, version: int | None = None) -> Offer:
    """An offer that the viewer may do something about as its sender's side."""
    if offers.OFFERS.one(unit.db, ident, [unit.sight.offers()]) is None:
        raise NotFound("There is no such offer, or you may not see it.")
    row = unit.db.get_one(Offer, ident, with_for_update=True, populate_existing=True)
    unit.sight.require_answers_for(row.account_id)
    if row.kind == "ownership":
        unit.sight.require_owns(row.account_id)
    refuse_outdated(row, version)
    return row


def refuse_outdated(row: Offer, version: int | None) -> None:
    """Conflict when an offer is not the one any more that was looked at."""
    if version is not None and version != row.version:
        raise Conflict(
            f"The offer was changed meanwhile; it is {row.state.replace('_', ' ')} now.", "Look at it again."
        )


def send_again(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Send a pending or run-out offer again, with a fresh link and a fresh time; the old link is dead."""
    row = _locked(unit, ident)
    if row.times_sent >= MOST_TIMES_SENT:
        raise TooMany(f"The offer was sent {row.times_sent} times.", "Speak to them another way.", wait=86_400)
    if row.state != OfferState.PENDING:
        row.state = move(OFFERS, "offer", OfferState(row.state), OfferState.PENDING)
        _offer_anew(unit, row)
    token = secrets.token_urlsafe(32)
    row.token_hash, row.sent_at, row.times_sent = digest(token), unit.now, row.times_sent + 1
    row.runs_out_at, row.version = wording.runs_out(unit.now, hours_to_answer(unit)), row.version + 1
    account, person = unit.db.get_one(Account, row.account_id), unit.db.get_one(Person, row.person_id)
    unit.db.flush()
    _post(unit, row, account, person, token)
    unit.record("offer.sent_again", "offer", row.id, f"{account.name} to {person.name}", account.id)
    return one(unit, ident)


def _offer_anew(unit: Unit, row: Offer) -> None:
    """The grant of an offer that ran out has ended: sent again, it is of a new one, with what is left of its time."""
    if row.grant_id is None:
        return
    old = unit.db.get_one(Grant, row.grant_id)
    account = lifecycle.account_of(unit, row.account_id)
    terms = lifecycle.taken_over(mapping.terms_of(unit.db, [old.id]).get(old.id, []), unit.now)
    if not terms:
        raise Conflict("The time that was offered is over by now.", "Offer it anew, with another end.")
    holder = Holder(HolderKind(old.holder_kind), old.holder_id)
    row.grant_id = lifecycle.new_grant(unit, account, holder, terms, GrantState.PENDING, reason=old.reason).id


def withdraw(unit: Unit, ident: UUID, version: int | None = None) -> dict[str, Any]:
    """Take an offer back before it is answered."""
    row = _locked(unit, ident, version)
    end(unit, row, OfferState.WITHDRAWN, EndedAs.WITHDRAWN, "")
    name = unit.db.get_one(Account, row.account_id).name
    sentence = f"{unit.viewer.name} has withdrawn the offer of {name}."
    notices.tell_and_write(unit, [row.person_id], "offer", sentence)
    return one(unit, ident)


def end(unit: Unit, row: Offer, then: OfferState, as_: EndedAs, answer: str) -> None:
    """End an offer without access coming of it; its pending grant ends with it."""
    row.state = move(OFFERS, "offer", OfferState(row.state), then)
    row.answered_at, row.answer, row.version = unit.now, answer.strip(), row.version + 1
    name = unit.db.get_one(Account, row.account_id).name
    unit.record(f"offer.{then}", "offer", row.id, name, row.account_id, answer=row.answer)
    _end_grant(unit, row, as_, name)
    unit.db.flush()


def _end_grant(unit: Unit, row: Offer, as_: EndedAs, name: str) -> None:
    """The pending grant of an offer ends with it; what ran out before has ended already."""
    grant = unit.db.get_one(Grant, row.grant_id, with_for_update=True) if row.grant_id is not None else None
    if grant is not None and grant.state == GrantState.PENDING:
        lifecycle.set_state(grant, GrantState.ENDED)
        grant.ended_as, grant.ended_at = as_, unit.now
        unit.record(f"grant.{as_}", "grant", grant.id, name, row.account_id)


def change(unit: Unit, ident: UUID, choice: Choice, version: int | None) -> dict[str, Any]:
    """Change what a pending offer is of. Whoever has opened it meanwhile has to read it again."""
    locks.access(unit)
    row = _locked(unit, ident, version)
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
    return one(unit, ident)


def offer_ownership(
    unit: Unit, account_id: UUID, to: UUID, keeps: UUID | None, reason: str, version: int | None = None
) -> dict[str, Any]:
    """Offer an account's ownership to somebody whose address is confirmed; nothing changes until they accept."""
    unit.sight.require_owns(account_id)
    unit.require_proof("Handing an account over")
    account = lifecycle.account_of(unit, account_id, lock=True)
    if version is not None and version != account.version:
        raise Conflict("The account was changed meanwhile.", "Look at it again.")
    person = unit.seen_person(to)
    if person is None or person.standing == "left":
        raise BadInput("There is no such person, or they have left.", "Choose another.", {"to": "unknown"})
    if person.id == account.owner_id:
        raise BadInput(f"{person.name} owns it already.", "Choose another.", {"to": "is the owner"})
    if person.address is None or person.address_confirmed_at is None:
        raise BadInput(
            f"{person.name} has not confirmed their address.", "Have them confirm it first.", {"to": "unconfirmed"}
        )
    if person.refuses_offers:
        raise BadInput(f"{person.name} does not take offers.", "Ask them to; or choose somebody else.")
    if keeps is not None:
        lifecycle.terms_from(unit, account, Choice(levels=(keeps,)))
    pending = select(Offer.id).where(
        Offer.account_id == account_id, Offer.kind == "ownership", Offer.state == OfferState.PENDING
    )
    if unit.db.scalar(pending.limit(1)) is not None:
        raise Conflict("Its ownership is on offer already.", "Withdraw that offer first.")
    return one(unit, _store(unit, account, person, person.address, "ownership", None, reason, keeps).id)


def run_out(unit: Unit) -> int:
    """Let offers run out whose time is over; gives how many. Called by the worker."""
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
    """NotAllowed when somebody else than whom it is for is signed in."""
    if viewer is not None and viewer != person.id:
        raise NotAllowed("This offer is for somebody else.", "Sign out, and open the link again.")
