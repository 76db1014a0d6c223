"""The calls about giving access. ``Client`` has them all; they stand apart because they are many."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any
from uuid import UUID

from openlatch import schemas
from openlatch.client.asking import Asking


class Giving(Asking):
    """Offers, requests, levels, changes, latches, and one's own side."""

    # Offers.

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

    def set_account(
        self,
        account: UUID,
        emergency_hours: int | None,
        prerequisites: Iterable[str] = (),
        version: int | None = None,
    ) -> schemas.AccountRow:
        """How access to an account is given."""
        body = schemas.SetAccount.model_validate(
            {"emergency_hours": emergency_hours, "prerequisites": list(prerequisites)}
        )
        return self._ask(schemas.AccountRow, "PUT", f"/accounts/{account}/giving", body, version)

    def set_speaker(self, team: UUID, speaker: UUID | None) -> schemas.TeamRow:
        """Say who speaks for a team."""
        return self._ask(schemas.TeamRow, "PUT", f"/teams/{team}/speaker", schemas.SetSpeaker(speaker=speaker))

    def settings(self) -> schemas.Settings:
        """How the organisation gives access."""
        return self._ask(schemas.Settings, "GET", "/settings")

    def set_settings(self, settings: schemas.SetSettings) -> schemas.Settings:
        """Set it."""
        return self._ask(schemas.Settings, "PUT", "/settings", settings)

    # Requests.

    def ask_access(self, wish: schemas.AskAccess) -> schemas.RequestRow:
        """Ask for access."""
        return self._ask(schemas.RequestRow, "POST", "/requests", wish)

    def request(self, ident: UUID) -> schemas.RequestRow:
        """A request for access."""
        return self._ask(schemas.RequestRow, "GET", f"/requests/{ident}")

    def grant_request(
        self, ident: UUID, how: schemas.GrantRequest | None = None, version: int | None = None
    ) -> schemas.RequestRow:
        """Grant a request: as it was asked, or less, or for a shorter time."""
        return self._ask(schemas.RequestRow, "POST", f"/requests/{ident}/grant", how or schemas.GrantRequest(), version)

    def decline_request(self, ident: UUID, words: str, version: int | None = None) -> schemas.RequestRow:
        """Decline a request, with a word about why."""
        return self._ask(schemas.RequestRow, "POST", f"/requests/{ident}/decline", schemas.Words(words=words), version)

    def withdraw_request(self, ident: UUID, version: int | None = None) -> schemas.RequestRow:
        """Withdraw one's own request."""
        return self._ask(schemas.RequestRow, "POST", f"/requests/{ident}/withdraw", None, version)

    # Levels.

    def make_level(self, level: schemas.MakeLevel) -> schemas.LevelRow:
        """Make a level."""
        return self._ask(schemas.LevelRow, "POST", "/levels", level)

    def preview_level(self, ident: UUID, draft: schemas.LevelDraft) -> schemas.LevelPreview:
        """Whose rights a change would make grow or shrink."""
        return self._ask(schemas.LevelPreview, "POST", f"/levels/{ident}/preview", draft)

    def change_level(
        self, ident: UUID, draft: schemas.LevelDraft, fingerprint: str = "", version: int | None = None
    ) -> schemas.LevelRow:
        """Change a level, at once for everybody who holds it."""
        body = schemas.ChangeLevel(**draft.model_dump(), fingerprint=fingerprint)
        return self._ask(schemas.LevelRow, "PUT", f"/levels/{ident}", body, version)

    def remove_level(self, ident: UUID) -> None:
        """Remove a level to which nothing refers."""
        self._ask(schemas.Done, "DELETE", f"/levels/{ident}")

    def archive_level(self, ident: UUID, is_archived: bool = True) -> None:
        """Put a level away that no live grant gives, or take it out again."""
        self._ask(schemas.Done, "PUT" if is_archived else "DELETE", f"/levels/{ident}/archived")

    def compare_levels(self, first: UUID, second: UUID) -> schemas.LevelComparison:
        """Two levels side by side."""
        params = {"first": str(first), "second": str(second)}
        return schemas.LevelComparison.model_validate(self._transport.call("GET", "/levels/compare", params=params))

    def permissions(self, system: UUID) -> list[schemas.PermissionOf]:
        """Every permission of a system."""
        return self._ask(schemas.PermissionRow, "GET", f"/systems/{system}/permissions").permissions

    # Changes.

    def preview_change(self, wish: schemas.ChangeWish) -> schemas.ChangePreview:
        """What a change would do to each grant."""
        return self._ask(schemas.ChangePreview, "POST", "/changes/preview", wish)

    def change(self, wish: schemas.ChangeWish) -> schemas.ChangeResult:
        """Change grants, one or many; gives a line for each."""
        return self._ask(schemas.ChangeResult, "POST", "/changes", wish)

    def grant_terms(self, ident: UUID) -> schemas.TermsNow:
        """The terms of a grant, as a change of them begins."""
        return self._ask(schemas.TermsNow, "GET", f"/grants/{ident}/terms")

    def task_done(self, ident: UUID, words: str, version: int | None = None) -> schemas.TaskRow:
        """Say that something was done by hand, in one's own words."""
        return self._ask(schemas.TaskRow, "POST", f"/tasks/{ident}/done", schemas.TaskDone(words=words), version)

    def assign_task(self, ident: UUID, person: UUID | None, version: int | None = None) -> schemas.TaskRow:
        """Say who does something by hand."""
        return self._ask(schemas.TaskRow, "POST", f"/tasks/{ident}/assign", schemas.TaskAssign(person=person), version)

    def change_many(
        self, wish: schemas.ChangeWish, only_preview: bool = False, seen: UUID | None = None
    ) -> schemas.LargeChangePage:
        """Ask for a change of more grants than one call has time for; the worker makes it."""
        body = schemas.LargeChangeWish(**wish.model_dump(exclude={"fingerprint"}), only_preview=only_preview, seen=seen)
        return self._ask(schemas.LargeChangePage, "POST", "/changes/large", body)

    def large_change(self, ident: UUID) -> schemas.LargeChangePage:
        """How far a large change is."""
        return self._ask(schemas.LargeChangePage, "GET", f"/changes/large/{ident}")

    def stop_large_change(self, ident: UUID) -> schemas.LargeChangePage:
        """Have it go no further."""
        return self._ask(schemas.LargeChangePage, "POST", f"/changes/large/{ident}/stop")

    def give_up(self, grant: UUID, reason: str = "") -> schemas.GivenUp:
        """Give up access of one's own."""
        return self._ask(schemas.GivenUp, "POST", f"/grants/{grant}/give-up", schemas.GiveUp(reason=reason))

    def end_session(self, session: UUID) -> schemas.GivenUp:
        """End a session of one's own in its system."""
        return self._ask(schemas.GivenUp, "POST", f"/sessions/{session}/end")

    # Latches.

    def preview_latch(self, latch: schemas.SetLatch) -> schemas.LatchPreview:
        """What breaks a latch as things are."""
        return self._ask(schemas.LatchPreview, "POST", "/latches/preview", latch)

    def set_latch(self, latch: schemas.SetLatch) -> schemas.LatchPreview:
        """Set a latch to off, warn or hold."""
        return self._ask(schemas.LatchPreview, "PUT", "/latches", latch)

    def latches(self, account: UUID) -> list[schemas.LatchState]:
        """Every latch of an account: how it is set, and what breaks it."""
        found = self._transport.call("GET", f"/accounts/{account}/latches")
        return schemas.Rows[schemas.LatchState].model_validate(found).rows

    # One's own side.

    def mine(self) -> schemas.Mine:
        """What I can reach, and who can reach mine."""
        return self._ask(schemas.Mine, "GET", "/mine")

    def switch(self, account: UUID) -> schemas.Me:
        """Switch into an account."""
        return self._ask(schemas.Me, "POST", "/me/switch", schemas.Switch(account=account))

    def switch_out(self) -> None:
        """Switch out again."""
        self._ask(schemas.Done, "DELETE", "/me/switch")

    def prove(self, password: str, code: str = "") -> schemas.Proved:
        """Prove afresh that it is oneself."""
        return self._ask(schemas.Proved, "POST", "/me/proof", schemas.ProveWith(password=password, code=code))

    def refuse_offers(self, refuses: bool) -> None:
        """Refuse to be sent offers, or take them again."""
        self._ask(schemas.Done, "PUT", "/me/offers", schemas.SetOffers(refuses=refuses))

    def ask_for_address_proof(self) -> None:
        """Have a link sent that confirms one's address."""
        self._ask(schemas.Done, "POST", "/me/address")

    def confirm_address(self, token: str) -> None:
        """Confirm an address by its link's token."""
        self._ask(schemas.Done, "POST", "/link/confirm", schemas.ConfirmAddress(token=token))

    def begin_factor(self) -> schemas.Factor:
        """Begin to set up a second factor."""
        return self._ask(schemas.Factor, "POST", "/me/factor")

    def confirm_factor(self, code: str) -> None:
        """Give its first code."""
        self._ask(schemas.Done, "PUT", "/me/factor", schemas.CodeWith(code=code))

    def remove_factor(self) -> None:
        """Do without it."""
        self._ask(schemas.Done, "DELETE", "/me/factor")

    def read_notices(self, notices: Iterable[UUID] = ()) -> None:
        """Mark notices as read; all of them when none is named."""
        self._ask(schemas.Done, "POST", "/notices/read", schemas.ReadNotices(notices=list(notices)))

    def exchange(self, token: str, account: UUID) -> Mapping[str, Any]:
        """Exchange a token of one's own for a short-lived one to act in an account (RFC 8693)."""
        form = {
            "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange",
            "subject_token": token,
            "subject_token_type": "urn:ietf:params:oauth:token-type:access_token",
            "audience": str(account),
        }
        return self._transport.form("/oauth/token", form)

    def introspect(self, token: str) -> Mapping[str, Any]:
        """Whether an exchanged token is good now, and for what (RFC 7662)."""
        return self._transport.form("/oauth/introspect", {"token": token})

    def revoke_token(self, token: str) -> None:
        """End an exchanged token of one's own (RFC 7009)."""
        self._transport.form("/oauth/revoke", {"token": token})
