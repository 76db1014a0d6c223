"""Answering an offer: reading it by its link, accepting, declining, or reporting an unknown sender.

A link is good for one answer and known by its token's hash alone. A token that is unknown, used, or replaced by a newer
one gets the same error.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.register import Holder
from openlatch.core.states import OFFERS, OfferState, move
from openlatch.core.vocabulary import Cause, EndedAs, GrantState, HolderKind, OfferKind
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, NotSignedIn
from openlatch.service import locks
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.identity import authentication, try_limits
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import page as offer_page
from openlatch.service.offers import preview
from openlatch.service.offers import send as send_offer
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import Account, Grant, Offer, Organisation, Person, SignIn


@dataclass(frozen=True, slots=True)
class Answer:
    """An answer. ``version`` is the version of the offer that was read; ``password`` makes a sign-in."""

    version: int
    password: str = ""
    words: str = ""


def _of_token(service: Service, token: str, origin: str) -> tuple[UUID, UUID]:
    """The organisation and id of the offer that a token opens. NotFound for any other; TooMany for a guesser."""
    guess = try_limits.count_guess(service, "offer", origin)
    with transaction(service.engine, None) as db:
        row = db.execute(
            select(Offer.organisation_id, Offer.id).where(Offer.token_hash == send_offer.digest(token))
        ).first()
    if row is None:
        raise NotFound(
            "This link opens nothing.",
            "It may have been used, or a newer one was sent. Ask whoever offered you access to send it again.",
        )
    try_limits.forgive(service, guess)
    return row.organisation_id, row.id


def read(service: Service, token: str, origin: str, viewer: Viewer | None) -> schemas.OpenOffer:
    """What an offer says, for whoever holds its link. Conflict, naming its state, when it can't be answered now."""
    organisation, ident = _of_token(service, token, origin)
    with service.unit(Viewer.itself(organisation)) as unit:
        row = unit.db.get_one(Offer, ident, with_for_update=True)
        _refuse_unanswerable(unit, row)
        if row.opened_at is None:
            row.opened_at = unit.now
            name = unit.db.get_one(Account, row.account_id).name
            unit.record("offer.opened", "offer", row.id, name, row.account_id)
        return _shown(unit, row, viewer, by_link=True)


def _refuse_unanswerable(unit: Unit, row: Offer) -> None:
    state = OfferState(row.state)
    if state is OfferState.PENDING and row.runs_out_at <= unit.now:
        state = OfferState.RUN_OUT
    if state is not OfferState.PENDING:
        said = {OfferState.UNKNOWN_SENDER: "declined", OfferState.RUN_OUT: "run out"}.get(state, state.value)
        raise Conflict(f"This offer is {said}; it can't be answered now.", "Ask whoever sent it for a new one.")


def _shown(unit: Unit, row: Offer, viewer: Viewer | None, by_link: bool) -> schemas.OpenOffer:
    account, person = unit.db.get_one(Account, row.account_id), unit.db.get_one(Person, row.person_id)
    sender = unit.db.get(Person, row.sender_id) if row.sender_id else None
    grant = unit.db.get(Grant, row.grant_id) if row.grant_id else None
    has = unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person.id)) is not None
    return schemas.OpenOffer.model_validate(
        {
            **dict(offer_page.details(unit, row)),
            "id": row.id,
            "kind": row.kind,
            "state": row.state,
            "version": row.version,
            "organisation": unit.db.get_one(Organisation, row.organisation_id).name,
            "account": schemas.Named(id=account.id, name=account.name),
            "person": schemas.Named(id=person.id, name=person.name),
            "holder": lifecycle.holder_name(unit, grant) if grant else person.name,
            "sender": {"name": sender.name, "address": sender.address} if sender else None,
            "reason": row.reason,
            "runs_out_at": row.runs_out_at,
            "has_sign_in": has,
            "signed_in": viewer is not None and viewer.person == person.id,
            "lacking": preview.unmet(unit, account, person, by_link),
            "suggested_password": "" if has else authentication.suggest_password(),
        }
    )


