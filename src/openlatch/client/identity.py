"""Sign-ins, and one's own."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class IdentityCalls(Calls):
    """Sign-ins, and one's own."""

    def make_token(
        self,
        address: str,
        password: str,
        name: str = "command line",
        scope: str = "write",
        code: str = "",
        organisation: str = "",
    ) -> schemas.Token:
        """A token by address and password, and the code of a second factor if there is one. It is given only now.

        ``organisation`` is a short name, for an address with which somebody signs in at several.
        """
        body = {
            "address": address,
            "password": password,
            "name": name,
            "scope": scope,
            "code": code,
            "organisation": organisation,
        }
        return schemas.Token.model_validate(
            self._transport.call("POST", "/tokens", json=body, headers={"Idempotency-Key": ""})
        )

    def end_token(self, ident: UUID) -> None:
        """End one of one's own tokens."""
        self._transport.call("DELETE", f"/tokens/{ident}")

    def me(self) -> schemas.Me:
        """Who the token belongs to."""
        return schemas.Me.model_validate(self._transport.call("GET", "/me"))

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

    def rename_passkey(self, ident: UUID, name: str) -> schemas.PasskeyOf:
        """Give one of one's passkeys another name."""
        return self._ask(schemas.PasskeyOf, "PUT", f"/me/passkeys/{ident}", schemas.RenamePasskey(name=name))

    def remove_passkey(self, ident: UUID) -> None:
        """Remove one of one's passkeys."""
        self._ask(schemas.Done, "DELETE", f"/me/passkeys/{ident}")

    def sign_ins(self) -> Sequence[schemas.SignInOf]:
        """Every sign-in of the organisation."""
        return self._ask(schemas.SignIns, "GET", "/sign-ins").rows

    def make_directory_token(self, name: str, days: int = 365) -> schemas.Token:
        """A token for a directory that keeps people and teams by SCIM."""
        return self._ask(schemas.Token, "POST", "/directory-tokens", schemas.MakeDirectoryToken(name=name, days=days))

    def identity_providers(self) -> Sequence[schemas.ProviderOf]:
        """The identity providers by which people sign in."""
        return self._ask(schemas.Providers, "GET", "/identity-providers").rows

    def add_provider(self, wish: schemas.SetProvider) -> schemas.ProviderOf:
        """Let people sign in by an identity provider."""
        return self._ask(schemas.ProviderOf, "POST", "/identity-providers", wish)

    def change_provider(self, ident: UUID, wish: schemas.SetProvider, version: int | None = None) -> schemas.ProviderOf:
        """Change one. Outdated when somebody else has, since ``version``."""
        return self._ask(schemas.ProviderOf, "PUT", f"/identity-providers/{ident}", wish, version=version)

    def remove_provider(self, ident: UUID) -> None:
        """Remove one; nobody signs in by it any more."""
        self._ask(schemas.Done, "DELETE", f"/identity-providers/{ident}")

    def set_role(self, ident: UUID, role: schemas.RoleName) -> schemas.SignInOf:
        """Give a sign-in another role."""
        return self._ask(schemas.SignInOf, "PUT", f"/sign-ins/{ident}/role", schemas.SetRole(role=role))

    def suspend_sign_in(self, ident: UUID, is_suspended: bool = True) -> schemas.SignInOf:
        """Suspend a sign-in, or let it in again."""
        return self._ask(schemas.SignInOf, "PUT" if is_suspended else "DELETE", f"/sign-ins/{ident}/suspended")

    def end_sign_in_sessions(self, ident: UUID) -> schemas.SignInOf:
        """End all sessions of a sign-in."""
        return self._ask(schemas.SignInOf, "DELETE", f"/sign-ins/{ident}/sessions")

    def end_sign_in_tokens(self, ident: UUID) -> schemas.SignInOf:
        """End all API tokens of a sign-in."""
        return self._ask(schemas.SignInOf, "DELETE", f"/sign-ins/{ident}/tokens")

    def reset_factor(self, ident: UUID) -> schemas.SignInOf:
        """Reset somebody's second factor."""
        return self._ask(schemas.SignInOf, "DELETE", f"/sign-ins/{ident}/factor")

    def take_sign_in_away(self, ident: UUID) -> None:
        """Take a sign-in away."""
        self._ask(schemas.Done, "DELETE", f"/sign-ins/{ident}")

    def invitations(self) -> Sequence[schemas.InvitationOf]:
        """Invitations that are not accepted yet."""
        return self._ask(schemas.Invitations, "GET", "/invitations").rows

    def invite(self, wish: schemas.Invite) -> schemas.InvitationOf:
        """Invite somebody to sign in."""
        return self._ask(schemas.InvitationOf, "POST", "/invitations", wish)

    def invite_again(self, ident: UUID) -> schemas.InvitationOf:
        """Send an invitation again, with a fresh link."""
        return self._ask(schemas.InvitationOf, "POST", f"/invitations/{ident}/again")

    def withdraw_invitation(self, ident: UUID) -> None:
        """Take an invitation back."""
        self._ask(schemas.Done, "DELETE", f"/invitations/{ident}")

    def read_invitation(self, token: str) -> schemas.InvitationToYou:
        """Read an invitation by its link's token."""
        return self._ask(schemas.InvitationToYou, "POST", "/link/invitation/read", schemas.OpenInvitation(token=token))

    def accept_invitation(self, token: str, password: str) -> schemas.Me:
        """Accept an invitation by its link's token, with a password to sign in with."""
        body = schemas.AcceptInvitation(token=token, password=password)
        return self._ask(schemas.Me, "POST", "/link/invitation/accept", body)

    def forgot_password(self, address: str) -> None:
        """Have a link sent to an address, if anybody signs in with it."""
        self._ask(schemas.Done, "POST", "/password/forgotten", schemas.ForgottenPassword(address=address))

    def new_password(self, token: str, password: str) -> None:
        """Replace a forgotten password by the token of the link that was mailed."""
        self._ask(schemas.Done, "POST", "/password/new", schemas.NewPassword(token=token, password=password))

    def own_sign_in(self) -> schemas.OwnPage:
        """One's own sign-in, but for its secrets."""
        return self._ask(schemas.OwnPage, "GET", "/me/sign-in")

    def set_profile(self, profile: schemas.Profile) -> schemas.OwnPage:
        """One's name, and how one wants to be told."""
        return self._ask(schemas.OwnPage, "PUT", "/me/profile", profile)

    def change_password(self, password: str) -> None:
        """Choose another password; other sessions end."""
        self._ask(schemas.Done, "PUT", "/me/password", schemas.ChangePassword(password=password))

    def make_recovery_codes(self) -> Sequence[str]:
        """Ten codes, each of which stands in for the second factor once. Those before are good no more."""
        return self._ask(schemas.RecoveryCodes, "POST", "/me/recovery-codes").codes

    def add_address(self, address: str) -> None:
        """Have a link sent to another address of one's own."""
        self._ask(schemas.Done, "POST", "/me/addresses", schemas.AddAddress(address=address))

    def make_address_first(self, address: str) -> schemas.OwnPage:
        """Have mail go to another of one's addresses, and sign in with it."""
        return self._ask(schemas.OwnPage, "PUT", "/me/addresses/first", schemas.AddressNamed(address=address))

    def remove_address(self, address: str) -> schemas.OwnPage:
        """Remove one of one's other addresses."""
        return self._ask(schemas.OwnPage, "POST", "/me/addresses/remove", schemas.AddressNamed(address=address))

    def end_own_session(self, ident: UUID) -> None:
        """End one of one's sessions."""
        self._ask(schemas.Done, "DELETE", f"/me/sessions/{ident}")

    def end_other_sessions(self) -> schemas.OwnPage:
        """End all of one's sessions but the one that asks."""
        return self._ask(schemas.OwnPage, "DELETE", "/me/sessions")

    def make_own_token(self, name: str, scope: schemas.Scope = "read", days: int = 90) -> schemas.Token:
        """A token for programs. It is given only now."""
        return self._ask(schemas.Token, "POST", "/me/tokens", schemas.MakeOwnToken(name=name, scope=scope, days=days))
