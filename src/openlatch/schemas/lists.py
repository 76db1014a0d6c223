"""Requests and answers about finding things: search, kept filters, lists to take away, and how somebody moves."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.schemas.answers import Answer, Named
from openlatch.schemas.requests import Request

__all__ = [
    "Erased",
    "ExportOptions",
    "FilterKept",
    "FiltersKept",
    "FiltersOf",
    "Found",
    "HeldData",
    "KeepFilter",
    "MailOfFilter",
    "MovePlan",
    "MoveWish",
    "RegisterBrought",
    "SearchFor",
]

Name = Annotated[str, StringConstraints(min_length=1, max_length=120, strip_whitespace=True)]


class SearchFor(Request):
    """Words to search for."""

    q: str = Field(max_length=200, description="Words; each has to occur.", examples=["kit telemetry"])


class FoundOne(Answer):
    """Something that fits."""

    kind: Literal["people", "accounts", "apps", "teams", "grants", "flags", "rounds", "systems"]
    id: UUID
    label: str
    detail: str


class Found(Answer):
    """What fits, the best of each kind first."""

    found: list[FoundOne]


class ExportOptions(Request):
    """What to take of a list, and as what."""

    filter: str = Field("", description="A filter by RFC 7644 section 3.4.2.2.")
    search: str = Field("", max_length=200)
    sort: str = Field("", max_length=100)
    format: Literal["csv", "json"] = "csv"


class FiltersOf(Request):
    """Whose list the filters are of; all when none is named."""

    list: str | None = Field(None, max_length=40)


class KeepFilter(Request):
    """A filter to keep by a name."""

    name: Name
    list: str = Field(max_length=40, examples=["grants"])
    filter: str = Field("", max_length=4000)
    search: str = Field("", max_length=200)
    sort: str = Field("", max_length=100)
    is_shared: bool = Field(False, description="Whether everybody may use it.")


class FilterKept(Answer):
    """A filter that is kept."""

    id: UUID
    name: str
    list: str
    filter: str
    search: str
    sort: str
    is_shared: bool
    by: Named
    is_mine: bool
    mail: Literal["never", "day", "week"] = Field(description="How often you get mail of what matches it.")
    version: int


class FiltersKept(Answer):
    """Filters that are kept, one's own and shared ones."""

    filters: list[FilterKept]


class MailOfFilter(Request):
    """How often mail comes of what matches."""

    every: Literal["never", "day", "week"]


class RegisterBrought(Answer):
    """What came in with a whole register."""

    rows: dict[str, int] = Field(description="How many rows of each table.")
    lines: int


class HeldData(Answer):
    """All that is held about a person; each part is a list of records as they are held."""

    format: Literal["openlatch-held-data"]
    version: int
    taken_at: datetime
    person: dict[str, Any]
    addresses: list[dict[str, Any]]
    logins: list[dict[str, Any]]
    marks: list[dict[str, Any]]
    sign_ins: list[dict[str, Any]]
    sessions_here: list[dict[str, Any]]
    api_tokens: list[dict[str, Any]]
    teams: list[dict[str, Any]]
    grants: list[dict[str, Any]]
    sessions: list[dict[str, Any]]
    flags: list[dict[str, Any]]
    offers: list[dict[str, Any]]
    requests: list[dict[str, Any]]
    visits: list[dict[str, Any]]
    notices: list[dict[str, Any]]
    review_items: list[dict[str, Any]]
    journal: list[dict[str, Any]]


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
    words: str
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
    sentence: str
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
    breaches: list[dict[str, Any]]
    rounds: list[Named] = Field(description="The reviews that are open on their access.")
