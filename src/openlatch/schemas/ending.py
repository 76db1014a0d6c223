"""Systems and their drift, leavers, and undoing."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import Field

from openlatch.schemas.answers import Answer, Named, Preview, Proof
from openlatch.schemas.requests import Request, Sentence

__all__ = [
    "Candidate",
    "DecideDoubt",
    "Doubt",
    "Doubts",
    "Handed",
    "Leave",
    "LeaveWish",
    "LeavingLine",
    "LeavingPage",
    "LeavingPreview",
    "LeavingReport",
    "LoginOf",
    "OnlyTheirs",
    "ReadOptions",
    "SetMatching",
    "SetReading",
    "SkipStep",
    "SystemProgress",
    "Undo",
    "UndoLine",
    "Undone",
]


class ReadOptions(Request):
    """How a system is read."""

    fully: bool = Field(False, description="Also what it says has not changed since the last read.")


class SetReading(Request):
    """How often a system is read."""

    read_every: int = Field(description="In minutes, 1 to 10080.", examples=[30])


class SetMatching(Request):
    """By what people are told in a system, in this order."""

    matching: list[tuple[Literal["address", "employee", "fingerprint", "uid", "name"], bool]] = Field(
        description="Marks, each with whether it is enough alone; otherwise somebody is asked. Empty for the usual.",
        examples=[[["employee", True], ["name", False]]],
        max_length=5,
    )


class Candidate(Named):
    """Somebody who may be meant by a login, and by which mark."""

    address: str | None
    job: str
    by: str


class Doubt(Answer):
    """A login that may be somebody's, with who: a person has to say."""

    id: UUID
    login: str
    called: str
    system: Named
    marks: dict[str, str]
    locked: bool
    grants: int
    candidates: list[Candidate]


class Doubts(Answer):
    """All of them."""

    doubts: list[Doubt]


class DecideDoubt(Request):
    """Who it is; nobody whom the register knows when left out."""

    person: UUID | None = None


class SkipStep(Request):
    """Why a step will not be done."""

    reason: Sentence = Field(examples=["The server was switched off for good in May."])


class Undo(Request):
    """Why a revocation is undone."""

    reason: Sentence = Field(examples=["It was the wrong person."])


class UndoLine(Answer):
    """What becomes of one grant."""

    grant_id: UUID
    holder: str
    account: Named
    does: str
    refused: str | None
    offer_id: UUID | None


class Undone(Answer):
    """What undoing a revocation puts back, and what it does not."""

    title: str
    lines: list[UndoLine]
    also: list[str]


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
    why: str
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
    answer: str


class LeavingLine(Answer):
    """One thing that a leaver had: whether it has ended, when, and how that is known."""

    system: str
    kind: str
    what: str
    ended: bool
    at: datetime | None
    proof: Proof | None
    proved_by: str
    answer: str


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
    remains: list[str] = Field(description="What their systems let everybody do who signs in, and so them too.")
    unknown: list[str] = Field(description="What readings of the accounts concerned did not look at.")
    handed: list[Handed]
    revocations: list[UUID]


class _Asked(Answer):
    at: datetime
    reason: str
    by: str


class _Position(Answer):
    position: int
    hash: str


class LeavingReport(LeavingPage):
    """What came of somebody's leaving, once nothing is left, with the journal's position that proves it."""

    asked: list[_Asked]
    made_at: datetime
    journal: _Position
