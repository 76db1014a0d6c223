"""What all rooms share: the base of requests and answers, names, times and words."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date, datetime
from typing import Annotated, Generic, Literal, TypeVar
from uuid import UUID

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    NaiveDatetime,
    StringConstraints,
)

from openlatch.instants import FIRST_YEAR, bounded, in_bounds
from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said

__all__ = [
    "AccountOf",
    "Address",
    "Answer",
    "Ceremony",
    "ClockTime",
    "Day",
    "Done",
    "Holder",
    "Instant",
    "Key",
    "Name",
    "Named",
    "Problem",
    "Proof",
    "Request",
    "Row",
    "Rows",
    "Sentence",
    "ShortText",
    "Subject",
    "SystemOf",
    "WithProof",
    "Words",
]


Row = TypeVar("Row", bound=BaseModel)


class Answer(BaseModel):
    """Answers may grow: a client reads what it knows and leaves the rest."""

    model_config = ConfigDict(extra="ignore", defer_build=True)


class Ceremony(Answer):
    """How a browser is asked for a passkey (W3C Web Authentication). Its answer is sent back with the state."""

    options: JsonObject = Field(description="PublicKeyCredential options, as JSON.")
    state: str = Field(description="Sealed; counts once, for five minutes.")


class Problem(Answer):
    """A problem document by RFC 9457."""

    type: str = Field(examples=["urn:openlatch:problem:conflict"])
    title: Said = Field(examples=["Not possible as things stand"])
    status: int = Field(examples=[409])
    detail: Said = Field(examples=["The grant is ended and can't be revoked now."])
    remedy: Said = Field("", description="What to do about it.")
    fields: dict[str, Said] = Field(default_factory=dict, description="The parts at fault, each with its reason.")
    breaches: list[dict[str, Said]] = Field(default_factory=list, description="The latches that hold, and why.")
    passkey: Ceremony | None = Field(
        None, description="How to ask for a passkey in place of a code, where there is one."
    )
    request_id: str = Field("", description="The request, as the service's log names it; also in X-Request-Id.")


class Done(Answer):
    """It was done."""

    done: bool = True


class Named(Answer):
    """Something by its id and name."""

    id: UUID
    name: str


class Holder(Answer):
    """Whoever a grant is for."""

    kind: str
    id: UUID
    name: str | None = None
    inside: bool | None = None
    standing: str | None = None


class AccountOf(Named):
    """The account that something is about."""

    sensitivity: int | None = None
    kind: str | None = None


class SystemOf(Answer):
    """The system that something is in."""

    id: UUID | None = None
    name: str | None = None
    kind: str


class Rows(Answer, Generic[Row]):
    """Some rows of a list, and the cursor of the next ones (empty at the end)."""

    rows: list[Row]
    next: str = ""
    count: int | None = None


Proof = Literal["confirmed", "stated", "unproved", "contradicted"]


class WithProof(Answer):
    """How an end is known; without a proof while it goes on, and for what never was there."""

    proof: Proof | None = Field(
        description="confirmed: the system was asked again and shows it gone. stated: a named person says so. "
        "unproved: nothing shows it. contradicted: a later reading shows it."
    )
    proved_at: datetime | None = Field(description="Since when that is known.")
    proved_by: str = Field(description="The system or the person by whom it is known.")
    proof_words: str = Field(description="What they answered or said.")


class Subject(Answer):
    """What a flag was raised on."""

    kind: str
    id: UUID


ShortText = Annotated[str, StringConstraints(max_length=320, strip_whitespace=True)]


Key = Annotated[str, StringConstraints(max_length=200, strip_whitespace=True)]


Sentence = Annotated[str, StringConstraints(max_length=2000, strip_whitespace=True)]


class Request(BaseModel):
    """A request says nothing that is not asked for."""

    model_config = ConfigDict(extra="forbid", defer_build=True)


class Words(Request):
    """A word about why."""

    words: Sentence = ""


Name = Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]


Address = Annotated[str, StringConstraints(max_length=320, strip_whitespace=True)]


def _read(given: object, read: Callable[[str], object]) -> object:
    """A day or an instant as it is written (RFC 3339): never a number, which could be anything."""
    if not isinstance(given, (str, int, float)):
        return given
    if re.match(r"\d{4}-\d{2}-\d{2}", str(given).strip()) is None:
        raise ValueError("has to be written as 2026-03-31, or 2026-03-31T18:00:00Z for an instant")
    return read(str(given).strip())


def _instant(given: object) -> object:
    return _read(given, datetime.fromisoformat)


def _day(given: object) -> object:
    return _read(given, date.fromisoformat)


def _not_too_early(day: date) -> date:
    if day.year < FIRST_YEAR:
        raise ValueError(f"lies before {FIRST_YEAR}")
    return day


# Instants from 1970 to 2199: everything else would not survive being shown in every time zone.
Instant = Annotated[AwareDatetime, BeforeValidator(_instant), AfterValidator(bounded)]


# The same by the clock of a place.
ClockTime = Annotated[NaiveDatetime, BeforeValidator(_instant), AfterValidator(in_bounds)]


# A last day; from 2200 on it means that there is none.
Day = Annotated[date, BeforeValidator(_day), AfterValidator(_not_too_early)]
