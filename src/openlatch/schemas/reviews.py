"""Requests and answers about reviews: schedules, rounds, items, questions, calendars."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal
from uuid import UUID

from pydantic import Field

from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, ClockTime, Day, Instant, Named, Request, Sentence, WithProof
from openlatch.schemas.revocations import Preview

__all__ = [
    "AbsenceOf",
    "Absent",
    "AccountName",
    "AccountProgress",
    "Agree",
    "AnswerQuestion",
    "Ask",
    "AskedOf",
    "BetterReviewer",
    "BetterReviewers",
    "CalendarPage",
    "CloseRound",
    "Covered",
    "DayProgress",
    "Decide",
    "DecideMany",
    "Decided",
    "DecidedLine",
    "DecisionPreview",
    "Event",
    "Explain",
    "Fate",
    "Fates",
    "Group",
    "GroupBy",
    "Groups",
    "HolderName",
    "ItemOf",
    "ItemRow",
    "OpenRound",
    "PassOn",
    "Place",
    "Population",
    "PopulationOf",
    "QuestionRow",
    "ReviewPlan",
    "ReviewRow",
    "ReviewerProgress",
    "RoundOf",
    "RoundPage",
    "RoundProgress",
    "RoundRow",
    "ScheduleDates",
    "SchedulePage",
    "SchedulePlan",
    "ScheduleRow",
    "SchedulesMade",
]


Covered = Literal["grant", "link", "session", "exposure", "ownership", "latch", "acceptance"]


Fate = Literal["keep", "suspend", "revoke"]


Event = Literal["person_leaves", "person_moves", "app_grows", "more_sensitive", "emergency_ended"]


class Place(Request):
    """A place in the line of those who are asked; after it come the account's owner and the administrators."""

    kind: Literal["owner", "manager", "person", "team"]
    id: UUID | None = Field(None, description="Of the person or the team.")
    account_kind: str = Field("", max_length=200, description="Only for accounts of this kind.")


class Fates(Request):
    """What becomes of undecided items, by how far they reach. What is kept so is flagged."""

    observe: Fate = "keep"
    operate: Fate = "keep"
    spend: Fate = "keep"
    steward: Fate = "keep"


class ReviewPlan(Request):
    """How a review is to go."""

    name: Sentence = Field(examples=["Sensitive accounts"])
    scope: str = Field("", description="A filter over what it covers.", examples=["account.sensitivity ge 3"])
    covers: list[Covered] = Field(["grant", "link"], max_length=7)
    days_to_decide: int = 14
    reviewers: list[Place] = Field(default_factory=list, max_length=20, description="Who is asked, in this order.")
    acts: Literal["when_decided", "at_close"] = "when_decided"
    second_from: int | None = Field(None, description="From which severity (1 to 4) of flags a second has to agree.")
    reminders: list[int] = Field(default_factory=list, max_length=20, description="Days before it is due.")
    closes_after: int | None = Field(None, description="Days after it is due; left out, somebody closes it.")


class OpenRound(ReviewPlan):
    """A round to be opened by hand."""

    undecided: Fates | None = Field(None, description="Left out, it has to be said when the round is closed.")


class SchedulePlan(ReviewPlan):
    """A schedule as it is to be: opened by a recurrence, by what happens, or both."""

    recurrence: str = Field(
        "",
        max_length=500,
        description="month, quarter, half-year, year, or a rule by RFC 5545; empty when only events open it. "
        "For previews also sensitivity: the more sensitive the more often.",
        examples=["quarter", "FREQ=MONTHLY;BYDAY=1MO"],
    )
    starts: ClockTime | None = Field(None, description="The first time, as clocks in time_zone show it.")
    time_zone: str = Field("", description="Left out, the organisation's.")
    events: list[Event] = Field(default_factory=list, max_length=5)
    undecided: Fates = Field(default_factory=Fates)
    paused: bool = False


