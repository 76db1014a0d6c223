"""Several organisations, and partners."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class PartnersCalls(Calls):
    """Several organisations, and partners."""

    def organisations(self) -> Sequence[schemas.MyOrganisation]:
        """One's sign-ins at all organisations, with what one may do at each."""
        return self._get(schemas.MyOrganisations, "/me/organisations").organisations

    def link_sign_in(self, wish: schemas.LinkSignIn) -> Sequence[schemas.MyOrganisation]:
        """Link a sign-in at another organisation, after proving that it is one's own."""
        return self._ask(schemas.MyOrganisations, "POST", "/me/organisations", wish).organisations

    def unlink_sign_in(self, ident: UUID) -> None:
        """Unlink a sign-in elsewhere."""
        self._ask(schemas.Done, "DELETE", f"/me/organisations/{ident}")

    def partners(self) -> Sequence[schemas.PartnerLinkRow]:
        """The links with other organisations."""
        return self._get(schemas.PartnerLinks, "/partners").links

    def offer_link(self, client: str, people: Iterable[UUID], words: str = "") -> schemas.PartnerLinkRow:
        """Offer a client, by its short name, to be linked."""
        body = schemas.OfferLink(client=client, people=list(people), words=words)
        return self._ask(schemas.PartnerLinkRow, "POST", "/partners", body)

    def answer_partner(self, ident: UUID, accepts: bool, team: UUID | None = None) -> schemas.PartnerLinkRow:
        """Accept or decline a partner."""
        body = schemas.AnswerPartner(accepts=accepts, team=team)
        return self._ask(schemas.PartnerLinkRow, "POST", f"/partners/{ident}/answer", body)

    def set_partner_people(self, ident: UUID, people: Iterable[UUID]) -> schemas.PartnerLinkRow:
        """Say which of one's people act for a client."""
        return self._ask(
            schemas.PartnerLinkRow, "PUT", f"/partners/{ident}/people", schemas.PartnerPeople(people=list(people))
        )

    def confirm_same(self, ident: UUID, person: UUID) -> schemas.PartnerLinkRow:
        """Say that one of the client's people is whom the partner names by the same address."""
        return self._ask(schemas.PartnerLinkRow, "POST", f"/partners/{ident}/same", schemas.ConfirmSame(person=person))

    def preview_end_of_link(self, ident: UUID) -> schemas.EndLinkPreview:
        """What ending a link comes to."""
        return self._ask(schemas.EndLinkPreview, "POST", f"/partners/{ident}/end/preview")

    def end_link(self, ident: UUID, reason: str = "", fingerprint: str = "") -> schemas.PartnerLinkRow:
        """End a link, from either side."""
        body = schemas.EndLink(reason=reason, fingerprint=fingerprint)
        return self._ask(schemas.PartnerLinkRow, "POST", f"/partners/{ident}/end", body)
