"""Connecting systems: what an adapter has to be told, trials, and systems as they are kept."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.schemas.answers import Answer
from openlatch.schemas.records import Dependent
from openlatch.schemas.requests import Request

__all__ = ["AdapterOf", "Adapters", "ChangeSystem", "MakeSystem", "SystemRecord", "SystemTrial", "TrySystem"]

Name = Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]


class AdapterSetting(Answer):
    """One thing that an adapter has to be told; without a usual value it has to be given."""

    name: str
    about: str
    usual: str | int | None


class AdapterOf(Answer):
    """A kind of system with an adapter, as the adapter says."""

    kind: str
    name: str
    needs_secret: bool
    rights: list[str] = Field(description="What Open Latch's login has to be allowed there.")
    settings: list[AdapterSetting]


class Adapters(Answer):
    """Every kind of system with an adapter."""

    adapters: list[AdapterOf]


class TrySystem(Request):
    """How a system is to be reached. The secret is write-only: it is sealed for the worker."""

    kind: Annotated[str, StringConstraints(max_length=40)]
    settings: dict[Annotated[str, StringConstraints(max_length=60)], str | int] = Field(
        default_factory=dict, max_length=40
    )
    secret: Annotated[str, StringConstraints(max_length=20_000)] | None = Field(
        None, description="The password or key of Open Latch's login; left out, the one that the system has."
    )
    system: UUID | None = Field(None, description="The system that is connected already, and reached otherwise.")


class SystemTrial(Answer):
    """What came of a trial: waiting, good or refused, and in which words."""

    id: UUID
    state: str
    answer: str
    accounts: int | None
    grants: int | None


class MakeSystem(Request):
    """A system: one that was tried and answered, or without a trial one that people look after by hand."""

    name: Name
    trial: UUID | None = None


class ChangeSystem(Request):
    """Another name, or another way to reach it, as a trial has shown to work."""

    name: Name | None = None
    trial: UUID | None = None


class SystemRecord(Answer):
    """A system as it is kept: how it is reached, without its secret."""

    id: UUID
    name: str
    kind: str
    settings: dict[str, str | int]
    has_secret: bool
    paused_at: datetime | None
    archived_at: datetime | None
    version: int
    dependents: list[Dependent]
