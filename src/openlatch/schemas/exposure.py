"""Requests and answers about what is open to outsiders: exposures, guards, the boundary, drafts of rules."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.json_values import JsonList, JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.base import AccountOf, Answer, Day, Instant, Named, Request, Sentence, ShortText
from openlatch.schemas.revocations import Preview

__all__ = [
    "AddExpected",
    "ApplyDraft",
    "Boundary",
    "BoundaryDraft",
    "CheckRules",
    "CheckedRules",
    "CloseExposures",
    "ClosingPreview",
    "ExpectedRow",
    "ExpectedRows",
    "ExposedResource",
    "ExposureChange",
    "ExposureChanges",
    "ExposureHistory",
    "ExposurePage",
    "ExposureRow",
    "ExposureRows",
    "ExposureUse",
    "GuardDraft",
    "GuardInSystem",
    "GuardRow",
    "GuardRows",
    "JudgeExposures",
    "LiftGuard",
    "MakeDraft",
    "PastExposures",
    "PastOf",
    "PossibleExposure",
    "Right",
    "RuleDraftRow",
    "RuleDrafts",
    "RuleProblem",
    "RuleShown",
    "RuleToClose",
    "RulesOfAccount",
    "SetGuard",
]


Right = Literal["see", "change", "administer"]


class ExposedResource(Answer):
    """The resource that is open; without an id it is the whole account."""

    id: UUID | None = None
    name: str | None = None
    kind: str | None = None
    path: str | None = None


class PossibleExposure(Answer):
    """What an exposure is about; its name is empty for the whole account."""

    id: UUID | None = None
    name: str | None = None


class ExposureRow(Answer):
    """That outsiders can do something with a resource, by its access rules."""

    id: UUID
    account: AccountOf
    owner: PossibleExposure | None
    system: PossibleExposure | None
    resource: ExposedResource | None
    right: str
    audience: str = Field(description="anyone, signed_in (anyone who signs in), link, or named (outsiders by name).")
    open: bool = Field(description="Whether anybody gets in now; otherwise it opens later.")
    blocked: bool = Field(description="Whether a guard of the system keeps it shut.")
    forbidden: bool = Field(description="Whether it is open against a guard of the organisation.")
    gone: bool
    understood: bool = Field(description="Whether all conditions are understood; one that is not counts as open.")
    sentence: Said
    ways: list[JsonObject] = Field(description="The ways in: who, under which conditions, by which rules.")
    admitted_by: list[str]
    narrowed_by: list[str]
    unknown: list[str] = Field(description="Conditions that are not understood, as the system writes them.")
    since: datetime
    grew_at: datetime | None
    gone_at: datetime | None
    last_used_on: date | None
    used: bool
    judgement: str = Field(description="unjudged, intended or to_close.")
    judged_at: datetime | None
    judged_reason: str
    judged_by: PossibleExposure | None
    expected_by: PossibleExposure | None
    intended_until: datetime | None
    proof: str | None
    proved_at: datetime | None
    proved_by: str
    proof_words: str
    version: int


class RuleShown(Answer):
    """An access rule, in the form of a rule document."""

    key: str
    rule: JsonObject
    admits: bool
    is_guard: bool
    by_hand: bool = Field(description="Whether it was written down here, and not read in a system.")
    can_close: bool = Field(description="Whether it can be taken away in its system from here.")
    since: datetime


class ExposureUse(Answer):
    """That somebody outside used it on a day."""

    day: date
    right: str
    who: str
    address: str


class ExposurePage(ExposureRow):
    """An exposure with its rules, and its use by outsiders where that is known."""

    rules: list[RuleShown]
    uses: list[ExposureUse]
    narrower: JsonObject | None = Field(
        description="The smallest rule that covers the use seen, where there was any; in the form of a rule document."
    )


class ExposureRows(Answer):
    """Some exposures."""

    exposures: list[ExposureRow]


class JudgeExposures(Request):
    """What somebody judges of exposures."""

    exposures: list[UUID] = Field(min_length=1, max_length=500)
    judgement: Literal["unjudged", "intended", "to_close"]
    reason: Sentence = ""
    last_day: Day | None = Field(None, description="The last day on which it is intended.")


class CloseExposures(Request):
    """Exposures to be closed: every rule that lets outsiders in is taken away in its system."""

    exposures: list[UUID] = Field(min_length=1, max_length=100)
    reason: Sentence = ""
    fingerprint: str = Field("", max_length=100, description="Of the preview that was looked at.")


class ExpectedRow(Answer):
    """A rule that marks exposures as expected."""

    id: UUID
    name: str
    filter: str
    reason: str
    made_by: str


class ExpectedRows(Answer):
    """All rules that mark exposures as expected."""

    rules: list[ExpectedRow]


class AddExpected(Request):
    """A filter over exposures that are expected, and why."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=100, strip_whitespace=True)]
    filter: str = Field(min_length=1, max_length=2000)
    reason: Annotated[str, StringConstraints(min_length=1, max_length=500, strip_whitespace=True)]


class BoundaryDraft(Request):
    """What counts as inside."""

    domains: list[ShortText] = Field(default_factory=list, max_length=50)
    organisations: list[ShortText] = Field(default_factory=list, max_length=50)
    networks: list[ShortText] = Field(default_factory=list, max_length=200)
    systems: list[UUID] = Field(
        default_factory=list,
        max_length=200,
        description="Systems in which everybody who can sign in is inside, except people who are known to be outside.",
    )


