"""People and teams: pages, moves, leavers, erasure."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal
from uuid import UUID

from pydantic import Field

from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.access import Path
from openlatch.schemas.base import Answer, Named, Proof, Request, Sentence
from openlatch.schemas.latches import Breach
from openlatch.schemas.revocations import Preview

__all__ = [
    "Ends",
    "Erased",
    "Handed",
    "HeldData",
    "JournalPosition",
    "KeptBy",
    "Leave",
    "LeaveWish",
    "LeavingAsked",
    "LeavingLine",
    "LeavingPage",
    "LeavingPreview",
    "LeavingReport",
    "LoginOf",
    "MemberOf",
    "MightNeed",
    "MovePlan",
    "MoveWish",
    "MovedRights",
    "OnlyTheirs",
    "PersonPage",
    "PersonRow",
    "SetSpeaker",
    "SystemProgress",
    "TeamOf",
    "TeamPage",
    "TeamRow",
]


class PersonRow(Named):
    """A person in a list."""

    address: str | None
    job: str
    inside: bool
    standing: str
    leaves_at: datetime | None
    leaves_on: date | None = Field(description="The last day, where the organisation is.")
    recognised: bool
    second_factor: bool
    version: int
    address_confirmed_at: datetime | None
    refuses_offers: bool
    grants: int
    sessions: int
    open_flags: int


class TeamOf(Named):
    """A team that a person belongs to."""

    since: datetime | None
    until: datetime | None


class PersonPage(PersonRow):
    """A person with everything that they can reach."""

    signs_in: bool | None = Field(description="Whether they have a sign-in; told to administrators and auditors.")
    teams: list[TeamOf]
    paths: list[Path]


class TeamRow(Named):
    """A team in a list."""

    partner: bool
    purpose: str
    speaker: Named | None
    members: int
    grants: int
    archived: bool
    version: int


class LeaveWish(Request):
    """Who takes over which account, and what becomes of the logins of whoever leaves."""

    successors: dict[UUID, UUID | None] = Field(
        default_factory=dict, description="By account. Null says that it shall have none.", max_length=1000
    )
    lock: bool = Field(True, description="Lock their logins where we can.")
    drop: bool = Field(False, description="Drop their logins for good instead, where a system lets us.")


class Leave(LeaveWish):
    """That somebody leaves, why, and which preview was seen."""

    reason: Sentence = Field(examples=["Their season is over."])
    fingerprint: str = Field("", max_length=64)


class OnlyTheirs(Answer):
    """An account that nobody else answers for, or uses."""

    account: Named
    sensitivity: int
    why: Said
    owned: bool
    suggested: list[Named]
    successor: Named | None


class LoginOf(Named):
    """A login in a system."""

    system: Named
    locked: bool
    lockable: bool
    droppable: bool


class LeavingPreview(Answer):
    """All that would happen when somebody leaves."""

    person: Named
    standing: str
    accounts: list[OnlyTheirs]
    logins: list[LoginOf]
    teams: list[str]
    speaks_for: list[str]
    offers: int
    requests: int
    items: int
    revocation: Preview
    needs_proof: bool
    fingerprint: str


class Ends(Answer):
    """How many ends are known in which way; they are never added up."""

    confirmed: int
    stated: int
    unproved: int
    contradicted: int


class SystemProgress(Answer):
    """How far a leaving has come in one system."""

    system: str
    all: int
    left: int
    ends: Ends
    answer: Said


class LeavingLine(Answer):
    """One thing that a leaver had: whether it has ended, when, and how that is known."""

    system: str
    kind: str
    what: Said
    ended: bool
    at: datetime | None
    proof: Proof | None
    proved_by: str
    answer: Said


class Handed(Answer):
    """An account that somebody took over."""

    account: Named
    to: Named
    owned: bool


class LeavingPage(Answer):
    """How far somebody's leaving has come; ``left`` counts down to zero."""

    person: Named
    standing: str
    begun_at: datetime | None
    left: int
    all: int
    ends: Ends
    done_at: datetime | None
    systems: list[SystemProgress]
    lines: list[LeavingLine]
    remains: list[Said] = Field(description="What their systems let everybody do who signs in, and so them too.")
    unknown: list[Said] = Field(description="What readings of the accounts concerned did not look at.")
    handed: list[Handed]
    revocations: list[UUID]


