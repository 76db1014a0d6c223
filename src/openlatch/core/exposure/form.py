"""The written form of access rules, as models: what a document may say, and its JSON Schema."""

from __future__ import annotations

import re
from datetime import date, datetime
from typing import Annotated, Literal

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Discriminator,
    Field,
    StringConstraints,
    Tag,
    model_validator,
)

from openlatch.core.exposure.conditions import network
from openlatch.core.exposure.paths import segments
from openlatch.json_values import JsonObject

FORM = "open-latch-rules-1"
Day = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
DAYS: tuple[Day, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_ATTRIBUTE = "name an attribute of the “resource” or of the “person”, and say what it “is” or “begins_with”"


def _path(text: str) -> str:
    segments(text)
    return text


def _no_star(text: str) -> str:
    if "*" in _path(text):
        raise ValueError("name one path, without a star")
    return text


def _network(text: str) -> str:
    try:
        return str(network(text))
    except ValueError:
        raise ValueError(
            f"{text[:60]!r} is not a network: write 203.0.113.0/24 or 2001:db8::/32, with no bits set behind the prefix"
        ) from None


def _clock(text: str) -> str:
    if not re.fullmatch(r"([01]\d|2[0-3]):[0-5]\d", text):
        raise ValueError("write a time of day as 08:30")
    return text


Name = Annotated[str, StringConstraints(min_length=1, max_length=300)]
Key = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._:@/+-]{0,199}$")]
Path = Annotated[str, StringConstraints(max_length=2000), AfterValidator(_no_star)]
Pattern = Annotated[str, StringConstraints(max_length=2000), AfterValidator(_path)]
Cidr = Annotated[str, StringConstraints(max_length=60), AfterValidator(_network)]
Clock = Annotated[str, AfterValidator(_clock)]


class Part(BaseModel):
    """What every part of a document keeps to: only members that mean something."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class OrganisationPart(Part):
    """Everyone of one organisation, by its domain or the name that the system has for it."""

    organisation: Name


class HolderPart(Part):
    """One person, app or team, by the name that the system has for them."""

    holder: Name


class LinkPart(Part):
    """Everyone with the link of this name."""

    link: Name


class NetworkPart(Part):
    """Everyone who comes from a network."""

    network: Cidr


def _which_who(plain: object) -> str | None:
    if isinstance(plain, str):
        return "word"
    members = plain if isinstance(plain, dict) else getattr(plain, "__dict__", {})
    return next((kind for kind in ("organisation", "holder", "link", "network") if kind in members), None)


WhoPart = Annotated[
    Annotated[Literal["anyone", "signed in", "inside"], Tag("word")]
    | Annotated[OrganisationPart, Tag("organisation")]
    | Annotated[HolderPart, Tag("holder")]
    | Annotated[LinkPart, Tag("link")]
    | Annotated[NetworkPart, Tag("network")],
    Discriminator(
        _which_who,
        custom_error_type="who",
        custom_error_message="say “anyone”, “signed in” or “inside”, or name somebody by “organisation”, “holder”, "
        "“link” or “network”",
    ),
]


class Span(Part):
    """From a day's beginning or an instant, to the end of a last day or until an instant. Days are the account's."""

    from_: Annotated[date | datetime | None, Field(alias="from")] = None
    until: datetime | None = None
    last_day: date | None = None

    @model_validator(mode="after")
    def _one_end(self) -> Span:
        if self.until is not None and self.last_day is not None:
            raise ValueError("say “until” (an instant) or “last_day” (a date), not both")
        if self.from_ is None and self.until is None and self.last_day is None:
            raise ValueError("say “from”, “until” or “last_day”")
        return self


class BetweenPart(Part):
    """That the request comes within a span of time."""

    between: Span


class Hours(Part):
    """Times of day on some days of the week, as clocks in the account's time zone show them."""

    days: Annotated[tuple[Day, ...], Field(min_length=1)] = DAYS
    begins: Clock = "00:00"
    ends: Clock = "00:00"


class HoursPart(Part):
    """That the request comes in weekly hours."""

    hours: Hours


class FromNetworkPart(Part):
    """That the request comes from one of these networks."""

    from_network: Annotated[tuple[Cidr, ...], Field(min_length=1)]


class SecondFactorPart(Part):
    """That a second factor was given, or was not."""

    second_factor: bool


class SecurePart(Part):
    """That the connection is encrypted, or is not."""

    secure: bool


class AttributePart(Part):
    """That an attribute of the resource, or of whoever asks, is one of some values, or begins with one of them."""

    resource: Name | None = None
    person: Name | None = None
    is_: Annotated[tuple[str, ...] | None, Field(alias="is", min_length=1)] = None
    begins_with: Annotated[tuple[str, ...] | None, Field(min_length=1)] = None

    @model_validator(mode="after")
    def _one_of_each(self) -> AttributePart:
        if (self.resource is None) == (self.person is None) or (self.is_ is None) == (self.begins_with is None):
            raise ValueError(
                "name an attribute of the “resource” or of the “person”, and say what it “is” or “begins_with”"
            )
        return self


