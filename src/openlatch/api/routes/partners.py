"""The calls about several organisations: one's own sign-ins, and links between partners and clients."""

from __future__ import annotations

from uuid import UUID

from flask import Response, request

from openlatch import schemas
from openlatch.api.routes.identity import signed_in
from openlatch.api.routing import api, origin
from openlatch.errors import NotAllowed
from openlatch.service.identity.authentication import Factor
from openlatch.service.partners import links, sign_in_links
from openlatch.service.unit import Unit


@api.add("GET", "/me/organisations", "Your sign-ins at all organisations", schemas.MyOrganisations)
def get_organisations(unit: Unit) -> schemas.MyOrganisations:
    """With what you may do at each."""
    return sign_in_links.listed(unit)


@api.add(
    "POST",
    "/me/organisations",
    "Link a sign-in at another organisation",
    schemas.MyOrganisations,
    body=schemas.LinkSignIn,
)
def link_sign_in(unit: Unit, body: schemas.LinkSignIn) -> schemas.MyOrganisations:
    """After proving that it is yours, too."""
    factor = Factor(body.code, body.passkey)
    return sign_in_links.link(unit, body.address, body.password, factor, body.organisation, origin())


@api.add("DELETE", "/me/organisations/<uuid:ident>", "Unlink a sign-in elsewhere", schemas.Done)
def unlink_sign_in(unit: Unit, ident: UUID) -> schemas.Done:
    """It stays there, and belongs to yours no more."""
    sign_in_links.unlink(unit, ident)
    return schemas.Done(done=True)


@api.add(
    "POST",
    "/me/organisations/<uuid:ident>/switch",
    "Switch to another organisation",
    schemas.Me,
    body=schemas.SwitchOrganisation,
    secret=True,
)
def switch_organisation(unit: Unit, ident: UUID, body: schemas.SwitchOrganisation) -> Response:
    """Opens a session there with your sign-in there. Your session here stays open."""
    if "Authorization" in request.headers:
        raise NotAllowed("Only a signed-in browser switches organisations.", "Make a token at the other one instead.")
    who = sign_in_links.switch(unit, ident, Factor(body.code, body.passkey))
    return signed_in(who, proved=False)


@api.add("GET", "/partners", "Links with other organisations", schemas.PartnerLinks)
def get_partners(unit: Unit) -> schemas.PartnerLinks:
    """As partner and as client."""
    return links.every(unit)


@api.add("POST", "/partners", "Offer a client to be linked", schemas.PartnerLinkRow, body=schemas.OfferLink, status=201)
def offer_link(unit: Unit, body: schemas.OfferLink) -> schemas.PartnerLinkRow:
    """By the client's short name. The answer does not say whether such a client exists."""
    return links.offer(unit, body.client, body.words, list(body.people))


@api.add(
    "POST",
    "/partners/<uuid:ident>/answer",
    "Accept or decline a partner",
    schemas.PartnerLinkRow,
    body=schemas.AnswerPartner,
)
def answer_partner(unit: Unit, ident: UUID, body: schemas.AnswerPartner) -> schemas.PartnerLinkRow:
    """For the client's administrators."""
    return links.answer(unit, ident, body.accepts, body.team)


@api.add(
    "PUT",
    "/partners/<uuid:ident>/people",
    "Say who acts for a client",
    schemas.PartnerLinkRow,
    body=schemas.PartnerPeople,
)
def set_partner_people(unit: Unit, ident: UUID, body: schemas.PartnerPeople) -> schemas.PartnerLinkRow:
    """For the partner's administrators."""
    return links.set_people(unit, ident, list(body.people))


@api.add(
    "POST",
    "/partners/<uuid:ident>/same",
    "Confirm whom a partner names",
    schemas.PartnerLinkRow,
    body=schemas.ConfirmSame,
)
def confirm_same(unit: Unit, ident: UUID, body: schemas.ConfirmSame) -> schemas.PartnerLinkRow:
    """For the client's administrators: that one of its people is the partner's of the same address, and is let in."""
    return links.confirm_same(unit, ident, body.person)


@api.add("POST", "/partners/<uuid:ident>/end/preview", "What ending a link comes to", schemas.EndLinkPreview)
def preview_end_of_link(unit: Unit, ident: UUID) -> schemas.EndLinkPreview:
    """Nothing happens yet."""
    return links.preview_end(unit, ident)


@api.add("POST", "/partners/<uuid:ident>/end", "End a link", schemas.PartnerLinkRow, body=schemas.EndLink)
def end_link(unit: Unit, ident: UUID, body: schemas.EndLink) -> schemas.PartnerLinkRow:
    """From either side."""
    return links.end(unit, ident, body.reason, body.fingerprint)
