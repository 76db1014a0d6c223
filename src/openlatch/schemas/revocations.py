"""Revocations, their steps, and how they are undone."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal
from uuid import UUID

from pydantic import (
    Field,
)

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Day, Holder, Instant, Named, Proof, Request, Sentence
from openlatch.schemas.grants import PermissionOf
from openlatch.schemas.latches import Breach

__all__ = [
    "ChangeOf",
    "DoneByHand",
    "End",
    "PlannedStep",
    "Preview",
    "Remaining",
    "RevocationPage",
    "RevocationRow",
    "Revoke",
    "RevokeWish",
    "SessionOf",
    "SkipStep",
    "StepRow",
    "StopOf",
    "Undo",
    "UndoLine",
    "Undone",
]


class Remaining(Answer):
    """A path that is left."""

    words: Said
    level: str
    reach: int
    until: datetime | None
    last_day: date | None = Field(
        None, description="The last day, where it ends with one where the account is; absent in what is older."
    )


class ChangeOf(Answer):
    """What becomes of one holder's rights in one account."""

    holder: Holder
    account: Named
    ends: list[PermissionOf]
    remains: list[Remaining]


class SessionOf(Answer):
    """A session that ends."""

    id: UUID
    holder: str
    account: str


class PlannedStep(Answer):
    """A step to come."""

    kind: str
    sentence: Said


class StopOf(Answer):
    """What stops, or is left over: object, job, key of a machine, or what others do by it."""

    kind: str
    sentence: Said


class Preview(Answer):
    """All that would come of a revocation."""

    title: Said
    changes: list[ChangeOf]
    sessions: list[SessionOf]
    apps_that_stop: list[str]
    without_owner: list[str]
    stops: list[StopOf] = Field(default_factory=list, description="What stops, or is left over, besides.")
    unknown: list[Said] = Field(default_factory=list, description="What readings of the accounts did not look at.")
    undo_alone: bool
    steps: list[PlannedStep]
    fingerprint: str = ""
    latches: list[Breach] = Field(default_factory=list, description="What latches say to it.")


class StepRow(Answer):
    """A step: its state, how often it was tried, what was last answered, when it is tried again."""

    id: UUID
    position: int
    kind: str
    sentence: Said
    state: str
    tries: int
    answer: Said
    next_try_at: datetime | None
    done_at: datetime | None
    done_by: str = Field(description="The person who did or skipped it, or the system that answered.")
    proof: Proof | None = Field(description="What it shows by itself; a system's answer counts once it was read again.")


class End(Answer):
    """One end of a revocation, and how it is known; null while that is open."""

    kind: Literal["grant", "session", "exposure"]
    what: Said
    proof: Proof | None
    proved_at: datetime | None
    proved_by: str
    words: Said


class RevocationRow(Answer):
    """A revocation in a list."""

    id: UUID
    cause: str
    reason: str
    asked_by: Named | None
    created_at: datetime
    settled_at: datetime | None
    confirmed_at: datetime | None = Field(description="Only when each of its ends is confirmed.")
    state: str
    confirmed: int
    stated: int
    unproved: int
    contradicted: int
    title: Said
    steps: int
    steps_done: int
    steps_skipped: int
    targets: int
    undone_at: datetime | None
    leaver: Named | None


class RevocationPage(RevocationRow):
    """A revocation with what was shown before, and its steps."""

    preview: Preview
    step_list: list[StepRow]
    ends: list[End]


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
    does: Said
    refused: Said | None
    offer_id: UUID | None


class Undone(Answer):
    """What undoing a revocation puts back, and what it does not."""

    title: Said
    lines: list[UndoLine]
    also: list[Said]


class RevokeWish(Request):
    """What to end, or the one grant to trim."""

    grants: list[UUID] = Field(default_factory=list, max_length=1000)
    sessions: list[UUID] = Field(default_factory=list, max_length=1000)
    trim_level: UUID | None = Field(None, description="The lower level that a trim leaves.")
    trim_until: Instant | None = Field(None, description="The earlier end that a trim sets.")
    trim_last_day: Day | None = Field(None, description="The same as a last day, to its end where the account is.")


class Revoke(RevokeWish):
    """What to end or trim, why, and which preview was seen."""

    reason: Sentence = Field(examples=["The survey is over."])
    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class DoneByHand(Request):
    """What was done by hand, and what was seen."""

    proof: Sentence = Field(examples=["Removed in the mail console; the list shows two members now."])
