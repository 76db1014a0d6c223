"""Requests and answers about giving access: offers, requests, levels, latches, changes, one's own side."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.schemas.answers import AccountOf, Answer, GrantRow, Named, Path, PermissionOf
from openlatch.schemas.requests import Day, Instant, Request, Sentence

__all__ = [
    "Accept",
    "AskAccess",
    "Breach",
    "ChangeLevel",
    "ChangeLine",
    "ChangeOffer",
    "ChangePreview",
    "ChangeResult",
    "ChangeWish",
    "CodeWith",
    "CompareLevels",
    "ConfirmAddress",
    "Factor",
    "GiveUp",
    "GivenUp",
    "GrantRequest",
    "HandOver",
    "Hours",
    "LargeChangePage",
    "LargeChangeWish",
    "LatchPreview",
    "LatchRow",
    "LatchState",
    "LevelComparison",
    "LevelDraft",
    "LevelPreview",
    "LinkAnswer",
    "LinkToken",
    "MakeLevel",
    "Mine",
    "NoticeRow",
    "OfferPage",
    "OfferPreview",
    "OfferProposal",
    "OfferRow",
    "OfferSend",
    "OffersSent",
    "OpenOffer",
    "PermissionRow",
    "ProveWith",
    "Proved",
    "ReadNotices",
    "RequestRow",
    "ResourceRow",
    "SetAccount",
    "SetLatch",
    "SetOffers",
    "SetSettings",
    "SetSpeaker",
    "Settings",
    "Switch",
    "TaskAssign",
    "TaskDone",
    "TaskRow",
    "TermNow",
    "TermWish",
    "TermsNow",
    "VisitRow",
    "Words",
]

ShortText = Annotated[str, StringConstraints(max_length=320, strip_whitespace=True)]
Key = Annotated[str, StringConstraints(max_length=200, strip_whitespace=True)]


class Breach(Answer):
    """That something breaks a latch: which, the fact, and what would pass."""

    latch: str = Field(examples=["At most 3 delegates"])
    kind: str
    mode: str
    fact: str
    remedy: str


# What is given.


class Hours(Request):
    """Weekly hours in the account's time zone."""

    days: list[int] = Field(description="0 is Monday.", examples=[[0, 1, 2, 3, 4]], max_length=7)
    begins: str = Field(examples=["08:00"], max_length=8)
    ends: str = Field(examples=["18:00"], max_length=8)


class SinglePermission(Request):
    """One permission given alone, perhaps with an end of its own."""

    key: Key
    until: Instant | None = None
    last_day: Day | None = None


class _Choice(Request):
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


class OfferProposal(_Choice):
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
    sentence: str
    met: bool


class OfferedTo(Answer):
    """What an offer comes to for one of those it is for."""

    holder: dict[str, Any]
    address: str
    inside: bool
    known: bool
    people: int = Field(description="How many people it reaches: a team's members.")
    can: list[PermissionOf]
    adds: list[PermissionOf] = Field(description="What of it they can't do already.")
    cannot: list[PermissionOf]
    reach: int
    already: list[str] = Field(description="By which paths they reach the account already.")
    latches: list[Breach]
    meets: list[str] = Field(description="The latches that are on and that it does not break.")
    prerequisites: list[Prerequisite]
    warnings: list[str] = Field(description="What to look at twice about the address.")


class OfferPreview(Answer):
    """What an offer comes to. Nothing has happened yet."""

    account: Named
    words: str
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
    hours: dict[str, Any] | None


class _Details(Answer):
    words: str
    can: list[PermissionOf]
    cannot: list[PermissionOf]
    reach: int
    parts: list[str]
    keeps: str | None
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    hours: str
    purpose: str


class OfferPage(OfferRow, _Details):
    """An offer with what it comes to, in plain sentences."""

    choice: Chosen | None = Field(description="What it is of; absent for one of ownership.")


class OffersSent(Answer):
    """The offers that were sent."""

    offers: list[UUID]


class ChangeOffer(_Choice):
    """What a pending offer is to be of from now on."""


