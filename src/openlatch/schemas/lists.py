"""Requests and answers about finding things: search, kept filters, lists to take away, and how somebody moves."""

from __future__ import annotations

from typing import Annotated, Literal
from uuid import UUID

from pydantic import (
    Field,
    StringConstraints,
)

from openlatch.languages.marks import Said, SaidBeside
from openlatch.schemas.base import Answer, Named, Request

__all__ = [
    "AttributeOf",
    "Attributes",
    "ExportOptions",
    "FilterKept",
    "FilterName",
    "FiltersKept",
    "FiltersOf",
    "Found",
    "FoundOne",
    "KeepFilter",
    "ListOptions",
    "MailOfFilter",
    "MailTimes",
    "SearchFor",
    "Values",
    "ValuesOf",
]


FilterName = Annotated[str, StringConstraints(min_length=1, max_length=120, strip_whitespace=True)]


MailTimes = Literal["never", "day", "week"]


class SearchFor(Request):
    """Words to search for."""

    q: str = Field(max_length=200, description="Words; each has to occur.", examples=["kit telemetry"])


class FoundOne(Answer):
    """Something that fits."""

    kind: Literal["people", "accounts", "apps", "teams", "grants", "flags", "rounds", "systems"]
    id: UUID
    label: Annotated[str, SaidBeside("kind", "flags")] = Field(description="Its name; a flag's sentence.")
    detail: Said


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

    name: FilterName
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
    mail: MailTimes = Field(description="How often you get mail of what matches it.")
    version: int


class FiltersKept(Answer):
    """Filters that are kept, one's own and shared ones."""

    filters: list[FilterKept]


class MailOfFilter(Request):
    """How often mail comes of what matches."""

    every: MailTimes


class ListOptions(Request):
    """What to see of a list."""

    filter: str = Field("", description="A filter by RFC 7644 section 3.4.2.2.", examples=['state eq "active"'])
    search: str = Field("", max_length=200, description="Words that have to occur.")
    sort: str = Field("", description="An attribute to sort by, with - before it for the other way round.")
    limit: int = Field(50, description="How many rows, 1 to 500.")
    cursor: str = Field("", description="Where to go on, from the answer before.")
    count: bool = Field(False, description="Whether to count all that match.")


class AttributeOf(Answer):
    """An attribute that filters of a list may name."""

    name: str
    kind: Literal["text", "word", "number", "time", "truth", "reach", "id"] = Field(description="What it holds.")
    operators: list[str] = Field(description="How it may be compared; also by pr, whether it has a value.")
    sentence: Said


class Attributes(Answer):
    """The attributes of a list."""

    attributes: list[AttributeOf]


class ValuesOf(Request):
    """Of which attribute, and what the values contain."""

    attribute: str = Field(max_length=60)
    words: str = Field("", max_length=100)


class Values(Answer):
    """Some values that an attribute has among the rows that you may see."""

    values: list[str]
