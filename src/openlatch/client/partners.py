"""The calls about several organisations. ``Client`` has them all."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from uuid import UUID

from openlatch import wire
from openlatch.client.asking import Asking


class Partnering(Asking):
    """One's sign-ins at several organisations, and links between partners and clients."""

    def organisations(self) -> Sequence[wire.MyOrganisation]:
        """One's sign-ins at all organisations, with what one may do at each."""
        return self._get(wire.MyOrganisations, "/me/organisations").organisations

    def link_sign_in(self, wish: wire.LinkSignIn) -> Sequence[wire.MyOrganisation]:
        """Link a sign-in at another organisation, after proving that it is one's own."""
        return self._ask(wire.MyOrganisations, "POST", "/me/organisations", wish).organisations

    def unlink_sign_in(self, ident: UUID) -> None:
        """Unlink a sign-in elsewhere."""
        self._ask(wire.Done, "DELETE", f"/me/organisations/{ident}")

    def partners(self) -> Sequence[wire.PartnerLinkRow]:
        """The links with other organisations."""
        return self._get(wire.PartnerLinks, "/partners").links

    def offer_link(self, client: str, people: Iterable[UUID], words: str = "") -> wire.PartnerLinkRow:
        """Offer a client, by its short name, to be linked."""
        body = wire.OfferLink(client=client, people=list(people), words=words)
        return self._ask(wire.PartnerLinkRow, "POST", "/partners", body)

    def answer_partner(self, ident: UUID, accepts: bool, team: UUID | None = None) -> wire.PartnerLinkRow:
        """Accept or decline a partner."""
        body = wire.AnswerPartner(accepts=accepts, team=team)
        return self._ask(wire.PartnerLinkRow, "POST", f"/partners/{ident}/answer", body)

    def set_partner_people(self, ident: UUID, people: Iterable[UUID]) -> wire.PartnerLinkRow:
        """Say which of one's people act for a client."""
        return self._ask(
            wire.PartnerLinkRow, "PUT", f"/partners/{ident}/people", wire.PartnerPeople(people=list(people))
        )

    def confirm_same(self, ident: UUID, person: UUID) -> wire.PartnerLinkRow:
        """Say that one of the client's people is whom the partner names by the same address."""
        return self._ask(wire.PartnerLinkRow, "POST", f"/partners/{ident}/same", wire.ConfirmSame(person=person))

    def preview_end_of_link(self, ident: UUID) -> wire.EndLinkPreview:
        """What ending a link comes to."""
        return self._ask(wire.EndLinkPreview, "POST", f"/partners/{ident}/end/preview")

    def end_link(self, ident: UUID, reason: str = "", fingerprint: str = "") -> wire.PartnerLinkRow:
        """End a link, from either side."""
        body = wire.EndLink(reason=reason, fingerprint=fingerprint)
        return self._ask(wire.PartnerLinkRow, "POST", f"/partners/{ident}/end", body)
