"""The charter: how an organisation wants its register to be, as files.

Its form is ours (docs/reference/charter.md), with a JSON Schema beside it. People are named by their address, or by
their name where they have none; teams, systems and accounts by their names.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, WithJsonSchema

from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, ClockTime, Day, Key, Name, Request, Sentence, ShortText
from openlatch.schemas.flags import SetWeights
from openlatch.schemas.latches import LatchKindWord
from openlatch.schemas.records import EditedValue
from openlatch.schemas.reviews import Covered, Event, Fates

__all__ = [
    "CHARTER_FORMAT",
    "AdoptCharter",
    "Charter",
    "CharterAdopted",
    "CharterAdoption",
    "CharterChange",
    "CharterComparison",
    "CharterExpected",
    "CharterLatch",
    "CharterLevel",
    "CharterMember",
    "CharterOwnRule",
    "CharterPage",
    "CharterPermission",
    "CharterReviewer",
    "CharterRules",
    "CharterSchedule",
    "CharterTeam",
]

CHARTER_FORMAT = "open-latch-charter/1"
PersonRef = Annotated[str, StringConstraints(min_length=1, max_length=320, strip_whitespace=True)]
LocalTime = Annotated[ClockTime, WithJsonSchema({"type": "string", "examples": ["2027-01-04T09:00"]})]
# A limit by sensitivity, from low to critical. TOML has no null: where a rule does not speak, it is none.
LimitRow = Annotated[list[int | Literal["none"]], Field(min_length=4, max_length=4)]


class CharterMember(Request):
    """A member of a team: a person or a team."""

    person: PersonRef | None = Field(None, description="Their address, or their name if they have none.")
    team: Name | None = None
    last_day: Day | None = Field(None, description="Left out: without an end.")


class CharterTeam(Request):
    """A team, or a partner organisation."""

    name: Name
    formerly: list[Name] = Field(default_factory=list, max_length=10, description="What it was called before.")
    partner: bool = False
    purpose: Sentence = ""
    speaker: PersonRef | None = Field(None, description="Who answers offers to it.")
    members: list[CharterMember] | None = Field(
        None, max_length=5000, description="All of them; left out, members are left alone."
    )


class CharterPermission(Request):
    """A permission of a level."""

    key: Key
    sentence: Sentence
    reach: Literal["observe", "operate", "spend", "steward"]


class CharterLevel(Request):
    """A level of a system that nothing is read from."""

    system: Name
    key: Key
    name: ShortText
    sentence: Sentence
    permissions: list[CharterPermission] = Field(min_length=1, max_length=200)


class CharterLatch(Request):
    """A latch, on one account or on all accounts of a kind."""

    account: Name | None = None
    system: Name | None = Field(None, description="The account's, where two accounts have the same name.")
    account_kind: ShortText | None = None
    kind: LatchKindWord
    mode: Literal["warn", "hold"]
    number: int | None = Field(None, ge=1, le=10_000)
    pair: list[Key] = Field(default_factory=list, max_length=2)


class CharterRules(Request):
    """The settings of rules. A setting that is left out is left alone; a limit that is not named is the usual one."""

    limits: dict[str, LimitRow] | None = Field(None, examples=[{"unused": [180, 120, 90, 30]}])
    weights: SetWeights | None = None
    off: list[str] | None = Field(None, description="The keys of all rules that are off.")
    never_together: list[Annotated[list[Key], Field(min_length=2, max_length=2)]] | None = Field(None, max_length=50)
    known_publishers: list[ShortText] | None = Field(None, max_length=1000)


class CharterOwnRule(Request):
    """A rule of the organisation's own, as in a file of own rules."""

    key: Key
    on: Key
    title: ShortText
    about: Sentence = ""
    when: Annotated[str, StringConstraints(max_length=4000)]
    says: Sentence
    remedy: Sentence
    urgency: int = Field(0, ge=0, le=100)
    matches: list[JsonObject] = Field(default_factory=list, max_length=100)
    misses: list[JsonObject] = Field(default_factory=list, max_length=100)


class CharterReviewer(Request):
    """A place in the line of those who are asked."""

    kind: Literal["owner", "manager", "person", "team"]
    person: PersonRef | None = None
    team: Name | None = None
    account_kind: ShortText = Field("", description="Only for accounts of this kind.")


class CharterSchedule(Request):
    """A review that opens by itself."""

    name: Sentence
    scope: str = Field("", max_length=4000, description="A filter over what it covers.")
    covers: list[Covered] = Field(["grant", "link"], max_length=7)
    days_to_decide: int = 14
    reviewers: list[CharterReviewer] = Field(default_factory=list, max_length=20)
    acts: Literal["when_decided", "at_close"] = "when_decided"
    second_from: int | None = None
    reminders: list[int] = Field(default_factory=list, max_length=20)
    closes_after: int | None = None
    recurrence: str = Field("", max_length=500, description="A rule by RFC 5545; empty when only events open it.")
    starts: LocalTime | None = Field(None, description="The first time, as clocks in time_zone show it.")
    time_zone: str = Field("", max_length=100, description="Left out: the organisation's.")
    events: list[Event] = Field(default_factory=list, max_length=5)
    undecided: Fates = Field(default_factory=Fates)
    paused: bool = False


class CharterExpected(Request):
    """What is meant to be open."""

    name: Name
    filter: Annotated[str, StringConstraints(min_length=1, max_length=4000, strip_whitespace=True)]
    reason: Sentence = ""


class Charter(Request):
    """How an organisation wants its register to be. A part that is left out is left alone; one that is there is all."""

    format: Literal["open-latch-charter/1"] = "open-latch-charter/1"
    teams: list[CharterTeam] | None = Field(None, max_length=2000)
    levels: list[CharterLevel] | None = Field(None, max_length=2000)
    latches: list[CharterLatch] | None = Field(None, max_length=5000)
    rules: CharterRules | None = None
    own_rules: list[CharterOwnRule] | None = Field(None, max_length=100)
    schedules: list[CharterSchedule] | None = Field(None, max_length=500)
    expected_exposures: list[CharterExpected] | None = Field(None, max_length=500)


class CharterChange(Answer):
    """A difference between a charter and the register: what adopting it would do."""

    part: str = Field(examples=["teams"])
    name: str = Field(examples=["Night desk"])
    change: Literal["add", "change", "remove"]
    values: list[EditedValue] = Field(description="Each value that differs: in the register, and in the charter.")


class CharterComparison(Answer):
    """What would change, and by which fingerprint to adopt just that."""

    changes: list[CharterChange]
    refused: Said = Field("", description="Why the register would refuse it, if it would.")
    fingerprint: str


class AdoptCharter(Request):
    """A charter to be adopted, if that still changes what was shown."""

    charter: Charter
    fingerprint: str = Field(min_length=1, max_length=64, description="The comparison's.")
    source: ShortText = Field("", description="Where it comes from, such as a revision of the files.")


class CharterAdopted(Answer):
    """When a charter was adopted last, by whom, and where it came from."""

    at: datetime
    by: str
    source: str


class CharterAdoption(Answer):
    """What adopting a charter changed."""

    changes: list[CharterChange]
    adopted: CharterAdopted


class CharterPage(Answer):
    """The register's own charter, the one that was adopted last, and what differs from it since."""

    charter: Charter
    adopted: CharterAdopted | None
    changes: list[CharterChange] = Field(description="What adopting it again would change.")
    outdated: Said = Field("", description="Why the adopted charter can't be compared, if it can't.")
