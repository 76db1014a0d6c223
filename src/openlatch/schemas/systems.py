"""Systems: how they are connected and read, whose logins they show, tasks by hand."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.languages.marks import Said
from openlatch.schemas.accounts import Coverage
from openlatch.schemas.base import Answer, Name, Named, Request, Sentence
from openlatch.schemas.records import Dependent

__all__ = [
    "AdapterOf",
    "AdapterSetting",
    "Adapters",
    "Candidate",
    "ChangeSystem",
    "DecideDoubt",
    "Doubt",
    "Doubts",
    "MakeSystem",
    "ReadOptions",
    "SetMatching",
    "SetReading",
    "SystemRecord",
    "SystemRow",
    "SystemTrial",
    "TaskAssign",
    "TaskDone",
    "TaskRow",
    "TrySystem",
]


class SystemRow(Named):
    """A system: when it was read, with what outcome, and since when it has not answered."""

    key: str | None
    kind: str
    read_at: datetime | None
    down_since: datetime | None
    answer: Said
    read_every: int = Field(description="In minutes.")
    archived: bool
    paused_at: datetime | None
    version: int
    next_read_at: datetime | None
    reading_since: datetime | None
    reading_seen: int
    accounts: int
    handles: int
    unrecorded: int
    missing: int
    changed: int
    doubts: int
    matching: list[tuple[str, bool]]
    coverage: Coverage


class ReadOptions(Request):
    """How a system is read."""

    fully: bool = Field(False, description="Also what it says has not changed since the last read.")


class SetReading(Request):
    """How often a system is read."""

    read_every: int = Field(description="In minutes, 1 to 10080.", examples=[30])


class SetMatching(Request):
    """By what people are told in a system, in this order."""

    matching: list[tuple[Literal["address", "employee", "fingerprint", "uid", "name"], bool]] = Field(
        description="Marks, each with whether it is enough alone; otherwise somebody is asked. Empty for the usual.",
        examples=[[["employee", True], ["name", False]]],
        max_length=5,
    )


class Candidate(Named):
    """Somebody who may be meant by a login, and by which mark."""

    address: str | None
    job: str
    by: str


class Doubt(Answer):
    """A login that may be somebody's, with who: a person has to say."""

    id: UUID
    login: str
    called: str
    system: Named
    marks: dict[str, str]
    locked: bool
    grants: int
    candidates: list[Candidate]


class Doubts(Answer):
    """All of them."""

    doubts: list[Doubt]


class DecideDoubt(Request):
    """Who it is; nobody whom the register knows when left out."""

    person: UUID | None = None


class TaskRow(Answer):
    """Something to be done by hand in a system that nobody here can change."""

    id: UUID
    state: Literal["open", "done", "dropped"]
    kind: Literal["give", "change", "take"]
    sentence: Said
    account: Named
    system: Named
    holder: str | None
    grant_id: UUID
    assigned_to: Named | None
    asked_at: datetime
    reminded_at: datetime | None
    done_at: datetime | None
    done_by: str = Field(description="Whose word it is that it is done.")
    words: str
    version: int


class TaskDone(Request):
    """What one did, in one's own words."""

    words: Sentence


class TaskAssign(Request):
    """Who does it; nobody: whoever answers for the account."""

    person: UUID | None = None


class AdapterSetting(Answer):
    """One thing that an adapter has to be told; without a usual value it has to be given."""

    name: str
    about: Said
    usual: str | int | None


class AdapterOf(Answer):
    """A kind of system with an adapter, as the adapter says."""

    kind: str
    name: str
    needs_secret: bool
    rights: list[Said] = Field(description="What Open Latch's login has to be allowed there.")
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
    answer: Said
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
