"""Latches."""

from __future__ import annotations

from typing import Literal
from uuid import UUID

from pydantic import Field

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Key, Named, Request, ShortText

__all__ = [
    "Breach",
    "LatchBroken",
    "LatchKindWord",
    "LatchPreview",
    "LatchRow",
    "LatchState",
    "SetLatch",
]


LatchKindWord = Literal[
    "most_delegates",
    "one_at_a_time",
    "no_outsiders",
    "no_spend_outside",
    "ends_within",
    "two_stewards",
    "second_factor",
    "unseen",
    "nothing_public",
    "never_together",
    "payer_stays",
]


class Breach(Answer):
    """That something breaks a latch: which, the fact, and what would pass."""

    latch: Said = Field(examples=["At most 3 delegates"])
    kind: str
    mode: str
    fact: Said
    remedy: Said


class SetLatch(Request):
    """A latch, on one account or on all accounts of a kind."""

    kind: LatchKindWord
    mode: Literal["off", "warn", "hold"]
    account: UUID | None = None
    account_kind: ShortText | None = None
    number: int | None = Field(None, ge=1, le=10_000)
    pair: list[Key] = Field(default_factory=list, max_length=2)


class LatchBroken(Answer):
    """The breaches in one account."""

    account: Named
    breaches: list[Breach]


class LatchPreview(Answer):
    """What breaks a latch as things are."""

    latch: str
    accounts: int
    broken: list[LatchBroken]


class LatchRow(Answer):
    """A latch in a list."""

    id: UUID
    kind: str
    mode: str
    number: int | None
    pair: list[str]
    account: Named | None
    account_kind: str | None


class LatchState(Answer):
    """A latch of one account: how it is set, and what breaks it."""

    kind: str
    mode: str
    number: int | None
    pair: list[str]
    words: Said
    of_kind: bool
    broken: list[str]
