"""Grants, levels, permissions, sessions, changes."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal
from uuid import UUID

from pydantic import Field

from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.base import (
    AccountOf,
    Answer,
    Day,
    Holder,
    Instant,
    Key,
    Named,
    Request,
    Sentence,
    ShortText,
    SystemOf,
    WithProof,
)
from openlatch.schemas.latches import Breach

__all__ = [
    "ChangeLevel",
    "ChangeLine",
    "ChangePreview",
    "ChangeResult",
    "ChangeWish",
    "CompareLevels",
    "ComparedLevel",
    "Effect",
    "GiveUp",
    "GivenUp",
    "GrantLine",
    "GrantRow",
    "Hours",
    "LargeChangeLine",
    "LargeChangePage",
    "LargeChangeState",
    "LargeChangeWish",
    "LevelComparison",
    "LevelDraft",
    "LevelPreview",
    "LevelRow",
    "MakeLevel",
    "NewPermission",
    "PermissionOf",
    "PermissionRow",
    "SessionRow",
    "TermNow",
    "TermWish",
    "TermsNow",
]


LargeChangeState = Literal["waiting", "under_way", "done", "stopped", "failed"]


class GrantRow(WithProof):
    """A grant."""

    id: UUID
    state: str
    ended_as: str | None
    ended_at: datetime | None
    account: AccountOf
    system: SystemOf
    holder: Holder
    level: str | None
    sentence: Said | None
    part: str | None
    has_hours: bool | None
    reach: int | None
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    given_at: datetime
    given_by: Named | None
    recorded_by: str | None = Field(description="Who wrote down by hand that it exists.")
    evidence: str = Field(description="How they know.")
    reason: str
    last_used_at: datetime | None
    recorded: bool
    seen_at: datetime | None
    missing_since: datetime | None
    drift: str | None = Field(description="unrecorded, missing or changed, where its system departs from it.")
    drift_accepted_until: datetime | None
    shown_level: str | None = Field(description="What its system gives instead of what is recorded.")
    emergency: bool
    owed: str | None
    owed_answer: Said
    open_flags: int
    version: int


class SessionRow(WithProof):
    """A session."""

    id: UUID
    account: AccountOf
    system: SystemOf
    holder: Holder
    device: str
    address: str
    place: str
    started_at: datetime
    last_seen_at: datetime
    ended_at: datetime | None
    ended_as: str | None


class PermissionOf(Answer):
    """A permission in plain words."""

    key: str
    sentence: str
    reach: int


class LevelRow(Named):
    """A level and what it permits."""

    key: str | None
    sentence: str
    reach: int
    permissions: list[JsonObject]
    single: bool
    grants: int
    archived: bool
    version: int
    system: Named


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

    holder: Holder
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


class ComparedLevel(Named):
    """One side of a comparison of two levels."""

    reach: int
    sentence: str


class LevelComparison(Answer):
    """Two levels side by side."""

    first: ComparedLevel
    second: ComparedLevel
    both: list[PermissionOf]
    first_only: list[PermissionOf]
    second_only: list[PermissionOf]


class PermissionRow(Answer):
    """Every permission of a system."""

    permissions: list[PermissionOf]


class Hours(Request):
    """Weekly hours in the account's time zone."""

    days: list[int] = Field(description="0 is Monday.", examples=[[0, 1, 2, 3, 4]], max_length=7)
    begins: str = Field(examples=["08:00"], max_length=8)
    ends: str = Field(examples=["18:00"], max_length=8)


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
    does: Said
    refused: Said | None
    remedy: Said
    latches: list[Breach]
    revocation_id: UUID | None
    steward: bool


class ChangeLine(GrantLine):
    """The same, of a grant that is there to be seen."""

    holder: Holder
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

    holder: Holder | None
    account: AccountOf | None


class LargeChangePage(Answer):
    """A change that the worker makes: how far it is, and some of its lines, those that were refused first."""

    id: UUID
    kind: str
    only_preview: bool
    state: LargeChangeState
    grants: int
    done: int
    changed: int
    refused: int
    lines: list[LargeChangeLine]
    asked_by: str
    asked_at: datetime
    ended_at: datetime | None
    problem: Said


class TermNow(Answer):
    """A term of a grant as it is: what a form that changes it begins with."""

    level: Named | None
    permission: str | None = Field(description="The key of a permission given alone; its level is absent then.")
    sentence: str
    part: Named | None
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    hours: Hours | None
    words: Said


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