class LeavingAsked(Answer):
    """Who asked for a leaving, when and why."""

    at: datetime
    reason: str
    by: str


class JournalPosition(Answer):
    """A position of the journal, with the hash there."""

    position: int
    hash: str


class LeavingReport(LeavingPage):
    """What came of somebody's leaving, once nothing is left, with the journal's position that proves it."""

    asked: list[LeavingAsked]
    made_at: datetime
    journal: JournalPosition


class SetSpeaker(Request):
    """Who speaks for a team."""

    speaker: UUID | None


class HeldData(Answer):
    """All that is held about a person; each part is a list of records as they are held."""

    format: Literal["openlatch-held-data"]
    version: int
    taken_at: datetime
    person: JsonObject
    addresses: list[JsonObject]
    logins: list[JsonObject]
    marks: list[JsonObject]
    directory: list[JsonObject] = Field(description="What a directory has said of them by SCIM.")
    signals: list[JsonObject] = Field(default_factory=list, description="What other services told of them.")
    signals_sent: list[JsonObject] = Field(default_factory=list, description="What others were told of them from here.")
    sign_ins: list[JsonObject]
    sessions_here: list[JsonObject]
    identity_providers: list[JsonObject] = Field(description="As whom identity providers know them.")
    passkeys: list[JsonObject]
    api_tokens: list[JsonObject]
    teams: list[JsonObject]
    grants: list[JsonObject]
    sessions: list[JsonObject]
    flags: list[JsonObject]
    offers: list[JsonObject]
    requests: list[JsonObject]
    visits: list[JsonObject]
    notices: list[JsonObject]
    review_items: list[JsonObject]
    journal: list[JsonObject]


class Erased(Answer):
    """What was erased of somebody, or would be."""

    person: Named
    erased: dict[str, int] = Field(description="How many sessions, values in records, and entries of the journal.")
    kept: list[str] = Field(description="What still names them, and why.")


class MoveWish(Request):
    """How somebody moves; nothing named: how things are after a move that has happened."""

    job: str | None = Field(None, max_length=200)
    joins: list[UUID] = Field(default_factory=list, max_length=50)
    leaves: list[UUID] = Field(default_factory=list, max_length=50)


class KeptBy(Answer):
    """Access that stays."""

    account: Named
    level: str
    words: Said
    grant_id: UUID | None
    held_by: int | None = Field(description="How many of those in the same job hold it themselves; absent for owning.")


class MovedRights(Answer):
    """What is lost or gained in one account."""

    account: Named
    rights: list[str]


class MightNeed(Answer):
    """What at least half of those in the same job hold."""

    account: Named
    level: Named
    sentence: Said
    held_by: int


class MovePlan(Answer):
    """What a move comes to. Nothing has changed by it, and nothing is given."""

    person: Named
    job_before: str
    job: str
    peers: int = Field(description="How many others are in that job.")
    keeps: list[KeptBy]
    loses: list[MovedRights]
    gets: list[MovedRights]
    might_need: list[MightNeed]
    breaches: list[Breach]
    rounds: list[Named] = Field(description="The reviews that are open on their access.")


class MemberOf(Answer):
    """A member of a team."""

    id: UUID = Field(description="The id of the membership.")
    kind: Literal["person", "team"]
    member: Named
    since: datetime | None
    until: datetime | None
    version: int


class TeamPage(Named):
    """A team with its members, what it belongs to, and how many grants it holds."""

    partner: bool
    purpose: str
    speaker: Named | None
    version: int
    archived_at: datetime | None
    members: list[MemberOf]
    belongs_to: list[Named]
    grants: int
