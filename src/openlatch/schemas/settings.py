"""Settings of the organisation, and its first set-up."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Request, ShortText

__all__ = [
    "MailSettings",
    "SetMail",
    "SetOrganisation",
    "SetSettings",
    "SetUp",
    "SetUpState",
    "Settings",
    "ShortLine",
]


WhenDeactivated = Literal["ask", "at_once"]


class Settings(Answer):
    """How the organisation gives access."""

    offer_hours: int
    inside_domains: list[str]
    prerequisites: list[str]
    auditors: list[str] = Field(description="Addresses that signed heads of the journal are mailed to, once a day.")
    remind_days: list[int] = Field(description="So many days before access ends, people are told.")
    keep_left_months: int | None = Field(
        description="For so many months after leaving what identifies people is kept; absent for ever."
    )
    when_deactivated: WhenDeactivated = Field(
        description="What happens to the access of somebody whom a directory deactivates: it is ended at once, or "
        "administrators are asked."
    )


class SetSettings(Request):
    """How the organisation gives access."""

    offer_hours: int = Field(48, ge=1, le=2160)
    inside_domains: list[ShortText] = Field(default_factory=list, max_length=50)
    prerequisites: list[Literal["confirmed_address", "second_factor"]] = Field(default_factory=list)
    auditors: list[ShortText] | None = Field(
        None,
        max_length=20,
        description="Addresses that signed heads of the journal are mailed to; left out, as before.",
    )
    remind_days: list[Annotated[int, Field(ge=1, le=90)]] | None = Field(
        None, max_length=5, description="So many days before access ends, people are told; left out, as before."
    )
    keep_left_months: int | None = Field(
        None,
        ge=0,
        le=240,
        description="For how many months after leaving what identifies people is kept; 0 for ever; "
        "left out, as before.",
    )
    when_deactivated: WhenDeactivated | None = Field(
        None, description="What happens to the access of somebody whom a directory deactivates; left out, as before."
    )


ShortLine = Annotated[str, StringConstraints(max_length=200, strip_whitespace=True)]


class SetUpState(Answer):
    """Whether the service is to be set up: there is no organisation yet."""

    needed: bool


class SetUp(Request):
    """The code that the start printed, the organisation, and its first administrator."""

    code: Annotated[str, StringConstraints(max_length=60)] = Field(examples=["k7fw-2mqp-x9da"])
    organisation: ShortLine
    time_zone: Annotated[str, StringConstraints(max_length=60)] = Field(examples=["Europe/London"])
    name: ShortLine
    address: Annotated[str, StringConstraints(max_length=320)]
    password: Annotated[str, StringConstraints(max_length=1024)]


class SetOrganisation(Request):
    """The organisation's name and time zone."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]
    time_zone: Annotated[str, StringConstraints(min_length=1, max_length=60)]


class MailSettings(Answer):
    """Which server mail goes through, and what came of the last message."""

    host: str = Field(description="Empty: as the worker's configuration says.")
    port: int
    user: str
    sender: str
    starttls: bool
    has_password: bool
    by_configuration: bool = Field(description="Whether the worker's configuration counts, since nothing is set.")
    test_state: str = Field(description="What became of the last test message; empty without one.")
    test_answer: Said
    test_at: datetime | None


class SetMail(Request):
    """Which server mail goes through. A password that is left out stays as it is."""

    host: Annotated[str, StringConstraints(max_length=253, strip_whitespace=True)] = ""
    port: int = Field(587, ge=1, le=65535)
    user: ShortLine = ""
    password: Annotated[str, StringConstraints(max_length=1024)] | None = None
    sender: Annotated[str, StringConstraints(max_length=320, strip_whitespace=True)] = ""
    starttls: bool = True
