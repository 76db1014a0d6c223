"""Reviews: who decides an item, what a decision may say, and how far a round is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from openlatch.core.words import HolderKind, Reach, Verdict
from openlatch.errors import BadInput, Conflict, NotAllowed

SHORTEST_REASON = 3


@dataclass(frozen=True, slots=True)
class Undecided:
    """What deciding needs to know of an item."""

    holder_kind: HolderKind
    holder_id: UUID
    given_by: UUID | None
    reach: Reach
    until: datetime | None
    reviewer: UUID | None
    open_high_flags: int


@dataclass(frozen=True, slots=True)
class Choice:
    """A decision as somebody wants to make it."""

    verdict: Verdict
    reason: str
    level_reach: Reach | None = None
    until: datetime | None = None


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a round is."""

    items: int
    decided: int
    kept: int
    trimmed: int
    revoked: int

    @property
    def undecided(self) -> int:
        """How many still wait."""
        return self.items - self.decided


def assign(item: Undecided, owner: UUID | None, named: UUID | None) -> UUID | None:
    """The reviewer of an item: whoever was named, else the account's owner; nobody for their own access.

    None means that an administrator has to take it.
    """
    for candidate in (named, owner):
        if candidate is not None and not _is_own(item, candidate):
            return candidate
    return None


def _is_own(item: Undecided, person: UUID) -> bool:
    return item.holder_kind is HolderKind.PERSON and item.holder_id == person


def refuse_unfit(item: Undecided, choice: Choice, decider: UUID | None, now: datetime) -> None:
    """Raise when this decision can't be made: by this person, or in this form.

    NotAllowed for one's own access; BadInput for a missing reason or a trim that does not take anything away.
    """
    if decider is not None and _is_own(item, decider):
        raise NotAllowed("Nobody decides on their own access.", "Pass the item on to another reviewer.")
    needs_reason = choice.verdict is not Verdict.KEEP or item.open_high_flags > 0
    if needs_reason and len(choice.reason.strip()) < SHORTEST_REASON:
        why = "a keep against an open flag" if choice.verdict is Verdict.KEEP else f"a decision to {choice.verdict}"
        raise BadInput(
            f"There has to be a reason for {why}.",
            "Say in a few words why.",
            {"reason": "is missing"},
        )
    if choice.verdict is Verdict.TRIM:
        _refuse_unfit_trim(item, choice, now)
    elif choice.level_reach is not None or choice.until is not None:
        raise BadInput("Only a trim names a level or an end.", "Leave both out, or decide to trim.")


def _refuse_unfit_trim(item: Undecided, choice: Choice, now: datetime) -> None:
    if choice.level_reach is None and choice.until is None:
        raise BadInput("A trim needs a lower level or an earlier end.", "Give trim_level, trim_until or both.")
    if choice.level_reach is not None and choice.level_reach > item.reach:
        raise BadInput(
            "That level goes further than the present one.",
            "Choose a level that reaches less far.",
            {"trim_level": "gives more than there is now"},
        )
    if choice.until is not None and (choice.until <= now or (item.until is not None and choice.until >= item.until)):
        raise BadInput(
            "That end is not earlier than the present one, or it has passed.",
            "Choose a day between today and the present end, or revoke.",
            {"trim_until": "does not shorten the time"},
        )


def refuse_close(progress: Progress, closed: bool) -> None:
    """Raise Conflict when a round can't be closed: it is closed, or items are undecided."""
    if closed:
        raise Conflict("The round is closed; nothing in it can change.", "Open a new round.")
    if progress.undecided:
        raise Conflict(
            f"{progress.undecided} of {progress.items} items are undecided.",
            "Decide them, or close the round saying what becomes of them (undecided: keep or revoke).",
        )


def count(verdicts: Sequence[Verdict | None]) -> Progress:
    """The progress that these decisions (None: undecided) make."""
    decided = [v for v in verdicts if v is not None]
    return Progress(
        len(verdicts),
        len(decided),
        decided.count(Verdict.KEEP),
        decided.count(Verdict.TRIM),
        decided.count(Verdict.REVOKE),
    )