def accept_by_link(service: Service, token: str, answer: Answer, origin: str, viewer: Viewer | None) -> Viewer:
    """Accept an offer by its link; returns who accepted, who can be signed in now.

    Whoever has no sign-in makes one here, with a password. Whoever has one must be signed in: a link alone does not act
    for them. NotAllowed when somebody else is.
    """
    organisation, ident = _of_token(service, token, origin)
    with service.unit(Viewer.itself(organisation)) as unit:
        locks.access(unit)
        row = unit.db.get_one(Offer, ident, with_for_update=True)
        _refuse_unanswerable(unit, row)
        person = unit.db.get_one(Person, row.person_id)
        # Somebody signed in at another organisation needs, or makes, a sign-in here.
        viewer = viewer if viewer is not None and viewer.organisation == organisation else None
        manage_offers.refuse_stranger(person, viewer.person if viewer else None)
        sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id)).first()
        if sign_in is not None and viewer is None:
            raise NotSignedIn(f"{person.name} has a sign-in already.", "Sign in, then open the link again.")
        if sign_in is None:
            sign_in = _sign_up(unit, person, row.address, answer.password)
        if person.address == row.address and person.address_confirmed_at is None:
            person.address_confirmed_at = unit.now
        who = Viewer(organisation, person.name, person.id, sign_in.id, bool(sign_in.administrator))
        # One transaction: if accepting fails, no sign-in is made.
        _accept(replace(unit, viewer=who), ident, answer.version, by_link=True)
    return who


def _sign_up(unit: Unit, person: Person, address: str, password: str) -> SignIn:
    if not password:
        raise BadInput("You have no sign-in yet.", "Choose a password.", {"password": "is missing"})
    person.address = person.address or address
    authentication.make_sign_in(unit.db, unit.viewer.organisation, person.id, address, password)
    unit.db.flush()
    unit.record("sign_in.made", "person", person.id, person.name)
    return unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id)).one()


def accept(unit: Unit, ident: UUID, answer: Answer) -> None:
    """Accept an offer in the console, as its recipient. Ownership is accepted by link only."""
    locks.access(unit)
    row = _mine(unit, ident)
    if row.kind == OfferKind.OWNERSHIP:
        raise NotAllowed("Ownership is taken over by the link that was sent to you.", "Open it from your mail.")
    _accept(unit, ident, answer.version, by_link=False)


def decline(unit: Unit, ident: UUID, answer: Answer, unknown_sender: bool) -> None:
    """Decline an offer in the console, as its recipient."""
    row = _mine(unit, ident)
    manage_offers.refuse_outdated(row, answer.version)
    _decline(unit, row, answer.words, unknown_sender)


def decline_by_link(service: Service, token: str, answer: Answer, origin: str, unknown_sender: bool) -> None:
    """Decline an offer by its link, without a sign-in; or report an unknown sender."""
    organisation, ident = _of_token(service, token, origin)
    with service.unit(Viewer.itself(organisation)) as unit:
        row = unit.db.get_one(Offer, ident, with_for_update=True)
        _refuse_unanswerable(unit, row)
        manage_offers.refuse_outdated(row, answer.version)
        _decline(unit, row, answer.words, unknown_sender)


def _mine(unit: Unit, ident: UUID) -> Offer:
    row = unit.db.get(Offer, ident, with_for_update=True, populate_existing=True)
    if row is None or row.person_id != unit.viewer.person:
        raise NotFound("There is no such offer to you.")
    _refuse_unanswerable(unit, row)
    return row


def mine(unit: Unit) -> list[schemas.OpenOffer]:
    """The offers that wait for the viewer's answer."""
    rows = unit.db.scalars(
        select(Offer)
        .where(Offer.person_id == unit.viewer.person, Offer.state == OfferState.PENDING, Offer.runs_out_at > unit.now)
        .order_by(Offer.runs_out_at)
    )
    return [_shown(unit, row, unit.viewer, by_link=False) for row in rows]


def _decline(unit: Unit, row: Offer, words: str, unknown_sender: bool) -> None:
    then = OfferState.UNKNOWN_SENDER if unknown_sender else OfferState.DECLINED
    manage_offers.end(unit, row, then, EndedAs.DECLINED, words)
    person = unit.db.get_one(Person, row.person_id).name
    name = unit.db.get_one(Account, row.account_id).name
    if unknown_sender:
        sender = unit.db.get(Person, row.sender_id) if row.sender_id else None
        sentence = f"{person} does not know {sender.name if sender else 'the sender'}, who offered them {name}."
        notices.tell_and_write(unit, {*notices.administrators(unit), row.sender_id}, "offer", sentence, "/offers")
    else:
        said = f": {words.strip()}" if words.strip() else "."
        notices.tell_and_write(
            unit, [row.sender_id], "offer", f"{person} declined the offer of {name}{said}", "/offers"
        )