class OpenOffer(_Details):
    """An offer as whoever it is for reads it."""

    id: UUID
    kind: str
    state: str
    version: int
    organisation: str
    account: Named
    person: Named
    holder: str
    sender: dict[str, Any] | None
    reason: str
    runs_out_at: datetime
    has_sign_in: bool
    signed_in: bool
    lacking: list[str]
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


# Requests.


class AskAccess(Request):
    """A wish for access: to an account by id or exact name, or put to its owner by address."""

    account: UUID | None = None
    account_name: ShortText = ""
    owner_address: ShortText = ""
    level: UUID | None = None
    parts: list[UUID] = Field(default_factory=list, max_length=200)
    until: Instant | None = None
    last_day: Day | None = Field(None, description="Counts to its end, where the account is.")
    reason: Sentence
    emergency: bool = False
    extends: UUID | None = Field(None, description="A grant of your own on which you ask for more time.")


class RequestRow(Answer):
    """A request for access."""

    id: UUID
    state: str
    emergency: bool
    extends: UUID | None = Field(description="The grant on which more time is asked for; absent for new access.")
    person: dict[str, Any]
    account: Named | None
    owner_address: str
    wanted: str
    level: Named | None
    reach: int | None
    resources: list[str]
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    reason: str
    asked_at: datetime
    times_asked: int
    runs_out_at: datetime
    answered_at: datetime | None
    answered_by: Named | None
    answer: str
    grant_id: UUID | None
    version: int
    warnings: list[Breach] = Field(default_factory=list)


class GrantRequest(_Choice):
    """How a request is granted: as it was asked where nothing is said, else less or for a shorter time."""

    account: UUID | None = None
    words: Sentence = ""


class Words(Request):
    """A word about why."""

    words: Sentence = ""


# Levels.


class NewPermission(Request):
    """A permission that a system did not have yet."""

    key: Key
    sentence: Sentence
    reach: Literal["observe", "operate", "spend", "steward"]


class LevelDraft(Request):
    """A level as it is to be."""

    name: ShortText
    sentence: Sentence
    keys: list[Key] = Field(default_factory=list, max_length=200)
    new: list[NewPermission] = Field(default_factory=list, max_length=50)


class ChangeLevel(LevelDraft):
    """A level to be changed."""

    fingerprint: str = Field("", max_length=64)


class MakeLevel(LevelDraft):
    """A level to be made."""

    system: UUID
    key: Key


class Effect(Answer):
    """What a change does to one holder's rights in one account."""

    holder: dict[str, Any]
    account: Named
    gains: list[PermissionOf]
    loses: list[PermissionOf]


class LevelPreview(Answer):
    """Whose rights would grow or shrink."""

    level: Named
    grows: int
    shrinks: int
    effects: list[Effect]
    latches: list[Breach]
    reach: int
    fingerprint: str


class CompareLevels(Request):
    """Two levels."""

    first: UUID
    second: UUID


class _Side(Named):
    reach: int
    sentence: str


class LevelComparison(Answer):
    """Two levels side by side."""

    first: _Side
    second: _Side
    both: list[PermissionOf]
    first_only: list[PermissionOf]
    second_only: list[PermissionOf]


class PermissionRow(Answer):
    """Every permission of a system."""

    permissions: list[PermissionOf]


# Changes.


class TermWish(Request):
    """A term as it is to be: a level, or a permission alone by its key; on a part, or on all of the account."""

    level: UUID | None = None
    permission: Key = ""
    part: UUID | None = None
    since: Instant | None = None
    until: Instant | None = None
    last_day: Day | None = Field(None, description="Counts to its end, where the account is.")
    hours: Hours | None = None


