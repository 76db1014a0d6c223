"""What is sent to the service."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date, datetime
from typing import Annotated, Literal
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

__all__ = [
    "AcceptFlag",
    "AcceptFlags",
    "AssignFlags",
    "DoneByHand",
    "FileForm",
    "ImportOptions",
    "ListOptions",
    "MakeToken",
    "Revoke",
    "RevokeWish",
    "SignInWith",
    "VerifyOptions",
]

Sentence = Annotated[str, StringConstraints(max_length=2000, strip_whitespace=True)]


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


class Request(BaseModel):
    """A request says nothing that is not asked for."""

    model_config = ConfigDict(extra="forbid")


class ListOptions(Request):
    """What to see of a list."""

    filter: str = Field("", description="A filter by RFC 7644 section 3.4.2.2.", examples=['state eq "active"'])
    search: str = Field("", max_length=200, description="Words that have to occur.")
    sort: str = Field("", description="An attribute to sort by, with - before it for the other way round.")
    limit: int = Field(50, description="How many rows, 1 to 500.")
    cursor: str = Field("", description="Where to go on, from the answer before.")
    count: bool = Field(False, description="Whether to count all that match.")


class SignInWith(Request):
    """An address and a password."""

    address: str = Field(max_length=320, examples=["ines.calder@hollinfell.example.org"])
    password: str = Field(max_length=1024)
    code: str = Field("", max_length=20, description="The code of the second factor, for whoever has one.")
    organisation: str = Field("", max_length=40, description="Its short name, for whoever is at several.")


class MakeToken(SignInWith):
    """A token for programs, by address and password."""

    name: Sentence = Field("command line", examples=["nightly report"])
    scope: Literal["read", "write"] = "write"


class RevokeWish(Request):
    """What to end, or the one grant to trim."""

    grants: list[UUID] = Field(default_factory=list, max_length=1000)
    sessions: list[UUID] = Field(default_factory=list, max_length=1000)
    trim_level: UUID | None = Field(None, description="The lower level that a trim leaves.")
    trim_until: Instant | None = Field(None, description="The earlier end that a trim sets.")


class Revoke(RevokeWish):
    """What to end or trim, why, and which preview was seen."""

    reason: Sentence = Field(examples=["The survey is over."])
    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class DoneByHand(Request):
    """What was done by hand, and what was seen."""

    proof: Sentence = Field(examples=["Removed in the mail console; the list shows two members now."])


class AcceptFlag(Request):
    """Why flags are accepted, and until when."""

    reason: Sentence = Field(examples=["Back from parental leave in May."])
    until: Instant


class AcceptFlags(AcceptFlag):
    """The same for several."""

    flags: list[UUID] = Field(min_length=1, max_length=1000)


class AssignFlags(Request):
    """Who sees to flags; nobody when left out."""

    flags: list[UUID] = Field(min_length=1, max_length=1000)
    person: UUID | None = None


class ImportOptions(Request):
    """How a file is brought."""

    form: Literal["csv", "jsonl"] = "csv"
    keep_good: bool = Field(False, description="Keep the good lines when there are bad ones.")
    try_only: bool = Field(False, description="Check, and keep nothing.")
    matching: str = Field(
        "",
        max_length=20_000,
        examples=['{"E-mail": "address"}'],
        description="Which columns are which fields, as a JSON object; left out, they are called as the fields are.",
    )
    keep_matching: bool = Field(False, description="Keep the matching for files with the same columns.")


class FileForm(Request):
    """What form a file has."""

    form: Literal["csv", "jsonl"] = "csv"
    matching: str = Field("", max_length=20_000)


class VerifyOptions(Request):
    """A position and hash noted earlier, to find out whether the journal's end was cut off."""

    position: int | None = None
    hash: str = ""
