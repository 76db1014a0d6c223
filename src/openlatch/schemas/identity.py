"""Sign-ins: those of the organisation, invitations, forgotten passwords, and one's own."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import (
    Field,
    StringConstraints,
)

from openlatch.json_values import JsonObject
from openlatch.schemas.base import Answer, Named, Request, Sentence
from openlatch.schemas.offers import LinkToken

__all__ = [
    "AcceptInvitation",
    "AddAddress",
    "AddPasskey",
    "AddressNamed",
    "AddressOf",
    "AnswerDevice",
    "AtOrganisation",
    "ChangePassword",
    "CodeWith",
    "ConfirmAddress",
    "DeviceAsked",
    "DeviceCode",
    "Factor",
    "ForgottenPassword",
    "InsideOf",
    "InvitationOf",
    "InvitationToYou",
    "Invitations",
    "Invite",
    "LinkText",
    "MakeDirectoryToken",
    "MakeOwnToken",
    "MakeToken",
    "Me",
    "NewPassword",
    "OpenInvitation",
    "OpenSession",
    "Organisation",
    "OwnPage",
    "OwnSession",
    "OwnToken",
    "PasskeyAnswer",
    "PasskeyOf",
    "Preferences",
    "Profile",
    "ProveWith",
    "Proved",
    "ProviderChoice",
    "ProviderChoices",
    "ProviderOf",
    "Providers",
    "RecoveryCodes",
    "RenamePasskey",
    "RoleName",
    "Scope",
    "Secret",
    "SetOffers",
    "SetProvider",
    "SetRole",
    "SignInAddress",
    "SignInOf",
    "SignInWith",
    "SignIns",
    "SignedOut",
    "Token",
]


RoleName = Literal["administrator", "auditor", "reviewer", "member"]


Secret = Annotated[str, StringConstraints(max_length=1024)]


LinkText = Annotated[str, StringConstraints(min_length=1, max_length=200)]


SignInAddress = Annotated[str, StringConstraints(max_length=320)]


Scope = Literal["read", "write"]
AnyScope = Literal["read", "write", "scim"]


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
    address: SignInAddress = ""
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

    token: LinkText


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

    address: SignInAddress


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
    scope: AnyScope = Field(description="read, write, or scim for a directory.")
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
    passkeys: list[PasskeyOf]
    recovery_codes_left: int
    password_set_at: datetime | None
    sessions: list[OwnSession]
    tokens: list[OwnToken]
    time_zone: str | None
    locale: str | None
    no_mail: list[str]
    wants_digest: bool
    wants_trends: bool
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

    address: SignInAddress


class AddressNamed(AddAddress):
    """One of one's other addresses."""


class MakeDirectoryToken(Request):
    """A token for a directory that keeps people and teams by SCIM."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)] = Field(
        description="What the journal calls the directory.", examples=["Staff directory"]
    )
    days: int = Field(365, ge=1, le=730)


class MakeOwnToken(Request):
    """A token for programs."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]
    scope: Scope = "read"
    days: int = Field(90, ge=1, le=365)


class Organisation(Named):
    """The organisation of whoever is signed in."""

    time_zone: str


class InsideOf(Answer):
    """The account that somebody is switched into: whose it is, what they may do there, until when."""

    account: Named
    owner: Named | None
    levels: list[str]
    rights: list[str]
    parts: list[str]
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    reach: int


class Preferences(Answer):
    """How somebody wants times and dates written, and of what they want no mail."""

    time_zone: str | None = Field(description="Empty: the organisation's.")
    locale: str | None = Field(description="The language of mail, and in which dates are written (BCP 47).")
    no_mail: list[str]


class SetProvider(Request):
    """How people sign in by an identity provider (OpenID Connect)."""

    name: str = Field(max_length=100, examples=["Hollin Fell login"])
    issuer: str = Field(max_length=500, examples=["https://login.example.org"])
    client_id: str = Field(min_length=1, max_length=500)
    client_secret: str | None = Field(
        None, max_length=2000, description="Left out, it stays as it is; empty, there is none."
    )
    address_claim: str = Field("email", max_length=100, description="The claim with somebody's address.")
    roles_claim: str = Field(
        "", max_length=100, description="The claim that says their role; without it, roles are given here."
    )
    roles: dict[str, RoleName] = Field(default_factory=dict, description="Which of its values stands for which role.")
    acr: list[str] = Field(default_factory=list, description="Authentication contexts that count as a second factor.")
    amr: list[str] = Field(default_factory=list, description="Methods that count as a second factor (RFC 8176).")


class ProviderOf(Answer):
    """An identity provider, and what has to be registered there."""

    id: UUID
    name: str
    issuer: str
    client_id: str
    address_claim: str
    roles_claim: str
    roles: dict[str, RoleName]
    acr: list[str]
    amr: list[str]
    callback: str = Field(description="Its redirect URI.")
    back_channel: str = Field(description="Where it tells of people who sign out.")
    start: str = Field(description="Where a sign-in by it begins.")
    people: int = Field(description="How many people have signed in by it.")
    version: int