class Decide(Request):
    """A decision on an item."""

    verdict: Literal["keep", "trim", "revoke"]
    reason: Sentence = ""
    trim_level: UUID | None = None
    trim_until: Instant | None = None
    trim_last_day: Day | None = Field(
        None, description="Instead of an instant; counts to its end, where the account is."
    )
    trim_to_use: bool = Field(
        False, description="Narrow what is open on a resource to the use by outsiders that was seen."
    )
    successor: UUID | None = Field(None, description="Whoever is to own the account, when an ownership is revoked.")


class ItemOf(Request):
    """An item of a selection, with the version that was looked at."""

    id: UUID
    version: int | None = None


class DecideMany(Decide):
    """One decision on many items."""

    items: list[ItemOf] = Field(min_length=1, max_length=500)


class Agree(Request):
    """What a second reviewer says to a decision."""

    agree: bool
    reason: Sentence = ""


class PassOn(Request):
    """To whom an item is passed on, and why to them."""

    to: UUID
    reason: Sentence = Field(examples=["She runs the survey that this is for."])


class Ask(Request):
    """A question to the holder of what an item is about."""

    question: Sentence = Field(examples=["Do you still need this after the survey?"])


class AnswerQuestion(Request):
    """The answer to a question."""

    answer: Sentence


class Explain(Request):
    """Why what was decided can't be shown to be carried out."""

    reason: Sentence


class CloseRound(Request):
    """How to close a round."""

    undecided: Fates | Fate | None = Field(
        None, description="What becomes of undecided items: for all, or by reach. Left out, what was said before."
    )


class GroupBy(Request):
    """What to group items by."""

    by: Literal["account", "holder", "level", "recommended", "kind"] = "account"


class Absent(Request):
    """When somebody is away, and who stands in for them."""

    since: Instant | None = Field(None, description="From when; left out, they are there.")
    until: Instant | None = None
    first_day: Day | None = Field(None, description="Instead of an instant; begins where the organisation is.")
    last_day: Day | None = Field(None, description="The same; it counts to its end.")
    deputy: UUID | None = None


class ReviewRow(Named):
    """What schedules and rounds say of how they go."""

    scope: str
    covers: list[str]
    acts: str
    reviewers: list[JsonObject]
    undecided: dict[str, str]
    second_from: int | None
    reminders: list[int]
    closes_after: int | None


class ScheduleDates(Answer):
    """The next times that a schedule would be due."""

    next: list[datetime]


class ScheduleRow(ReviewRow):
    """A schedule in a list."""

    recurrence: str
    recurs: Said = Field(description="The recurrence as people say it.")
    time_zone: str
    starts: str
    events: list[str]
    days_to_decide: int
    paused: bool
    due_at: datetime | None
    answer: Said
    version: int


class SchedulePage(ScheduleRow):
    """A schedule with the next times that it is due, and how many rounds came of it."""

    next: list[datetime]
    rounds: int


class SchedulesMade(Answer):
    """Schedules that were made together."""

    schedules: list[SchedulePage]


class RoundRow(ReviewRow):
    """A round with its counts."""

    state: str
    event: str
    schedule_id: UUID | None
    opened_at: datetime
    opened_by: Named | None
    due_at: datetime
    closed_at: datetime | None
    ended_at: datetime | None
    items: int
    decided: int
    seconding: int
    kept: int
    trimmed: int
    revoked: int
    nothing_done: int
    confirmed: int
    stated: int
    unproved: int
    contradicted: int
    by_default: int
    left_undecided: int
    to_do: int


class ReviewerProgress(Answer):
    """How far a reviewer is, how much they kept and how fast they went; no name stands for items that nobody has.

    What they decided counts for them, whoever an item is assigned to; what nobody decided counts for nobody.
    """

    id: UUID | None
    name: str | None
    items: int = Field(description="Assigned to them.")
    left: int = Field(description="Assigned to them, and undecided.")
    by_default: int = Field(description="Assigned to them, and never decided by anybody.")
    by_others: int = Field(description="Assigned to them, and decided by somebody else.")
    decided: int = Field(description="Decided by them.")
    kept: int
    share_kept: float | None
    seconds_between: float | None = Field(description="The median of the seconds between decisions in a row.")


class PopulationOf(Answer):
    """How the items of one kind were taken."""

    kind: str
    live: int
    matched: int
    not_matched: int
    urgent: int
    items: int


