"""The first set-up, and mail settings."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field, StringConstraints

from openlatch.schemas.answers import Answer
from openlatch.schemas.requests import Request

__all__ = ["MailSettings", "SetMail", "SetOrganisation", "SetUp", "SetUpState"]

Line = Annotated[str, StringConstraints(max_length=200, strip_whitespace=True)]


class SetUpState(Answer):
    """Whether the service is to be set up: there is no organisation yet."""

    needed: bool


class SetUp(Request):
    """The code that the start printed, the organisation, and its first administrator."""

    code: Annotated[str, StringConstraints(max_length=60)] = Field(examples=["k7fw-2mqp-x9da"])
    organisation: Line
    time_zone: Annotated[str, StringConstraints(max_length=60)] = Field(examples=["Europe/London"])
    name: Line
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
    test_answer: str
    test_at: datetime | None


class SetMail(Request):
    """Which server mail goes through. A password that is left out stays as it is."""

    host: Annotated[str, StringConstraints(max_length=253, strip_whitespace=True)] = ""
    port: int = Field(587, ge=1, le=65535)
    user: Line = ""
    password: Annotated[str, StringConstraints(max_length=1024)] | None = None
    sender: Annotated[str, StringConstraints(max_length=320, strip_whitespace=True)] = ""
    starttls: bool = True
