"""What a rule is told. Everything comes from the register; nothing is asked for on the side."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from openlatch.core.latches import Breach
from openlatch.core.words import GrantState, HolderKind, Reach, Standing


class GrantFacts(NamedTuple):
    """One grant with what the rules look at. Named tuples, since a million of them are read in a row."""

    id: UUID
    account_id: UUID
    account: str
    sensitivity: int
    holder_kind: HolderKind
    holder_id: UUID
    holder: str
    inside: bool
    standing: Standing
    left_at: datetime | None
    state: GrantState
    level: str
    reach: Reach
    given_at: datetime
    given_by: str | None
    giver_left_at: datetime | None
    until: datetime | None
    last_used_at: datetime | None
    recorded: bool
    system: str
    left_undecided_at: datetime | None = None


class SessionFacts(NamedTuple):
    """One session with what the rules look at."""

    id: UUID
    account_id: UUID
    account: str
    sensitivity: int
    holder_kind: HolderKind
    holder_id: UUID
    holder: str
    inside: bool
    started_at: datetime
    last_seen_at: datetime
    device: str


class AccountFacts(NamedTuple):
    """One account with what breaks its latches, and how far the access in it goes."""

    id: UUID
    account_id: UUID
    account: str
    sensitivity: int
    holder_id: UUID
    breaches: Sequence[Breach]
    reach: Reach