class UnknownPart(Part):
    """A condition that a system has and Open Latch does not understand, as the system writes it."""

    not_understood: Name


class AllPart(Part):
    """That all of these hold."""

    all: tuple[ConditionPart, ...]


class AnyPart(Part):
    """That at least one of these holds."""

    any: tuple[ConditionPart, ...]


class NonePart(Part):
    """That none of these holds."""

    none: Annotated[tuple[ConditionPart, ...], Field(min_length=1)]


KINDS = ("between", "hours", "from_network", "second_factor", "secure", "not_understood", "all", "any", "none")


def _which_condition(plain: object) -> str | None:
    members = plain if isinstance(plain, dict) else getattr(plain, "__dict__", {})
    if "resource" in members or "person" in members:
        return "attribute"
    return next((kind for kind in KINDS if kind in members), None)


ConditionPart = Annotated[
    Annotated[BetweenPart, Tag("between")]
    | Annotated[HoursPart, Tag("hours")]
    | Annotated[FromNetworkPart, Tag("from_network")]
    | Annotated[SecondFactorPart, Tag("second_factor")]
    | Annotated[SecurePart, Tag("secure")]
    | Annotated[AttributePart, Tag("attribute")]
    | Annotated[UnknownPart, Tag("not_understood")]
    | Annotated[AllPart, Tag("all")]
    | Annotated[AnyPart, Tag("any")]
    | Annotated[NonePart, Tag("none")],
    Discriminator(
        _which_condition,
        custom_error_type="condition",
        custom_error_message="a condition has one of: " + ", ".join(KINDS) + "; or “resource” or “person”",
    ),
]


class GroupPlace(Part):
    """That a rule is set on a group of resources."""

    group: Name


class ResourcePlace(Part):
    """That a rule is set on one resource."""

    resource: Path


def _which_place(plain: object) -> str | None:
    if isinstance(plain, str):
        return "word"
    members = plain if isinstance(plain, dict) else getattr(plain, "__dict__", {})
    return next((kind for kind in ("group", "resource") if kind in members), None)


PlacePart = Annotated[
    Annotated[Literal["system", "account"], Tag("word")]
    | Annotated[GroupPlace, Tag("group")]
    | Annotated[ResourcePlace, Tag("resource")],
    Discriminator(
        _which_place,
        custom_error_type="place",
        custom_error_message="say “system” or “account”, or {“group”: its key} or {“resource”: its path}",
    ),
]


class RulePart(Part):
    """One rule: whom it admits or refuses, to what, on which resources, while what holds."""

    rule: Key
    name: Annotated[str, StringConstraints(max_length=200)] = ""
    because: Annotated[str, StringConstraints(max_length=500)] = ""
    admit: Annotated[tuple[WhoPart, ...] | None, Field(min_length=1)] = None
    refuse: Annotated[tuple[WhoPart, ...] | None, Field(min_length=1)] = None
    but: tuple[WhoPart, ...] = ()
    to: Annotated[tuple[Name, ...], Field(min_length=1)]
    on: Annotated[tuple[Pattern, ...], Field(min_length=1)] = ("/**",)
    set_on: PlacePart = "account"
    while_: Annotated[tuple[ConditionPart, ...], Field(alias="while")] = ()

    @model_validator(mode="after")
    def _one_effect(self) -> RulePart:
        if (self.admit is None) == (self.refuse is None):
            raise ValueError("say whom it lets in by “admit”, or whom it keeps out by “refuse”: just one of the two")
        return self


class GuardPart(Part):
    """A guard: whom it refuses above all rules, to what, on which resources, while what holds."""

    guard: Key
    because: Annotated[str, StringConstraints(max_length=500)] = ""
    refuse: Annotated[tuple[WhoPart, ...], Field(min_length=1)]
    but: tuple[WhoPart, ...] = ()
    to: Annotated[tuple[Name, ...], Field(min_length=1)]
    on: Annotated[tuple[Pattern, ...], Field(min_length=1)] = ("/**",)
    while_: Annotated[tuple[ConditionPart, ...], Field(alias="while")] = ()


class PlannedPart(Part):
    """A resource that does not exist yet."""

    path: Path
    groups: tuple[Name, ...] = ()
    attributes: dict[Name, Name] = {}
    inherits: bool = True


class RuleDocument(Part):
    """Access rules of one account, as Open Latch writes and reads them."""

    form: Literal["open-latch-rules-1"]
    rules: tuple[RulePart, ...] = ()
    guards: tuple[GuardPart, ...] = ()
    resources: tuple[PlannedPart, ...] = ()


def schema() -> JsonObject:
    """The JSON Schema (2020-12) of the form."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **RuleDocument.model_json_schema(by_alias=True)}
