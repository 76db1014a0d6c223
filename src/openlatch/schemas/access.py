"""Who can do what: at any instant, between two, and after changes that are only supposed."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal
from uuid import UUID

from pydantic import Field

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Holder, Instant, Named, Request
from openlatch.schemas.grants import GrantRow, PermissionOf
from openlatch.schemas.latches import Breach, SetLatch
from openlatch.schemas.offers import OpenOffer

__all__ = [
    "AccessShift",
    "Calendar",
    "Difference",
    "DifferenceQuery",
    "EndOf",
    "EndsQuery",
    "HolderRef",
    "Hop",
    "Matrix",
    "MatrixRow",
    "Mine",
    "MineReach",
    "MyAccount",
    "MyHolder",
    "MySettings",
    "Path",
    "Paths",
    "Question",
    "RightUsed",
    "RiskCell",
    "RiskMap",
    "Suppose",
    "Supposed",
    "SupposedChange",
    "UseOf",
    "UseQuery",
    "WhoCan",
]


class Question(Request):
    """About which instant, as believed when; perhaps about one permission, on one resource."""

    at: Instant | None = Field(None, description="The instant asked about; left out, now.")
    believed: Instant | None = Field(None, description="As it was known at this instant; left out, as it is now.")
    permission: str = Field("", max_length=200, description="Only paths that give this permission.")
    resource: UUID | None = Field(None, description="Only paths that reach this resource.")
    shortest: bool = Field(False, description="Only the shortest path of each.")
    limit: int | None = Field(None, ge=1, description="So many paths at most, the shortest first; left out, all.")


class WhoCan(Question):
    """A person and an account."""

    person: UUID
    account: UUID


class DifferenceQuery(Request):
    """Two instants, as believed when."""

    one: Instant
    other: Instant
    believed: Instant | None = None


class MatrixRow(Answer):
    """Somebody who can act in an account, and what they can do on the whole of it or on a part."""

    holder: Holder
    owner: bool
    whole: list[str]
    partly: list[str]


class Matrix(Answer):
    """Everyone who can act in an account against everything that can be done there."""

    permissions: list[PermissionOf]
    rows: list[MatrixRow]


class AccessShift(Answer):
    """What becomes of somebody's rights in an account."""

    holder: Holder
    account: Named
    gained: list[PermissionOf]
    lost: list[PermissionOf]
    owned_before: bool
    owns_now: bool
    last_path_lost: bool
    first_path_gained: bool
    paths_before: list[Said]
    paths_after: list[Said]


class Difference(Answer):
    """Whose rights differ, and how."""

    shifts: list[AccessShift]


class HolderRef(Request):
    """A holder by kind and id."""

    kind: Literal["person", "team", "app", "account"]
    id: UUID


class SupposedChange(Request):
    """One change that is only supposed."""

    kind: Literal["give", "end", "suspend", "resume", "level", "join", "leave", "left", "back", "owner", "latch"] = (
        Field(examples=["end"])
    )
    grant: UUID | None = None
    account: UUID | None = None
    holder: HolderRef | None = None
    level: UUID | None = None
    until: Instant | None = None
    team: UUID | None = None
    person: UUID | None = None
    latch: SetLatch | None = None


class Suppose(Request):
    """Changes that are only supposed, made one after the other."""

    changes: list[SupposedChange] = Field(min_length=1, max_length=100)


class Supposed(Answer):
    """What the changes would do. Nothing was changed."""

    shifts: list[AccessShift]
    last_path_lost: int
    breaches: list[Breach]


class RiskCell(Answer):
    """A place on the map: how dangerous, how long unused, and how many grants there."""

    danger: int
    idle: int
    count: int


class RiskMap(Answer):
    """All live grants by how dangerous they are and how long they went unused; a filter for each place."""

    dangers: list[Said]
    idles: list[Said]
    cells: list[RiskCell]
    danger_filters: list[str]
    idle_filters: list[str]


class UseQuery(Request):
    """Over how many days."""

    days: int = 180


class RightUsed(Answer):
    """A permission of a grant, and its use."""

    key: str
    sentence: Said
    days_used: int
    last_used: date | None
    within: bool


class UseOf(Answer):
    """Use of a grant, and the smallest level that would have covered it."""

    days: int
    last_used_at: datetime | None
    days_used: int
    watched_since: date | None
    longest_pause: int | None
    rights: list[RightUsed]
    level: Named | None
    gives_up: list[str]
    sure: int = Field(description="How sure that is, 0 to 100 percent.")
    words: Said


class EndsQuery(Request):
    """From which day, for how many months."""

    since: Instant | None = None
    months: int = Field(3, ge=1, le=24)


class EndOf(Answer):
    """What ends on a day."""

    day: str
    grants: int
    people: int
    offers: int
    rounds: int
    names: list[str]


class Calendar(Answer):
    """What ends day by day."""

    since: datetime
    until: datetime
    days: list[EndOf]


class Hop(Answer):
    """One step of a path, in words."""

    kind: str
    holder: Holder
    words: Said
    grant_id: UUID | None


class Path(Answer):
    """One way from a holder to an account."""

    holder: Holder
    account: Named
    owns: bool
    level: str
    sentence: Said
    reach: int
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    open_now: bool
    revoking: bool
    left: bool = Field(description="The holder has left; the system may let them in all the same.")
    words: Said
    hops: list[Hop]
    grant_id: UUID | None
    given_by: str | None
    recorded_by: str | None = Field(description="Who wrote down by hand that the grant exists.")
    given_at: datetime | None
    last_used_at: datetime | None
    recorded: bool
    owed: str | None = Field(description="What its system still has to be brought to: give, change or take.")
    part: str | None = Field(None, description="The part of the account that it is limited to.")
    hours: Said = Field("", description="The hours of the week in which it holds.")


class Paths(Answer):
    """By which paths somebody can act; none when they can't.

    Whoever has left can't by the register; the paths that their systems may still let them in by are marked ``left``.
    """

    can: bool
    paths: list[Path]
    count: int = Field(description="How many paths there are, also those left out by a limit.")
    ended: list[str] = Field(description="Access that ended here, where nothing shows that it is gone.")


class MineReach(Path):
    """A path of one's own; ``own`` when it is a grant that one can give up oneself."""

    own: bool


class MyHolder(Answer):
    """Somebody who can reach an account of one's own."""

    kind: str
    id: UUID
    name: str
    reach: int
    levels: list[str]
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")


class MyAccount(Answer):
    """An account of one's own, with everybody who can reach it."""

    account: Named
    holders: list[MyHolder]


class MySettings(Answer):
    """How one is set."""

    address: str | None
    address_confirmed_at: datetime | None
    second_factor: bool
    refuses_offers: bool


class Mine(Answer):
    """What I can reach, and who can reach mine."""

    reach: list[MineReach]
    not_in_force: list[GrantRow] = Field(description="Grants of my own that give nothing now.")
    mine: list[MyAccount]
    offers: list[OpenOffer]
    settings: MySettings
