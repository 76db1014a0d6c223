"""Sign-ins: those of the organisation, invitations, forgotten passwords, and one's own."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.schemas.answers import Answer, Named
from openlatch.schemas.requests import Request

__all__ = [
    "AcceptInvitation",
    "AddAddress",
    "AddressNamed",
    "ChangePassword",
    "ForgottenPassword",
    "InvitationOf",
    "InvitationToYou",
    "Invitations",
    "Invite",
    "MakeOwnToken",
    "NewPassword",
    "OpenInvitation",
    "OwnPage",
    "Profile",
    "RecoveryCodes",
    "SetRole",
    "SignInOf",
    "SignIns",
]

RoleName = Literal["administrator", "auditor", "reviewer", "member"]
Secret = Annotated[str, StringConstraints(max_length=1024)]
Token = Annotated[str, StringConstraints(min_length=1, max_length=200)]
Address = Annotated[str, StringConstraints(max_length=320)]


class SignInOf(Answer):
    """A sign-in: whose, in which role, and what is open under it."""

    id: UUID
    person: Named
    address: str
    role: RoleName
    standing: str
    suspended_at: datetime | None
    second_factor: bool
    last_seen_at: datetime | None
    sessions: int
    tokens: int


class SignIns(Answer):
    """Every sign-in of the organisation."""

    rows: list[SignInOf]


class SetRole(Request):
    """Another role."""

    role: RoleName


class Invite(Request):
    """Whom to invite: a person of the register, or somebody new by name and address."""

    person: UUID | None = None
    name: Annotated[str, StringConstraints(max_length=200, strip_whitespace=True)] = ""
    address: Address = ""
    role: RoleName = "member"


class InvitationOf(Answer):
    """An invitation that is not accepted yet."""

    id: UUID
    person: Named
    address: str
    role: RoleName
    sent_by: str
    sent_at: datetime
    times_sent: int
    runs_out_at: datetime


class Invitations(Answer):
    """Invitations that are not accepted yet, the latest first."""

    rows: list[InvitationOf]


class OpenInvitation(Request):
    """The token of an invitation's link."""

    token: Token


class InvitationToYou(Answer):
    """What somebody is invited to, before they accept."""

    organisation: str
    name: str
    address: str
    role: RoleName
    sent_by: str
    runs_out_at: datetime


class AcceptInvitation(OpenInvitation):
    """The token of an invitation's link, and the password to sign in with."""

    password: Secret


class ForgottenPassword(Request):
    """The address that one signs in with."""

    address: Address


class NewPassword(OpenInvitation):
    """The token of the link that was mailed, and the new password."""

    password: Secret


class ChangePassword(Request):
    """Another password."""

    password: Secret


class RecoveryCodes(Answer):
    """Codes each of which stands in for the second factor once. They are shown only now."""

    codes: list[str]


class AddressOf(Answer):
    """One of one's addresses. One counts once it is confirmed; mail goes to the first."""

    address: str
    confirmed_at: datetime | None
    is_first: bool


class OwnSession(Answer):
    """A signed-in browser of one's own."""

    id: UUID
    device: str
    address: str
    started_at: datetime
    last_seen_at: datetime
    expires_at: datetime
    is_this: bool


class OwnToken(Answer):
    """An API token of one's own."""

    id: UUID
    name: str
    scope: Literal["read", "write"]
    made_at: datetime
    last_used_at: datetime | None
    expires_at: datetime
    is_this: bool


class OwnPage(Answer):
    """One's own sign-in, but for its secrets."""

    name: str
    role: RoleName
    sign_in_address: str
    addresses: list[AddressOf]
    second_factor_since: datetime | None
    recovery_codes_left: int
    password_set_at: datetime | None
    sessions: list[OwnSession]
    tokens: list[OwnToken]
    time_zone: str | None
    locale: str | None
    no_mail: list[str]
    wants_digest: bool
    refuses_offers: bool


class Profile(Request):
    """One's name, and how one wants to be told."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]
    time_zone: Annotated[str, StringConstraints(max_length=60)] | None = None
    locale: Annotated[str, StringConstraints(max_length=20)] | None = Field(None, examples=["en-GB"])
    no_mail: list[str] = Field(default_factory=list, max_length=20)
    wants_digest: bool = True


class AddAddress(Request):
    """Another address of one's own."""

    address: Address


class AddressNamed(AddAddress):
    """One of one's other addresses."""


class MakeOwnToken(Request):
    """A token for programs."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]
    scope: Literal["read", "write"] = "read"
    days: int = Field(90, ge=1, le=365)