def _accept(unit: Unit, ident: UUID, version: int, by_link: bool) -> None:
    """Accept as the viewer: the grant comes into force, or the account changes hands."""
    row = unit.db.get_one(Offer, ident, with_for_update=True, populate_existing=True)
    _refuse_unanswerable(unit, row)
    manage_offers.refuse_outdated(row, version)
    account = lifecycle.account_of(unit, row.account_id, lock=True)
    person = unit.db.get_one(Person, row.person_id)
    if row.kind != OfferKind.OWNERSHIP:
        lifecycle.refuse_closed(account)
    lacking = preview.unmet(unit, account, person, by_link)
    if lacking:
        raise Conflict(f"Not yet: {'; '.join(lacking)}.", "Set that up under “My access”, then accept.")
    row.state = move(OFFERS, "offer", OfferState(row.state), OfferState.ACCEPTED)
    row.answered_at, row.version = unit.now, row.version + 1
    if row.kind == OfferKind.OWNERSHIP:
        _take_over(unit, row, account, person)
    else:
        _come_into_force(unit, row, account, person)
    unit.record("offer.accepted", "offer", row.id, f"{account.name} to {person.name}", account.id)


def _come_into_force(unit: Unit, row: Offer, account: Account, person: Person) -> None:
    assert row.grant_id is not None
    grant = unit.db.get_one(Grant, row.grant_id, with_for_update=True, populate_existing=True)
    holder = Holder(HolderKind(grant.holder_kind), grant.holder_id)
    with guard.guarded(unit, guard.touched(unit, [account.id])):
        lifecycle.set_state(grant, GrantState.ACTIVE)
        unit.record("grant.accepted", "grant", grant.id, account.name, account.id, holder=holder.kind)
    # The sender counts as the giver, although the holder performs the acceptance.
    lifecycle.enter_into_force(unit, grant)
    sentence = f"{person.name} accepted the offer of {account.name}."
    people = {row.sender_id, account.owner_id} - {person.id}
    notices.tell_and_write(unit, people, "offer", sentence, f"/accounts/{account.id}")


def _end_what_was_held(unit: Unit, account: Account, before: UUID | None, kept: Grant | None) -> None:
    """The former owner keeps only what was chosen: their other grants on the account end."""
    live = select(Grant.id).where(
        Grant.account_id == account.id,
        Grant.person_id == before,
        Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED)),
    )
    ids = [ident for ident in unit.db.scalars(live) if kept is None or ident != kept.id]
    if before is not None and ids:
        wish = prepare.Wish(grants=tuple(sorted(ids)))
        reason = f"{account.name} was handed over to {unit.viewer.name}."
        revoke.start(unit.as_service(), wish, reason, cause=Cause.REPLACED)


def _take_over(unit: Unit, row: Offer, account: Account, person: Person) -> None:
    before = account.owner_id
    with guard.guarded(unit, guard.touched(unit, [account.id])):
        account.owner_id, account.version = person.id, account.version + 1
        unit.db.flush()
        kept = None
        if before is not None and row.keeps_level_id is not None:
            terms = lifecycle.terms_from(unit, account, Choice(levels=(row.keeps_level_id,)))
            kept = lifecycle.new_grant(
                unit,
                account,
                Holder(HolderKind.PERSON, before),
                terms,
                GrantState.ACTIVE,
                reason="Kept when the account was handed over.",
            )
            unit.record("grant.given", "grant", kept.id, account.name, account.id)
            lifecycle.enter_into_force(unit, kept)
        _end_what_was_held(unit, account, before, kept)
    evaluate_flags.evaluate_owner(unit, account.id, [before, person.id])
    old = unit.db.get(Person, before) if before else None
    unit.record(
        "account.handed_over",
        "account",
        account.id,
        account.name,
        account.id,
        before=old.name if old else None,
        now=person.name,
    )
    sentence = f"{person.name} owns {account.name} now; before, it was {old.name if old else 'nobody'}."
    told = {before, row.sender_id, *notices.stewards(unit, account.id)} - {person.id}
    notices.tell_and_write(unit, told, "ownership", sentence, f"/accounts/{account.id}")