class Providers(Answer):
    """The identity providers of an organisation."""

    rows: list[ProviderOf]


class ProviderChoice(Answer):
    """An identity provider by which somebody can sign in."""

    id: UUID
    name: str


class ProviderChoices(Answer):
    """Those of an organisation."""

    rows: list[ProviderChoice]


class AtOrganisation(Request):
    """An organisation, by its short name."""

    organisation: str = Field("", max_length=40, description="Left out, the only one that there is on this server.")


class SignedOut(Answer):
    """The session is over."""

    done: bool = True
    then: str = Field("", description="Where one signs out at one's identity provider, too; empty for none.")


class Me(Answer):
    """Who is signed in, and as what."""

    person: Named
    organisation: Organisation
    administrator: bool
    auditor: bool = Field(description="Sees everything and changes nothing.")
    preferences: Preferences
    owner: bool
    reviewer: bool
    may_write: bool
    inside: InsideOf | None = Field(None, description="The account that you are switched into.")
    elsewhere: int = Field(
        0, description="At how many other organisations you have a sign-in that is linked with this."
    )
    as_partner: bool = Field(False, description="Whether you are here as somebody of a partner organisation.")
    notices: int = Field(0, description="How many notices you have not read.")
    to_decide: int = Field(0, description="How many items of open reviews wait for your decision.")
    to_answer: int = Field(0, description="How many requests for access wait for an answer.")
    provider: Named | None = Field(None, description="The identity provider by which you have signed in.")
    has_passkey: bool = Field(False, description="Whether you can prove by a passkey that it is you.")
    archived_until: datetime | None = Field(
        None, description="Entries of the journal before this are in the archive, and in no list."
    )
    csrf: str = Field("", description="To be sent as X-CSRF-Token with calls that change something.")


class Token(Answer):
    """An API token; it is shown only now."""

    id: UUID
    token: str
    expires_at: datetime


class SetOffers(Request):
    """Whether one refuses to be sent offers."""

    refuses: bool


class PasskeyAnswer(Request):
    """What a browser answered when it was asked for a passkey."""

    state: str = Field(max_length=2000, description="As it came with the question.")
    credential: JsonObject = Field(description="The PublicKeyCredential, as JSON.")


class AddPasskey(PasskeyAnswer):
    """A passkey that the browser has made, and what to call it."""

    name: str = Field(max_length=100, examples=["Phone"])


class RenamePasskey(Request):
    """Another name for a passkey."""

    name: str = Field(max_length=100, examples=["Old phone"])


class PasskeyOf(Answer):
    """A passkey of one's own."""

    id: UUID
    name: str
    made_at: datetime
    last_used_at: datetime | None
    is_backed_up: bool = Field(description="Whether its owner's devices share it, as it was when last used.")


UserCode = Annotated[str, StringConstraints(min_length=1, max_length=40)]


class DeviceCode(Request):
    """The code that a program shows."""

    user_code: UserCode = Field(examples=["BCDF-GHJK"])


class AnswerDevice(DeviceCode):
    """Whether the program that shows a code may act as you."""

    allows: bool


class DeviceAsked(Answer):
    """A program that asks to be let in."""

    program: str = Field(description="What it calls itself: anybody can say anything.")
    origin: str = Field(description="The address that it asked from.")
    scope: Scope
    expires_at: datetime


class ProveWith(Request):
    """A fresh proof that it is you: the password, or a passkey."""

    password: str = Field("", max_length=1024)
    code: str = Field("", max_length=20)
    passkey: PasskeyAnswer | None = None


class Proved(Answer):
    """Until when the proof counts."""

    until: datetime


class CodeWith(Request):
    """A code of a second factor."""

    code: str = Field(max_length=20)


class Factor(Answer):
    """A fresh secret for an app that shows codes (RFC 6238), and the same as an address that apps open."""

    secret: str
    address: str


class ConfirmAddress(LinkToken):
    """The token of a link that confirms an address."""


class SignInWith(Request):
    """An address and a password."""

    address: str = Field(max_length=320, examples=["ines.calder@hollinfell.example.org"])
    password: str = Field(max_length=1024)
    code: str = Field("", max_length=20, description="The code of the second factor, for whoever has one.")
    organisation: str = Field("", max_length=40, description="Its short name, for whoever is at several.")


class OpenSession(SignInWith):
    """An address and a password, or a passkey; or both, where the passkey stands in for the code."""

    address: str = Field("", max_length=320, examples=["ines.calder@hollinfell.example.org"])
    password: str = Field("", max_length=1024)
    passkey: PasskeyAnswer | None = None


class MakeToken(SignInWith):
    """A token for programs, by address and password."""

    name: Sentence = Field("command line", examples=["nightly report"])
    scope: Scope = "write"