class ChangeWish(Request):
    """A change to grants: those named, or all live ones that a filter matches."""

    kind: Literal[
        "suspend", "resume", "set_end", "set_level", "set_terms", "replace", "end", "adopt", "restore", "accept"
    ]
    terms: list[TermWish] = Field(
        default_factory=list, max_length=200, description="With set_terms: every term that the grant has afterwards."
    )
    grants: list[UUID] = Field(default_factory=list, max_length=1000)
    filter: str = ""
    reason: Sentence = ""
    versions: dict[UUID, int] = Field(default_factory=dict, description="The versions that were looked at.")
    until: Instant | None = None
    last_day: Day | None = None
    no_end: bool = False
    level: UUID | None = None
    successor: UUID | None = Field(None, description="Who takes over; with adopt, who owns the account from now on.")
    fingerprint: str = Field("", max_length=64)


class GrantLine(Answer):
    """What a change does to one grant, or why it is refused."""

    grant_id: UUID
    level: str | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    state: str
    does: str
    refused: str | None
    remedy: str
    latches: list[Breach]
    revocation_id: UUID | None
    steward: bool


class ChangeLine(GrantLine):
    """The same, of a grant that is there to be seen."""

    holder: dict[str, Any]
    account: AccountOf


class ChangeResult(Answer):
    """What came of a change, line by line."""

    lines: list[ChangeLine]
    changed: int


class ChangePreview(ChangeResult):
    """What would come of it."""

    needs_proof: bool
    fingerprint: str


class LargeChangeWish(ChangeWish):
    """A change of more grants than one call has time for, or its preview."""

    only_preview: bool = False
    seen: UUID | None = Field(None, description="The preview that was looked at: its grants are changed, and no other.")


class LargeChangeLine(GrantLine):
    """What a change did to one grant; without names when it may not be seen any more."""

    holder: dict[str, Any] | None
    account: AccountOf | None


class LargeChangePage(Answer):
    """A change that the worker makes: how far it is, and some of its lines, those that were refused first."""

    id: UUID
    kind: str
    only_preview: bool
    state: Literal["waiting", "under_way", "done", "stopped", "failed"]
    grants: int
    done: int
    changed: int
    refused: int
    lines: list[LargeChangeLine]
    asked_by: str
    asked_at: datetime
    ended_at: datetime | None
    problem: str


# What a person does by hand.


class TaskRow(Answer):
    """Something to be done by hand in a system that nobody here can change."""

    id: UUID
    state: Literal["open", "done", "dropped"]
    kind: Literal["give", "change", "take"]
    sentence: str
    account: Named
    system: Named
    holder: str | None
    grant_id: UUID
    assigned_to: Named | None
    asked_at: datetime
    reminded_at: datetime | None
    done_at: datetime | None
    done_by: str = Field(description="Whose word it is that it is done.")
    words: str
    version: int


class TaskDone(Request):
    """What one did, in one's own words."""

    words: Sentence


class TaskAssign(Request):
    """Who does it; nobody: whoever answers for the account."""

    person: UUID | None = None


class TermNow(Answer):
    """A term of a grant as it is: what a form that changes it begins with."""

    level: Named | None
    permission: str | None = Field(description="The key of a permission given alone; its level is absent then.")
    sentence: str
    part: Named | None
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    hours: dict[str, Any] | None
    words: str


class TermsNow(Answer):
    """The terms of a grant as they are."""

    terms: list[TermNow]
    version: int


class GiveUp(Request):
    """Why one gives access up."""

    reason: Sentence = ""


class GivenUp(Answer):
    """That one has given access up; the revocation ends it in its system."""

    revocation_id: UUID
    account: Named


# Latches.


class SetLatch(Request):
    """A latch, on one account or on all accounts of a kind."""

    kind: Literal[
        "most_delegates",
        "one_at_a_time",
        "no_outsiders",
        "no_spend_outside",
        "ends_within",
        "two_stewards",
        "second_factor",
        "unseen",
        "nothing_public",
        "never_together",
        "payer_stays",
    ]
    mode: Literal["off", "warn", "hold"]
    account: UUID | None = None
    account_kind: ShortText | None = None
    number: int | None = None
    pair: list[Key] = Field(default_factory=list, max_length=2)


class _Broken(Answer):
    account: Named
    breaches: list[Breach]


class LatchPreview(Answer):
    """What breaks a latch as things are."""

    latch: str
    accounts: int
    broken: list[_Broken]