class Population(Answer):
    """How many items of each kind there would be, and who may be asked about them but can't sign in."""

    population: list[PopulationOf]
    without_sign_in: list[Named]
    more_without_sign_in: bool = Field(description="Whether there are more of them than are named.")


class RoundPage(RoundRow):
    """A round with its progress by reviewer, and what is the viewer's own to decide."""

    mine: int
    mine_left: int
    reviewers_progress: list[ReviewerProgress]
    population: list[PopulationOf]
    items_hash: str | None


class AccountProgress(Answer):
    """How far an account is in a round."""

    name: str
    items: int
    decided: int


class DayProgress(Answer):
    """What was decided on a day, by the organisation's calendar."""

    day: date
    decided: int
    kept: int


class RoundProgress(Answer):
    """How far a round is by reviewer, by account and by day, and how many items are late."""

    by_reviewer: list[ReviewerProgress]
    by_account: list[AccountProgress]
    by_day: list[DayProgress]
    late: int
    items: int
    opened_at: datetime
    due_at: datetime


class Group(Answer):
    """Some items that have something in common."""

    name: str
    items: int
    undecided: int
    flagged: int


class Groups(Answer):
    """The groups of a round, the largest first."""

    groups: list[Group]


class AskedOf(Answer):
    """What a holder was asked about an item, and what they answered."""

    question: str
    of: str
    answer: str
    answered_at: datetime | None


class HolderName(Answer):
    """A holder as an item names them; who they are is in the facts."""

    name: str


class ItemRow(WithProof):
    """One line to be decided: the facts as they were when the round opened, and beside them what has changed since."""

    id: UUID
    round_id: UUID
    position: int
    kind: str
    subject_id: UUID
    grant_id: UUID | None
    account: Named | None
    holder: HolderName
    level: str
    reach: int | None
    recommended: str
    flagged: int
    severity: int
    facts: JsonObject
    changes: list[Said]
    grant_state: str | None
    state: str
    verdict: str | None
    reason: str
    trim_until: datetime | None
    trim_to_use: bool
    trim_level: Named | None
    successor: Named | None
    reviewer: Named | None
    reviewer_team: Named | None
    assigned_as: Said
    by_default: bool
    needs_second: bool
    second: Named | None
    decided_by: Named | None
    decided_at: datetime | None
    seconded_by: Named | None
    seconded_at: datetime | None
    fate: str | None
    revocation_id: UUID | None
    offer_id: UUID | None
    draft_id: UUID | None
    outcome: Said
    explained: str
    done_at: datetime | None
    nothing_done: bool
    question: AskedOf | None
    version: int


class DecisionPreview(Answer):
    """What a decision would do."""

    sentence: Said
    preview: Preview | None


class DecidedLine(Answer):
    """What came of one of many: why it was refused, if it was."""

    id: UUID
    refused: Said | None


class Decided(Answer):
    """What came of deciding many at once."""

    lines: list[DecidedLine]
    decided: int


class BetterReviewer(Named):
    """Somebody who could decide an item instead, and why they."""

    why: Said


class BetterReviewers(Answer):
    """Those who could decide an item instead."""

    people: list[BetterReviewer]


class RoundOf(Answer):
    """A round by its id and name."""

    id: UUID
    name: str


class AccountName(Answer):
    """An account by its name."""

    name: str


class QuestionRow(Answer):
    """A question about an item."""

    id: UUID
    round: RoundOf
    account: AccountName
    level: str
    asked_by: Named | None
    person: Named | None
    question: str
    asked_at: datetime
    answer: str
    answered_at: datetime | None
    round_closed: bool


class CalendarPage(Answer):
    """A calendar address: since when there is one, when it was last read. The address is told once, when it is made."""

    made_at: datetime | None
    read_at: datetime | None
    address: str | None


class AbsenceOf(Answer):
    """When somebody is away, and who stands in for them."""

    since: datetime | None
    until: datetime | None
    deputy: Named | None
    could_stand_in: list[Named] = Field(description="Manager, colleagues of the same manager, administrators.")
