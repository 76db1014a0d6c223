"""Flags, rules, and the facts that rules know."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated
from uuid import UUID

from pydantic import (
    Field,
)

from openlatch.json_values import JsonObject, JsonValue
from openlatch.languages.marks import Said
from openlatch.schemas.base import AccountOf, Answer, Day, Holder, Instant, Named, Request, Sentence, Subject

__all__ = [
    "AcceptFlag",
    "AcceptFlags",
    "AddComment",
    "AssignFlags",
    "ClearedFlag",
    "CommentOf",
    "FactOf",
    "FactsAbout",
    "FactsOf",
    "FactsQuery",
    "FlagRow",
    "Flags",
    "Four",
    "LimitOf",
    "MatterPage",
    "NextAction",
    "NextActions",
    "NextQuery",
    "OwnRuleNamed",
    "OwnRuleSource",
    "OwnRulesChecked",
    "Points",
    "PostponeAction",
    "RuleEffect",
    "RuleEffects",
    "RuleExample",
    "RuleFailure",
    "RuleLooking",
    "RuleOf",
    "RulesFile",
    "RulesPage",
    "SetRules",
    "SetWeights",
    "WantDigest",
    "WeightsOf",
]


class FlagRow(Answer):
    """A flag: why it was raised, from which facts, with which score, and what to do."""

    id: UUID
    rule: str
    title: Said
    remedy: Said
    act: str = Field(description="What can be done about it at once: revoke, trim, end_session, or nothing.")
    state: str
    severity: int
    score: int
    parts: dict[str, int]
    sentence: Said
    facts: JsonObject
    subject: Subject
    account: AccountOf | None
    holder: Holder
    raised_at: datetime
    worse_at: datetime | None
    assigned_to: Named | None
    cleared_at: datetime | None
    accepted_by: Named | None
    accepted_reason: str | None
    accepted_until: datetime | None


class Flags(Answer):
    """Several flags."""

    flags: list[FlagRow]


class AcceptFlag(Request):
    """Why flags are accepted, and until when."""

    reason: Sentence = Field(examples=["Back from parental leave in May."])
    until: Instant | None = None
    last_day: Day | None = Field(None, description="Instead of an instant; counts to its end, where the account is.")


class AcceptFlags(AcceptFlag):
    """The same for several."""

    flags: list[UUID] = Field(min_length=1, max_length=1000)


class AssignFlags(Request):
    """Who sees to flags; nobody when left out."""

    flags: list[UUID] = Field(min_length=1, max_length=1000)
    person: UUID | None = None


Points = Annotated[int, Field(ge=0, le=100)]


Four = Annotated[list[int | None], Field(min_length=4, max_length=4)]


class RuleOf(Answer):
    """A rule: what it looks for, what to do about it, and how many flags it has open."""

    key: str
    subject: str
    title: Said
    about: Said
    remedy: Said
    limits: list[str]
    off: bool
    own: bool
    open: int


class LimitOf(Answer):
    """A limit: a number for each sensitivity, low to critical. None: there the rule never speaks."""

    name: str
    unit: Said
    about: Said
    usual: list[int | None]
    values: list[int | None]


class WeightsOf(Answer):
    """The points of a score's parts."""

    reach: list[int]
    sensitivity: list[int]
    outside: int
    staleness: int
    doubt: int


class RulesPage(Answer):
    """Every rule, and how they are set."""

    rules: list[RuleOf]
    limits: list[LimitOf]
    weights: WeightsOf
    never_together: list[list[str]]
    known_publishers: list[str]


class SetWeights(Request):
    """The points of a score's parts, 0 to 100 each."""

    reach: Annotated[list[Points], Field(min_length=4, max_length=4)]
    sensitivity: Annotated[list[Points], Field(min_length=4, max_length=4)]
    outside: Points
    staleness: Points
    doubt: Points


class SetRules(Request):
    """How the rules are set. What is left out stays as it is."""

    limits: dict[str, Four] | None = Field(None, examples=[{"unused": [180, 120, 90, 30]}])
    weights: SetWeights | None = None
    off: list[str] | None = Field(None, description="The keys of all rules that are off.")
    never_together: list[Annotated[list[str], Field(min_length=2, max_length=2)]] | None = Field(None, max_length=50)
    known_publishers: list[str] | None = Field(None, max_length=1000)


class RuleExample(Answer):
    """A flag that would be raised or cleared."""

    what: str
    sentence: Said
    score: int


class RuleEffect(Answer):
    """What a change would do to the flags of one rule."""

    rule: str
    title: Said
    raised: int
    cleared: int
    rescored: int
    examples: list[RuleExample]


class RuleEffects(Answer):
    """What a change of the rules would do."""

    effects: list[RuleEffect]


