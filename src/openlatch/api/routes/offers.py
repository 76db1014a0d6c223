"""The calls about offers, signed in or by link."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from flask import Response

from openlatch import schemas
from openlatch.api.routes.identity import signed_in
from openlatch.api.routing import api, if_match, origin, perhaps_viewer, the_service
from openlatch.service.grants import lifecycle
from openlatch.service.identity import authentication
from openlatch.service.offers import answer as offer_answer
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import page as offer_page
from openlatch.service.offers import preview, send
from openlatch.service.unit import Unit


def choice(body: Any) -> lifecycle.Choice:
    """What an offer or a request chooses, as the use cases take it."""
    hours = lifecycle.weekly_hours(body.hours.days, body.hours.begins, body.hours.ends) if body.hours else None
    singles = tuple(lifecycle.Single(p.key, p.until, p.last_day) for p in body.permissions)
    return lifecycle.Choice(
        tuple(body.levels), singles, tuple(body.parts), body.since, body.until, body.last_day, hours
    )


def _proposal(body: schemas.OfferProposal) -> preview.Proposal:
    to = tuple(preview.To(t.person, t.team, t.address, t.name, t.handle, t.inside) for t in body.to)
    return preview.Proposal(body.account, to, choice(body), body.reason)


@api.add(
    "POST",
    "/offers/preview",
    "What an offer would come to",
    schemas.OfferPreview,
    body=schemas.OfferProposal,
    inside=True,
)
def preview_offer(unit: Unit, body: schemas.OfferProposal) -> schemas.OfferPreview:
    """For each of those it is for. Nothing happens yet."""
    return preview.preview(unit, _proposal(body))


@api.add("POST", "/offers", "Send an offer", schemas.OffersSent, body=schemas.OfferSend, status=201, inside=True)
def send_offer(unit: Unit, body: schemas.OfferSend) -> schemas.OffersSent:
    """To one or several people or teams, by mail and in the console."""
    return schemas.OffersSent(offers=send.send(unit, _proposal(body), body.fingerprint))


@api.add("GET", "/offers/<uuid:ident>", "An offer, with what it comes to", schemas.OfferPage, inside=True)
def get_offer(unit: Unit, ident: UUID) -> schemas.OfferPage:
    """For its sender's side, and for whoever it is for."""
    return offer_page.one(unit, ident)


@api.add(
    "PUT", "/offers/<uuid:ident>", "Change a pending offer", schemas.OfferPage, body=schemas.ChangeOffer, inside=True
)
def change_offer(unit: Unit, ident: UUID, body: schemas.ChangeOffer) -> schemas.OfferPage:
    """Whoever has opened it meanwhile reads it again before they can accept."""
    return manage_offers.change(unit, ident, choice(body), if_match())


@api.add("POST", "/offers/<uuid:ident>/again", "Send an offer again", schemas.OfferPage, inside=True)
def send_offer_again(unit: Unit, ident: UUID) -> schemas.OfferPage:
    """With a fresh link; the old one is dead."""
    return send.send_again(unit, ident)


@api.add("POST", "/offers/<uuid:ident>/withdraw", "Withdraw an offer", schemas.OfferPage, inside=True)
def withdraw_offer(unit: Unit, ident: UUID) -> schemas.OfferPage:
    """Before it is answered."""
    return manage_offers.withdraw(unit, ident, if_match())


@api.add("POST", "/offers/<uuid:ident>/accept", "Accept an offer to you", schemas.OfferPage, body=schemas.Accept)
def accept_offer(unit: Unit, ident: UUID, body: schemas.Accept) -> schemas.OfferPage:
    """In the version that you read."""
    offer_answer.accept(unit, ident, offer_answer.Answer(body.version))
    return offer_page.one(unit, ident)


@api.add("POST", "/offers/<uuid:ident>/decline", "Decline an offer to you", schemas.OfferPage, body=schemas.Accept)
def decline_offer(unit: Unit, ident: UUID, body: schemas.Accept) -> schemas.OfferPage:
    """Or say that you do not know the sender."""
    offer_answer.decline(unit, ident, offer_answer.Answer(body.version, words=body.words), body.unknown_sender)
    return offer_page.one(unit, ident)


@api.add("POST", "/link/read", "Read an offer by its link", schemas.OpenOffer, body=schemas.LinkToken, open=True)
def read_link(body: schemas.LinkToken) -> schemas.OpenOffer:
    """The token comes from the link that was mailed; it is never part of an address that is sent anywhere."""
    return offer_answer.read(the_service(), body.token, origin(), perhaps_viewer())


@api.add("POST", "/link/accept", "Accept an offer by its link", schemas.Me, body=schemas.LinkAnswer, open=True)
def accept_link(body: schemas.LinkAnswer) -> Response | schemas.Me:
    """Whoever has no sign-in makes one with a password, and is signed in."""
    before = perhaps_viewer()
    answer = offer_answer.Answer(body.version, body.password, body.words)
    who = offer_answer.accept_by_link(the_service(), body.token, answer, origin(), before)
    if before is None:
        return signed_in(who)
    with the_service().unit(before) as unit:
        return authentication.describe(unit)


@api.add("POST", "/link/decline", "Decline an offer by its link", schemas.Done, body=schemas.LinkAnswer, open=True)
def decline_link(body: schemas.LinkAnswer) -> schemas.Done:
    """Or say that you do not know the sender. Needs no sign-in."""
    answer = offer_answer.Answer(body.version, words=body.words)
    offer_answer.decline_by_link(the_service(), body.token, answer, origin(), body.unknown_sender)
    return schemas.Done(done=True)


@api.add(
    "POST",
    "/accounts/<uuid:ident>/hand-over",
    "Offer an account's ownership",
    schemas.OfferPage,
    body=schemas.HandOver,
    status=201,
)
def hand_over(unit: Unit, ident: UUID, body: schemas.HandOver) -> schemas.OfferPage:
    """Nothing changes until the new owner accepts by the link that is mailed to them."""
    return send.offer_ownership(unit, ident, body.to, body.keeps, body.reason, if_match())
