"""The evidence of a closed review, as its bundle holds it. Its JSON Schema is published with the documents."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field

from openlatch.json_values import JsonObject

__all__ = [
    "Addenda",
    "AddendumPart",
    "CarriedOutPart",
    "CompletenessPart",
    "CoveragePart",
    "DecisionPart",
    "EndsPart",
    "Evidence",
    "ExceptionPart",
    "ItemPart",
    "NamedPart",
    "PopulationPart",
    "QuestionPart",
    "ReviewerPart",
    "RoundPart",
    "ScopePart",
    "StepPart",
    "TotalsPart",
    "evidence_schema",
]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class NamedPart(_Part):
    """Something by its id and name."""

    id: UUID | None
    name: str


class RoundPart(_Part):
    """The round: when it was open, and how it came to open."""

    id: UUID
    name: str
    schedule: str | None = Field(description="The name of its schedule; null when it was opened by hand.")
    event: str = Field(description="What happened that opened it; empty otherwise.")
    opened_at: datetime
    opened_by: str | None
    due_at: datetime
    closed_at: datetime
    closed_by: str | None
    ended_at: datetime = Field(description="When all that was decided had been carried out or explained.")


class ScopePart(_Part):
    """What was asked, of whom, and what was to become of the rest."""

    filter: str = Field(description="RFC 7644 section 3.4.2.2; empty for everything.")
    covers: list[str]
    reviewers: list[JsonObject]
    acts: Literal["when_decided", "at_close"]
    undecided: dict[str, str]
    undecided_by: str = Field(description="Who or what set that.")
    second_from: int | None


class PopulationPart(_Part):
    """How the items of one kind were taken: live = matched + not_matched, items = matched + urgent."""

    kind: str
    live: int
    matched: int
    not_matched: int
    urgent: int
    items: int


class CompletenessPart(_Part):
    """How the population was taken, with counts that add up."""

    statement: str
    population: list[PopulationPart]
    items: int


class EndsPart(_Part):
    """How many ends are known in which way. They are never added up."""

    confirmed: int
    stated: int
    unproved: int
    contradicted: int


class TotalsPart(_Part):
    """What was decided: kept, trimmed, revoked and nothing_done add up to the items."""

    kept: int
    trimmed: int
    revoked: int
    nothing_done: int = Field(description="Decided to be ended, where there was nothing that could be.")
    ended: EndsPart
    by_default: int = Field(description="Decided by nobody: what was set beforehand became of them.")
    to_administrators: int = Field(description="Assigned to an administrator, since nobody in line might decide them.")
    seconded: int
    explained: int


class ReviewerPart(_Part):
    """How a reviewer went about it. Whoever decided is credited; nobody is with what nobody decided."""

    name: str | None
    items: int = Field(description="Assigned to them.")
    by_default: int = Field(description="Assigned to them, and decided by nobody.")
    by_others: int = Field(description="Assigned to them, and decided by somebody else.")
    decided: int = Field(description="Decided by them.")
    kept: int
    share_kept: float | None
    seconds_between: float | None


class DecisionPart(_Part):
    """What was decided, by whom, when and why. ``fate`` stands where nobody decided."""

    verdict: Literal["keep", "trim", "revoke"]
    reason: str
    by: str | None
    at: datetime
    fate: Literal["keep", "suspend", "revoke"] | None
    trim_level: str | None
    trim_until: datetime | None
    trim_to_use: bool = False
    successor: str | None
    seconded_by: str | None
    seconded_at: datetime | None


class StepPart(_Part):
    """A step that was carried out: what the system answered, or who did or skipped it and what they said."""

    step: str
    state: str
    answer: str
    by: str
    at: datetime | None


class CarriedOutPart(_Part):
    """What came of the decision, and how that is known.

    ``proof`` is confirmed (the system was asked again and shows it), stated (a named person says so), unproved
    (skipped, unreadable, or not understood), contradicted (a later reading shows otherwise), or null where nothing was
    to end.
    """

    outcome: str
    explained: str
    at: datetime | None
    revocation: UUID | None
    nothing_done: bool
    proof: Literal["confirmed", "stated", "unproved", "contradicted"] | None
    proved_at: datetime | None
    proved_by: str
    words: str
    steps: list[StepPart]


class QuestionPart(_Part):
    """What the holder was asked and answered."""

    of: str
    question: str
    answer: str
    answered_at: datetime | None


class ItemPart(_Part):
    """One item: the facts as they were when the round opened, and what was decided on them."""

    position: int
    kind: str
    subject_id: UUID
    account: str
    holder: str
    level: str
    reviewer: str | None
    assigned_as: str
    facts: JsonObject
    decision: DecisionPart
    carried_out: CarriedOutPart
    questions: list[QuestionPart]


class ExceptionPart(_Part):
    """Something that an auditor will want to look at."""

    position: int
    what: str


class CoveragePart(_Part):
    """What readings of an account looked at, what they did not, and what of that they should have and could not."""

    account: str
    looked_at: list[str]
    not_looked_at: list[str]
    unknown: list[str]


class AddendumPart(_Part):
    """What came to light after the round had ended. What was written at its end is left as it is."""

    item: int
    at: datetime
    what: str
    journal_position: int


class Addenda(_Part):
    """The addenda to the evidence of a review, oldest first."""

    format: Literal["openlatch-review-addenda"]
    version: Literal[1]
    round: UUID
    addenda: list[AddendumPart]


class Evidence(_Part):
    """The evidence of a review."""

    format: Literal["openlatch-review-evidence"]
    version: Literal[2]
    organisation: NamedPart
    round: RoundPart
    scope: ScopePart
    completeness: CompletenessPart
    totals: TotalsPart
    reviewers: list[ReviewerPart]
    exceptions: list[ExceptionPart]
    coverage: list[CoveragePart] = Field(description="Of accounts in systems that are read, when the round ended.")
    items: list[ItemPart]
    items_hash: str


def evidence_schema() -> JsonObject:
    """The JSON Schema (draft 2020-12) of the evidence of a review."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Evidence.model_json_schema()}
