"""Sending offers, again too. Only the hash of a link's token is stored.

An offer of access is a pending grant with a link that opens once. An offer of ownership has no grant.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import latches
from openlatch.core import register as core
from openlatch.core.offers import wording
from openlatch.core.register import Holder
from openlatch.core.states import OFFERS, OfferState, move
from openlatch.core.vocabulary import GrantState, HolderKind, OfferKind, Standing
from openlatch.errors import BadInput, Conflict, TooMany
from openlatch.service import locks
from openlatch.service.grants import lifecycle
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import page as offer_page
from openlatch.service.offers.preview import (
    Candidate,
    Proposal,
    Recipient,
    To,
    candidate,
    prepare,
    recipient,
    refuse_owner,
    settings_of,
    shown,
)
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.tables import (
    Account,
    Grant,
    Offer,
    Organisation,
    Person,
    SignIn,
)

OFFER_HOURS = 48


MOST_TIMES_SENT = 10


def send(unit: Unit, proposal: Proposal, seen: str = "") -> list[UUID]:
    """Send an offer to each recipient; returns the ids.

    Held when a latch refuses, ProofNeeded before steward reach is offered, Conflict when the offer differs from the
    preview with the fingerprint ``seen``, or such an offer is pending already.
    """
    locks.access(unit)
    prepared = prepare(unit, proposal)
    if seen and seen != shown(unit, prepared).fingerprint:
        raise Conflict("What this offer includes has changed since it was shown.", "Look at the preview again.")
    if prepared.needs_proof:
        unit.require_proof("Offering steward reach")
    for each in prepared.recipients:
        _refuse(unit, prepared.account, each)
    return [_write(unit, prepared.account, each.to, prepared.terms, proposal.reason) for each in prepared.recipients]


def offer_again(unit: Unit, account: Account, person: UUID, terms: Sequence[core.Term], reason: str) -> UUID:
    """Offer somebody exactly these terms, which they have to agree to; returns the offer's id."""
    to = candidate(unit.as_service(), account, To(person=person))
    refuse_owner(account, to)
    _refuse(unit, account, recipient(unit, account, to, terms))
    return _write(unit, account, to, terms, reason)


def _refuse(unit: Unit, account: Account, each: Recipient) -> None:
    """Refuse an offer before anything is written: because of latches, the recipient, or another pending offer."""
    guard.refuse(latches.held(each.breaches))
    if each.to.person is not None and each.to.person.refuses_offers:
        raise BadInput(f"{each.to.name} does not take offers.", "Ask them to; or offer it to somebody else.")
    _refuse_second(unit, account, each.to.holder, each.to.name)


def _write(unit: Unit, account: Account, to: Candidate, terms: Sequence[core.Term], reason: str) -> UUID:
    person = to.person or _make_person(unit, to)
    holder = to.holder if to.person else Holder(HolderKind.PERSON, person.id)
    grant = lifecycle.new_grant(unit, account, holder, terms, GrantState.PENDING, reason=reason.strip())
    return _store(unit, account, person, to.address, "access", grant, reason).id


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
    """For how many hours an offer can be answered."""
    return int(settings_of(unit).get("offer_hours", OFFER_HOURS))


def digest(token: str) -> bytes:
    """The hash of a token, which is what is stored."""
    return hashlib.sha256(token.encode()).digest()


def _post(unit: Unit, row: Offer, account: Account, person: Person, token: str) -> None:
    """The mail with the link. It says who offers what kind of thing, not what it permits."""
    what = "the ownership of" if row.kind == OfferKind.OWNERSHIP else "access to"
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation).name
    until = row.runs_out_at.astimezone(ZoneInfo(account.time_zone))
    has = unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person.id)) is not None
    letter = notices.Letter(
        f"{unit.viewer.name} offers you {what} {account.name}",
        (
            f"Hello {person.name},",
            f"{unit.viewer.name} of {organisation} offers you {what} the shared account {account.name}.",
            "Open the offer to read what it includes before you decide. You can accept it, decline it, or say that you "
            "do not know the sender."
            + ("" if has else " If you accept, you choose a password of your own on the way."),
            f"The link works once, until {until:%-d %B %Y, %H:%M}. If you did not expect this, leave it alone.",
        ),
        f"{unit.service.address}/offer#{token}",
        "Read the offer",
    )
    notices.write(unit, row.address, letter)


def send_again(unit: Unit, ident: UUID) -> schemas.OfferPage:
    """Send a pending or expired offer again, with a new link and a new deadline; the old link stops working."""
    row = manage_offers.locked(unit, ident)
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
    return offer_page.one(unit, ident)


def _offer_anew(unit: Unit, row: Offer) -> None:
    """The grant of an expired offer has ended: the offer gets a new one, with what is left of its time."""
    if row.grant_id is None:
        return
    old = unit.db.get_one(Grant, row.grant_id)
    account = lifecycle.account_of(unit, row.account_id)
    terms = lifecycle.taken_over(mapping.terms_of(unit.db, [old.id]).get(old.id, []), unit.now)
    if not terms:
        raise Conflict("The time that was offered is over by now.", "Offer it again, with another end.")
    holder = Holder(HolderKind(old.holder_kind), old.holder_id)
    row.grant_id = lifecycle.new_grant(unit, account, holder, terms, GrantState.PENDING, reason=old.reason).id


def offer_ownership(
    unit: Unit, account_id: UUID, to: UUID, keeps: UUID | None, reason: str, version: int | None = None
) -> schemas.OfferPage:
    """Offer an account's ownership to somebody with a confirmed address; nothing changes until they accept."""
    unit.sight.require_owns(account_id)
    unit.require_proof("Handing an account over")
    account = lifecycle.account_of(unit, account_id, lock=True)
    if version is not None and version != account.version:
        raise Conflict("The account was changed meanwhile.", "Look at it again.")
    person = unit.seen_person(to)
    if person is None or person.standing == Standing.LEFT:
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
        Offer.account_id == account_id, Offer.kind == OfferKind.OWNERSHIP, Offer.state == OfferState.PENDING
    )
    if unit.db.scalar(pending.limit(1)) is not None:
        raise Conflict("Its ownership is on offer already.", "Withdraw that offer first.")
    return offer_page.one(unit, _store(unit, account, person, person.address, "ownership", None, reason, keeps).id)