class LatchRow(Answer):
    """A latch in a list."""

    id: UUID
    kind: str
    mode: str
    number: int | None
    pair: list[str]
    account: Named | None
    account_kind: str | None


class LatchState(Answer):
    """A latch of one account: how it is set, and what breaks it."""

    kind: str
    mode: str
    number: int | None
    pair: list[str]
    words: str
    of_kind: bool
    broken: list[str]


# One's own side.


class MineReach(Path):
    """A path of one's own; ``own`` when it is a grant that one can give up oneself."""

    own: bool


class MyHolder(Answer):
    """Somebody who can reach an account of one's own."""

    kind: str
    id: UUID
    name: str
    reach: int
    levels: list[str]
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")


class MyAccount(Answer):
    """An account of one's own, with everybody who can reach it."""

    account: Named
    holders: list[MyHolder]


class MySettings(Answer):
    """How one is set."""

    address: str | None
    address_confirmed_at: datetime | None
    second_factor: bool
    refuses_offers: bool


class Mine(Answer):
    """What I can reach, and who can reach mine."""

    reach: list[MineReach]
    not_in_force: list[GrantRow] = Field(description="Grants of my own that give nothing now.")
    mine: list[MyAccount]
    offers: list[OpenOffer]
    settings: MySettings


class Switch(Request):
    """The account to switch into."""

    account: UUID


class SetOffers(Request):
    """Whether one refuses to be sent offers."""

    refuses: bool


class ProveWith(Request):
    """A fresh proof that it is you."""

    password: str = Field(max_length=1024)
    code: str = Field("", max_length=20)


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


class ReadNotices(Request):
    """The notices that were read; all of them when none is named."""

    notices: list[UUID] = Field(default_factory=list, max_length=500)


class NoticeRow(Answer):
    """Something that one is told."""

    id: UUID
    kind: str
    sentence: str
    page: str
    at: datetime
    read_at: datetime | None


class ResourceRow(Named):
    """A part of an account that can be shared alone."""

    key: str | None
    kind: str
    public: bool
    account: Named
    holders: int
    archived: bool
    version: int


class VisitRow(Answer):
    """That somebody switched into an account."""

    id: UUID
    person: Named
    account: Named
    owner: Named | None
    by_token: bool
    began_at: datetime
    runs_out_at: datetime | None
    ended_at: datetime | None
    ended_as: str | None


class SetAccount(Request):
    """How access to an account is given."""

    emergency_hours: int | None = Field(None, ge=1, le=168, description="None: opens to nobody in an emergency.")
    prerequisites: list[Literal["confirmed_address", "second_factor"]] = Field(default_factory=list)


class SetSpeaker(Request):
    """Who speaks for a team."""

    speaker: UUID | None


class Settings(Answer):
    """How the organisation gives access."""

    offer_hours: int
    inside_domains: list[str]
    prerequisites: list[str]
    auditors: list[str] = Field(description="Addresses that signed heads of the journal are mailed to, once a day.")
    remind_days: list[int] = Field(description="So many days before access ends, people are told.")
    keep_left_months: int | None = Field(
        description="For so many months after leaving what identifies people is kept; absent for ever."
    )


class SetSettings(Request):
    """How the organisation gives access."""

    offer_hours: int = Field(48, ge=1, le=2160)
    inside_domains: list[ShortText] = Field(default_factory=list, max_length=50)
    prerequisites: list[Literal["confirmed_address", "second_factor"]] = Field(default_factory=list)
    auditors: list[ShortText] | None = Field(
        None,
        max_length=20,
        description="Addresses that signed heads of the journal are mailed to; left out, as before.",
    )
    remind_days: list[Annotated[int, Field(ge=1, le=90)]] | None = Field(
        None, max_length=5, description="So many days before access ends, people are told; left out, as before."
    )
    keep_left_months: int | None = Field(
        None,
        ge=0,
        le=240,
        description="For how many months after leaving what identifies people is kept; 0 for ever; "
        "left out, as before.",
    )
