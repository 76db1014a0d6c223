"""Offers, and answers to them."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class OffersCalls(Calls):
    """Offers, and answers to them."""

    def preview_offer(self, proposal: schemas.OfferProposal) -> schemas.OfferPreview:
        """What an offer would come to. Nothing happens yet."""
        body = schemas.OfferProposal.model_validate(proposal.model_dump(exclude={"fingerprint"}))
        return self._ask(schemas.OfferPreview, "POST", "/offers/preview", body)

    def send_offer(self, proposal: schemas.OfferProposal, fingerprint: str = "") -> list[UUID]:
        """Send an offer; gives the ids, one for each of those it is for."""
        body = schemas.OfferSend(**{**proposal.model_dump(), "fingerprint": fingerprint})
        return self._ask(schemas.OffersSent, "POST", "/offers", body).offers

    def offer(self, ident: UUID) -> schemas.OfferPage:
        """An offer, with what it comes to."""
        return self._ask(schemas.OfferPage, "GET", f"/offers/{ident}")

    def change_offer(self, ident: UUID, choice: schemas.ChangeOffer, version: int | None = None) -> schemas.OfferPage:
        """Change what a pending offer is of."""
        return self._ask(schemas.OfferPage, "PUT", f"/offers/{ident}", choice, version)

    def send_offer_again(self, ident: UUID) -> schemas.OfferPage:
        """Send it again, with a fresh link."""
        return self._ask(schemas.OfferPage, "POST", f"/offers/{ident}/again")

    def withdraw_offer(self, ident: UUID, version: int | None = None) -> schemas.OfferPage:
        """Withdraw it before it is answered."""
        return self._ask(schemas.OfferPage, "POST", f"/offers/{ident}/withdraw", None, version)

    def accept_offer(self, ident: UUID, version: int) -> schemas.OfferPage:
        """Accept an offer to oneself, in the version that one read."""
        return self._ask(schemas.OfferPage, "POST", f"/offers/{ident}/accept", schemas.Accept(version=version))

    def decline_offer(
        self, ident: UUID, version: int, words: str = "", unknown_sender: bool = False
    ) -> schemas.OfferPage:
        """Decline an offer to oneself, or say that one does not know the sender."""
        body = schemas.Accept(version=version, words=words, unknown_sender=unknown_sender)
        return self._ask(schemas.OfferPage, "POST", f"/offers/{ident}/decline", body)

    def read_link(self, token: str) -> schemas.OpenOffer:
        """Read an offer by its link's token."""
        return self._ask(schemas.OpenOffer, "POST", "/link/read", schemas.LinkToken(token=token))

    def accept_link(self, token: str, version: int, password: str = "") -> schemas.Me:
        """Accept an offer by its link; with a password, whoever has no sign-in makes one."""
        body = schemas.LinkAnswer(token=token, version=version, password=password)
        return self._ask(schemas.Me, "POST", "/link/accept", body)

    def decline_link(self, token: str, version: int, words: str = "", unknown_sender: bool = False) -> None:
        """Decline an offer by its link."""
        body = schemas.LinkAnswer(token=token, version=version, words=words, unknown_sender=unknown_sender)
        self._ask(schemas.Done, "POST", "/link/decline", body)

    def hand_over(
        self, account: UUID, to: UUID, keeps: UUID | None = None, reason: str = "", version: int | None = None
    ) -> schemas.OfferPage:
        """Offer an account's ownership to somebody."""
        body = schemas.HandOver(to=to, keeps=keeps, reason=reason)
        return self._ask(schemas.OfferPage, "POST", f"/accounts/{account}/hand-over", body, version)