class RulesFile(Request):
    """A file of own rules, as text."""

    text: str = Field(max_length=200_000)


class OwnRuleNamed(Answer):
    """An own rule in a file."""

    key: str
    on: str
    title: str


class RuleFailure(Answer):
    """An example that does not come out as its file says."""

    rule: str
    example: int
    expected: bool
    why: Said


class OwnRulesChecked(Answer):
    """What a file of own rules says, which examples fail, and what the rules would raise now."""

    rules: list[OwnRuleNamed]
    failures: list[RuleFailure]
    effects: list[RuleEffect]


class OwnRuleSource(Answer):
    """The file that an own rule came in."""

    key: str
    source: str


class FactOf(Answer):
    """A fact about a subject, with what it says."""

    name: str
    about: Said
    value: JsonValue


class RuleLooking(Answer):
    """A rule that looks at a subject, and what it makes of it."""

    key: str
    title: Said
    about: Said
    found: bool
    sentence: Said


class FactsOf(Answer):
    """What the rules are told of one subject."""

    subject: Subject
    holder: str
    account: str | None
    facts: list[FactOf]
    rules: list[RuleLooking]


class FactsAbout(Answer):
    """What the rules are told of somebody, their grants and their sessions."""

    subjects: list[FactsOf]


class WantDigest(Request):
    """Whether one gets the weekly letter about flags."""

    wants: bool


class FactsQuery(Request):
    """About whom; left out, about oneself."""

    person: UUID | None = None


class ClearedFlag(Answer):
    """A flag that an action would clear."""

    id: UUID
    title: Said
    severity: int
    sentence: Said


class NextAction(Answer):
    """An action: what it does, which flags it would clear, and what its preview needs."""

    key: str = Field(description="What names it, also after it was worked out again.")
    kind: str
    title: Said
    clears: list[ClearedFlag] = Field(
        description="The gravest first, without those that an earlier action of the list clears."
    )
    risk: int = Field(
        description="The risk that it takes away; each step of severity counts three times the one below."
    )
    raises: int = Field(description="The risk of flags that it would raise.")
    notes: list[Said] = Field(description="What speaks for it and against it.")
    account: Named | None
    matter: str = Field(description="The key of the matter that it is about.")
    grants: list[UUID]
    sessions: list[UUID]
    exposures: list[UUID]
    level: Named | None = Field(description="The level that a trim is to.")
    last_day: date | None = Field(description="The last day, where an end is proposed that ends with one.")
    until: datetime | None
    successor: Named | None = Field(description="Whom something is handed over to, or whose a login is.")
    later_until: datetime | None = Field(description="Until when you have put it off.")
    later_because: str | None


class NextActions(Answer):
    """The fewest actions that take away most risk, in their order."""

    actions: list[NextAction]
    flags: int = Field(description="Open flags that you answer for.")
    covered: int = Field(description="Of which some action would clear so many.")
    matters: int = Field(description="How many matters those are about.")
    risk: int = Field(description="The risk of those.")
    clearable: int = Field(description="How much of it actions can clear.")
    half: int | None = Field(description="How many actions clear half of the risk; absent when all don't.")
    nine_tenths: int | None = Field(description="How many actions clear nine tenths of it; absent when all don't.")
    postponed: int = Field(description="Actions that you have put off.")
    as_of: datetime | None = Field(
        description="When the effects of actions were worked out, the oldest of them; absent before."
    )
    is_due: bool = Field(description="Whether flags have changed since, so that they are worked out anew soon.")


class NextQuery(Request):
    """How many actions are asked for."""

    limit: int = Field(7, ge=1, le=100)
    postponed: bool = Field(False, description="Also those that you have put off.")


class PostponeAction(Request):
    """Why an action is put off, and until when."""

    key: str = Field(max_length=100)
    reason: Sentence = Field(examples=["Waiting for the answer of the printing house."])
    until: Instant | None = None
    last_day: Day | None = Field(None, description="Instead of an instant; counts to its end.")


class CommentOf(Answer):
    """What somebody wrote about a matter."""

    id: UUID
    by: str
    person_id: UUID | None
    text: str
    at: datetime


class MatterPage(Answer):
    """One matter: the flags of a holder in an account, with what could be done, what was said and what happened."""

    key: str
    account: AccountOf | None
    holder: Holder
    title: Said
    flags: list[FlagRow] = Field(description="Open and accepted ones, the gravest first.")
    cleared: list[FlagRow] = Field(description="The last ones that cleared.")
    actions: list[NextAction]
    comments: list[CommentOf]
    assigned_to: list[Named]


class AddComment(Request):
    """A comment. Whoever is mentioned is told, by a notice and by mail."""

    text: str = Field(min_length=1, max_length=4000)
    mentions: list[UUID] = Field(default_factory=list, max_length=20)
