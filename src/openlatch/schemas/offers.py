"""Offers, by whom they are answered, and hand-overs."""

from __future__ import annotations

from datetime import date, datetime
from uuid import UUID

from pydantic import Field

from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.base import AccountOf, Answer, Day, Instant, Key, Named, Request, Sentence, ShortText
from openlatch.schemas.grants import Hours, PermissionOf
from openlatch.schemas.latches import Breach

__all__ = [
    "Accept",
    "ChangeOffer",
    "Choice",
    "Chosen",
    "ChosenPermission",
    "HandOver",
    "LinkAnswer",
    "LinkToken",
    "OfferDetails",
    "OfferPage",
    "OfferPreview",
    "OfferProposal",
    "OfferRow",
    "OfferSend",
    "OfferTo",
    "OfferedTo",
    "OffersSent",
    "OpenOffer",
    "Prerequisite",
    "Recipient",
    "SinglePermission",
]


class SinglePermission(Request):
    """One permission given alone, perhaps with an end of its own."""

    key: Key
    until: Instant | None = None
    last_day: Day | None = None


class Choice(Request):
    """Which access is chosen: levels, single permissions, parts, times."""

    levels: list[UUID] = Field(default_factory=list, max_length=20)
    permissions: list[SinglePermission] = Field(default_factory=list, max_length=50)
    parts: list[UUID] = Field(
        default_factory=list, max_length=200, description="Resources or groups; none for the whole account."
    )
    since: Instant | None = None
    until: Instant | None = None
    last_day: Day | None = Field(None, description="Counts to its end, where the account is.")
    hours: Hours | None = None


class OfferTo(Request):
    """Whom an offer is for: a person or team known here, or somebody by address (with a name) or by handle."""

    person: UUID | None = None
    team: UUID | None = None
    address: ShortText = ""
    name: ShortText = ""
    handle: ShortText = ""
    inside: bool | None = Field(None, description="Whether somebody new stands inside; only administrators may say.")


class OfferProposal(Choice):
    """An offer before it is sent."""

    account: UUID
    to: list[OfferTo] = Field(max_length=100)
    reason: Sentence = ""


class OfferSend(OfferProposal):
    """An offer to be sent."""

    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class Prerequisite(Answer):
    """What somebody needs before they can accept."""

    key: str
    sentence: Said
    met: bool


class Recipient(Answer):
    """Whoever an offer is for; without an id while they are known by their address only."""

    kind: str
    id: UUID | None
    name: str


class OfferedTo(Answer):
    """What an offer comes to for one of those it is for."""

    holder: Recipient
    address: str
    inside: bool
    known: bool
    people: int = Field(description="How many people it reaches: a team's members.")
    can: list[PermissionOf]
    adds: list[PermissionOf] = Field(description="What of it they can't do already.")
    cannot: list[PermissionOf]
    reach: int
    already: list[Said] = Field(description="By which paths they reach the account already.")
    latches: list[Breach]
    meets: list[Said] = Field(description="The latches that are on and that it does not break.")
    prerequisites: list[Prerequisite]
    warnings: list[Said] = Field(description="What to look at twice about the address.")


class OfferPreview(Answer):
    """What an offer comes to. Nothing has happened yet."""

    account: Named
    words: Said
    offers: int
    terms: int
    resources: int
    needs_proof: bool
    to: list[OfferedTo]
    fingerprint: str


class OfferRow(Answer):
    """An offer in a list."""

    id: UUID
    kind: str
    state: str
    account: AccountOf
    grant_id: UUID | None
    person: Named
    team: str | None
    address: str
    sender: Named | None
    level: str | None
    part: str | None
    reach: int | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    reason: str
    sent_at: datetime
    times_sent: int
    runs_out_at: datetime
    opened_at: datetime | None
    answered_at: datetime | None
    answer: str
    version: int


class ChosenPermission(Answer):
    """One permission that was given alone; with an end where it has one of its own."""

    key: str
    until: datetime | None


class Chosen(Answer):
    """What was chosen to give: a form that changes it begins with this."""

    levels: list[UUID]
    permissions: list[ChosenPermission]
    parts: list[UUID]
    since: datetime | None
    until: datetime | None
    hours: JsonObject | None


class OfferDetails(Answer):
    """What an offer gives, and until when."""

    words: Said
    can: list[PermissionOf]
    cannot: list[PermissionOf]
    reach: int
    parts: list[str]
    keeps: str | None
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    hours: Said
    purpose: str


class OfferPage(OfferRow, OfferDetails):
    """An offer with what it comes to, in plain sentences."""

    choice: Chosen | None = Field(description="What it is of; absent for one of ownership.")


class OffersSent(Answer):
    """The offers that were sent."""

    offers: list[UUID]


class ChangeOffer(Choice):
    """What a pending offer is to be of from now on."""


class OpenOffer(OfferDetails):
    """An offer as whoever it is for reads it."""

    id: UUID
    kind: str
    state: str
    version: int
    organisation: str
    account: Named
    person: Named
    holder: str
    sender: JsonObject | None
    reason: str
    runs_out_at: datetime
    has_sign_in: bool
    signed_in: bool
    lacking: list[Said]
    suggested_password: str


class LinkToken(Request):
    """The token of a link."""

    token: str = Field(max_length=200)


class LinkAnswer(LinkToken):
    """An answer to an offer by its link."""

    version: int
    password: str = Field("", max_length=1024, description="Makes a sign-in, for whoever has none.")
    words: Sentence = ""
    unknown_sender: bool = False


class Accept(Request):
    """An answer to an offer in the console."""

    version: int
    words: Sentence = ""
    unknown_sender: bool = False


class HandOver(Request):
    """An account's ownership, offered to somebody."""

    to: UUID
    keeps: UUID | None = Field(None, description="The level that the old owner keeps.")
    reason: Sentence = ""
