"""The calls about sign-ins. ``Client`` has them all."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from uuid import UUID

from openlatch import wire
from openlatch.client.asking import Asking


class Identity(Asking):
    """The organisation's sign-ins, invitations, passwords, and one's own sign-in."""

    def sign_ins(self) -> Sequence[wire.SignInOf]:
        """Every sign-in of the organisation."""
        return self._ask(wire.SignIns, "GET", "/sign-ins").rows

    def set_role(self, ident: UUID, role: Any) -> wire.SignInOf:
        """Give a sign-in another role."""
        return self._ask(wire.SignInOf, "PUT", f"/sign-ins/{ident}/role", wire.SetRole(role=role))

    def suspend_sign_in(self, ident: UUID, is_suspended: bool = True) -> wire.SignInOf:
        """Suspend a sign-in, or let it in again."""
        return self._ask(wire.SignInOf, "PUT" if is_suspended else "DELETE", f"/sign-ins/{ident}/suspended")

    def end_sign_in_sessions(self, ident: UUID) -> wire.SignInOf:
        """End all sessions of a sign-in."""
        return self._ask(wire.SignInOf, "DELETE", f"/sign-ins/{ident}/sessions")

    def end_sign_in_tokens(self, ident: UUID) -> wire.SignInOf:
        """End all API tokens of a sign-in."""
        return self._ask(wire.SignInOf, "DELETE", f"/sign-ins/{ident}/tokens")

    def reset_factor(self, ident: UUID) -> wire.SignInOf:
        """Reset somebody's second factor."""
        return self._ask(wire.SignInOf, "DELETE", f"/sign-ins/{ident}/factor")

    def take_sign_in_away(self, ident: UUID) -> None:
        """Take a sign-in away."""
        self._ask(wire.Done, "DELETE", f"/sign-ins/{ident}")

    def invitations(self) -> Sequence[wire.InvitationOf]:
        """Invitations that are not accepted yet."""
        return self._ask(wire.Invitations, "GET", "/invitations").rows

    def invite(self, wish: wire.Invite) -> wire.InvitationOf:
        """Invite somebody to sign in."""
        return self._ask(wire.InvitationOf, "POST", "/invitations", wish)

    def invite_again(self, ident: UUID) -> wire.InvitationOf:
        """Send an invitation again, with a fresh link."""
        return self._ask(wire.InvitationOf, "POST", f"/invitations/{ident}/again")

    def withdraw_invitation(self, ident: UUID) -> None:
        """Take an invitation back."""
        self._ask(wire.Done, "DELETE", f"/invitations/{ident}")

    def read_invitation(self, token: str) -> wire.InvitationToYou:
        """Read an invitation by its link's token."""
        return self._ask(wire.InvitationToYou, "POST", "/link/invitation/read", wire.OpenInvitation(token=token))

    def accept_invitation(self, token: str, password: str) -> wire.Me:
        """Accept an invitation by its link's token, with a password to sign in with."""
        body = wire.AcceptInvitation(token=token, password=password)
        return self._ask(wire.Me, "POST", "/link/invitation/accept", body)

    def forgot_password(self, address: str) -> None:
        """Have a link sent to an address, if anybody signs in with it."""
        self._ask(wire.Done, "POST", "/password/forgotten", wire.ForgottenPassword(address=address))

    def new_password(self, token: str, password: str) -> None:
        """Replace a forgotten password by the token of the link that was mailed."""
        self._ask(wire.Done, "POST", "/password/new", wire.NewPassword(token=token, password=password))

    def own_sign_in(self) -> wire.OwnPage:
        """One's own sign-in, but for its secrets."""
        return self._ask(wire.OwnPage, "GET", "/me/sign-in")

    def set_profile(self, profile: wire.Profile) -> wire.OwnPage:
        """One's name, and how one wants to be told."""
        return self._ask(wire.OwnPage, "PUT", "/me/profile", profile)

    def change_password(self, password: str) -> None:
        """Choose another password; other sessions end."""
        self._ask(wire.Done, "PUT", "/me/password", wire.ChangePassword(password=password))

    def make_recovery_codes(self) -> Sequence[str]:
        """Ten codes, each of which stands in for the second factor once. Those before are good no more."""
        return self._ask(wire.RecoveryCodes, "POST", "/me/recovery-codes").codes

    def add_address(self, address: str) -> None:
        """Have a link sent to another address of one's own."""
        self._ask(wire.Done, "POST", "/me/addresses", wire.AddAddress(address=address))

    def make_address_first(self, address: str) -> wire.OwnPage:
        """Have mail go to another of one's addresses, and sign in with it."""
        return self._ask(wire.OwnPage, "PUT", "/me/addresses/first", wire.AddressNamed(address=address))

    def remove_address(self, address: str) -> wire.OwnPage:
        """Remove one of one's other addresses."""
        return self._ask(wire.OwnPage, "POST", "/me/addresses/remove", wire.AddressNamed(address=address))

    def end_own_session(self, ident: UUID) -> None:
        """End one of one's sessions."""
        self._ask(wire.Done, "DELETE", f"/me/sessions/{ident}")

    def end_other_sessions(self) -> wire.OwnPage:
        """End all of one's sessions but the one that asks."""
        return self._ask(wire.OwnPage, "DELETE", "/me/sessions")

    def make_own_token(self, name: str, scope: Any = "read", days: int = 90) -> wire.Token:
        """A token for programs. It is given only now."""
        return self._ask(wire.Token, "POST", "/me/tokens", wire.MakeOwnToken(name=name, scope=scope, days=days))