class Boundary(Answer):
    """What counts as inside."""

    domains: list[str]
    organisations: list[str]
    networks: list[str]
    systems: list[UUID]


class ExposureChange(Answer):
    """What would become of one exposure."""

    change: Literal["new", "gone", "changed", "unchanged"]
    grew: bool = Field(description="Whether somebody would get in who does not now.")
    account: Named
    resource: Named | None
    right: str
    audience: str
    sentence: Said
    before: Said | None = Field(description="What is open now, where it differs.")
    gained: list[Said] = Field(description="Who would get in besides.")
    lost: list[Said] = Field(description="Who would not get in any more.")
    rules: list[str]
    narrowed_by: list[str]
    not_understood: list[str]
    forbidden: bool = Field(False, description="Whether it would be open against a guard of the organisation.")


class ExposureChanges(Answer):
    """What would become of exposures, the worst first."""

    counts: dict[str, int]
    lines: list[ExposureChange]
    more: int = Field(description="How many further lines there are.")
    forbidden: int = Field(0, description="How many of all are, or would be, open against a guard of the organisation.")
    systems: list[str] = Field(default_factory=list, description="The systems in which a guard will be set, too.")
    fingerprint: str = ""


class RuleToClose(Answer):
    """A rule that would be taken away."""

    account: UUID
    key: str
    rule: JsonObject


class ClosingPreview(Preview):
    """What closing exposures would do: the rules that go, and everything that they open."""

    rules: list[RuleToClose]
    exposures: ExposureChanges


class GuardInSystem(Answer):
    """Whether a system that was told of a guard shows it."""

    system: Named
    state: str = Field(description="waiting, set, off (it was switched off there), or failed.")
    words: Said
    seen_at: datetime | None


class GuardRow(Answer):
    """A guard: what must not be open to outsiders. It shuts nothing but in systems that were told and show it."""

    id: UUID
    account: Named | None
    account_kind: str | None
    resource: Named | None
    rights: list[str]
    but: JsonList
    reason: str
    made_by: str
    sentence: Said
    systems: list[GuardInSystem] = Field(
        default_factory=list, description="The systems that have a guard over all accounts, for administrators."
    )


class GuardRows(Answer):
    """All guards that concern what one may see."""

    guards: list[GuardRow]


class GuardDraft(Request):
    """A guard on an account, on a kind of account, on a resource; or on everything where none of them is named."""

    account: UUID | None = None
    account_kind: ShortText | None = None
    resource: UUID | None = None
    rights: list[Right] = Field(min_length=1, max_length=3)
    but: list[dict[str, str]] = Field(
        default_factory=list, max_length=50, description="Who may all the same, as rules name them."
    )
    reason: Sentence = ""


class SetGuard(GuardDraft):
    """A guard to be set."""

    fingerprint: str = Field("", max_length=100, description="Of the preview that was looked at.")


class LiftGuard(Request):
    """Why a guard is lifted."""

    reason: Sentence = ""
    fingerprint: str = Field("", max_length=100, description="Of the preview that was looked at.")


class RulesOfAccount(Answer):
    """The rules of an account as they stand, with what its system knows."""

    account: Named
    document: JsonObject = Field(description="A rule document.")
    combining: str = Field(description="How they combine: refuse_wins, first_match or most_specific.")
    permissions: dict[str, str] = Field(description="The system's permissions, with the right each comes to.")


class CheckRules(Request):
    """A rule document, as it is typed."""

    document: str = Field(max_length=2_000_000)


class RuleProblem(Answer):
    """What is wrong at one place of a document."""

    pointer: str = Field(description="A JSON pointer (RFC 6901).")
    line: int
    message: Said


class CheckedRules(Answer):
    """What is wrong with a document; nothing where it is good."""

    problems: list[RuleProblem]


class MakeDraft(CheckRules):
    """A rule document for an account, to see what it would open and close."""

    permissions: dict[str, Right] = Field(
        default_factory=dict,
        max_length=200,
        description="Permissions that would come to other rights, if the system's levels were changed.",
    )


class RuleDraftRow(Answer):
    """A draft of an account's rules, with what it would open and close once that is worked out."""

    id: UUID
    account: Named
    made_by: str
    made_at: datetime
    state: str = Field(
        description="waiting, ready, refused (it can't be read), applying, applied (the system shows it), or failed."
    )
    document: str
    problems: list[RuleProblem]
    counts: dict[str, int] | None
    lines: list[ExposureChange]
    more: int
    worked_out_at: datetime | None
    applied_at: datetime | None
    applied_by: str
    reason: str
    failure: Said = Field(description="Why it could not be set.")


class ApplyDraft(Request):
    """Why the rules of a draft are set."""

    reason: Sentence


class RuleDrafts(Answer):
    """The latest drafts."""

    drafts: list[RuleDraftRow]


class PastOf(Request):
    """An account at an instant, as it was known at another."""

    account: UUID
    at: Instant
    believed: Instant | None = None


class ExposureHistory(Answer):
    """What was open on one resource at an instant."""

    resource: Named | None
    right: str
    audience: str
    sentence: Said
    rules: list[str]


class PastExposures(Answer):
    """What was open on an account at an instant, as it was known at another."""

    account: Named
    at: datetime
    believed: datetime
    exposures: list[ExposureHistory]
