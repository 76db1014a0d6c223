"""Accounts, their resources, and apps."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from openlatch.languages.marks import Said
from openlatch.schemas.access import Path
from openlatch.schemas.base import Answer, Named, Request, SystemOf
from openlatch.schemas.grants import GrantRow

__all__ = [
    "AccountPage",
    "AccountRow",
    "AppPage",
    "AppRow",
    "Coverage",
    "GroupRow",
    "OtherDelegate",
    "PartOf",
    "ResourceRow",
    "SetAccount",
]


class AccountRow(Named):
    """An account in a list."""

    kind: str
    purpose: str
    sensitivity: int
    time_zone: str
    system: SystemOf
    owner: Named | None
    grants: int
    holders: int = Field(description="How many people, teams, apps and accounts share it.")
    sessions: int
    open_flags: int
    emergency_hours: int | None
    is_closed: bool = Field(description="Whether nobody can be given anything on it.")
    archived: bool
    payer: str | None = Field(description="Who pays for it.")
    paid_until: datetime | None
    version: int


class PartOf(Named):
    """A resource, or a group of them, with how many share it."""

    kind: str
    group: bool
    public: bool
    resources: int
    holders: int


class OtherDelegate(Answer):
    """Somebody else who can act in an account."""

    name: str
    reach: int
    owns: bool


class Coverage(Answer):
    """What the last reading looked at, and what exists in such a system that it did not look at, with why."""

    looked_at: list[Said] = Field(default_factory=list)
    not_looked_at: list[Said] = Field(default_factory=list)
    unknown: list[Said] = Field(default_factory=list, description="Of that, what it could not see.")


class AccountPage(AccountRow):
    """An account with everyone and everything that can reach it."""

    answers_for: bool = Field(description="Whether you answer for it; if not, only your own paths are here.")
    paths: list[Path] = Field(description="The first 500, the shortest and farthest reaching first.")
    path_count: int = Field(description="How many paths there are in all.")
    holder_count: int = Field(description="How many people and apps they start from.")
    app_count: int = Field(description="How many of those are apps.")
    not_in_force: list[GrantRow] = Field(description="Grants that give nothing now.")
    parts: list[PartOf] = Field(description="Its resources and groups.")
    others: list[OtherDelegate] = Field(description="Who else is there, for a delegate who is inside.")
    prerequisites: list[str]
    coverage: Coverage
    partial_since: datetime | None = Field(description="Since when readings could not understand all of it.")


class AppRow(Named):
    """A connected app in a list."""

    publisher: str
    home_page: str
    purpose: str
    links: int
    last_used_at: datetime | None
    open_flags: int
    archived: bool
    version: int


class AppPage(AppRow):
    """An app with its links, each a grant on an account."""

    grants: list[GrantRow]


class ResourceRow(Named):
    """A part of an account that can be shared alone."""

    key: str | None
    kind: str
    public: bool
    account: Named
    holders: int
    archived: bool
    version: int


class GroupRow(Named):
    """Resources of one account that are given together."""

    account: Named
    resources: str | None = Field(description="The names of the resources in it.")
    archived: bool
    version: int


class SetAccount(Request):
    """How access to an account is given."""

    emergency_hours: int | None = Field(None, ge=1, le=168, description="None: opens to nobody in an emergency.")
    prerequisites: list[Literal["confirmed_address", "second_factor"]] = Field(default_factory=list)
