"""Which few actions take away most risk: weighted cover of open flags by what each action would clear.

The risk of a flag depends on its severity: each step counts three times the one below. The cost of an action is its
effort, more where it is hard to take back or may take away something that is needed. Actions are chosen greedily, by
the risk that they newly clear for their cost. That clears everything that can be cleared at no more than
H(R) = 1 + 1/2 + … + 1/R times the least possible cost, where R is the most risk that one action clears
(V. Chvátal, A Greedy Heuristic for the Set-Covering Problem, 1979).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from heapq import heapify, heappop, heappush
from uuid import UUID

from openlatch.core.vocabulary import Severity

RISK = {Severity.LOW: 1, Severity.MEDIUM: 3, Severity.HIGH: 9, Severity.CRITICAL: 27}


class ActionKind(StrEnum):
    """What can be done about flags."""

    END = "end"
    TRIM = "trim"
    SET_END = "set_end"
    END_SESSIONS = "end_sessions"
    HAND_OVER = "hand_over"
    IDENTIFY = "identify"
    CLOSE_EXPOSURES = "close_exposures"
    REVIEW = "review"
    RECORD = "record"
    ACCEPT = "accept"


# Effort, from a click to work with others. Accepting is dear: it answers for a risk, and takes none away.
EFFORT = {
    ActionKind.END: 2,
    ActionKind.TRIM: 2,
    ActionKind.SET_END: 2,
    ActionKind.END_SESSIONS: 1,
    ActionKind.HAND_OVER: 3,
    ActionKind.IDENTIFY: 2,
    ActionKind.CLOSE_EXPOSURES: 3,
    ActionKind.REVIEW: 4,
    ActionKind.RECORD: 2,
    ActionKind.ACCEPT: 24,
}


@dataclass(frozen=True, slots=True)
class Doubts:
    """What makes an action dearer than its effort.

    ``used``: what it takes away was used lately. ``last_path``: somebody loses their last path into an account.
    ``by_hand``: people have to carry it out. ``asks``: somebody else has to agree. ``raises`` is the risk of flags that
    it would raise.
    """

    used: bool = False
    last_path: bool = False
    by_hand: bool = False
    asks: bool = False
    raises: int = 0


@dataclass(frozen=True, slots=True)
class Candidate:
    """An action on a subject, and the open flags that it would clear, by running the rules."""

    kind: ActionKind
    subject: UUID
    clears: frozenset[UUID]
    doubts: Doubts = Doubts()

    @property
    def key(self) -> str:
        """What names it, also after it was worked out again."""
        return f"{self.kind}.{self.subject}"

    @property
    def cost(self) -> Fraction:
        """Its effort, with what makes it dearer."""
        dearer = 3 * self.doubts.used + self.doubts.last_path + self.doubts.by_hand + self.doubts.asks
        return Fraction(EFFORT[self.kind] * (2 + dearer), 2) + Fraction(self.doubts.raises, 3)


@dataclass(frozen=True, slots=True)
class Chosen:
    """An action in its turn: the flags that it clears and no earlier one does, their risk, and the risk left then."""

    candidate: Candidate
    clears: frozenset[UUID]
    risk: int
    left: int


def risk_of(severity: int) -> int:
    """The risk of a flag of a severity."""
    return RISK[Severity(severity)]


def choose(candidates: Iterable[Candidate], risks: Mapping[UUID, int]) -> list[Chosen]:
    """Actions in the order in which they should be taken, until nothing more can be cleared.

    ``risks`` are the risks of all open flags by their ids; flags that are not in it don't count. An action that clears
    nothing that is open, or raises at least as much risk as it clears, is never chosen. Of equals the first by key
    comes first, so that the order is always the same.
    """
    left = sum(risks.values())
    open_flags = set(risks)
    chosen: list[Chosen] = []
    # What an action newly clears only becomes less: one that is still best when counted anew is the best of all.
    waiting = [_waiting(each, each.clears, risks) for each in candidates if _helps(each, risks)]
    heapify(waiting)
    while waiting:
        worth, _, candidate = heappop(waiting)
        clears = frozenset(candidate.clears & open_flags)
        counted = _waiting(candidate, clears, risks)
        if counted[0] != worth:
            heappush(waiting, counted)
        elif clears and worth:
            risk = _weight(clears, risks)
            left -= risk
            open_flags -= clears
            chosen.append(Chosen(candidate, clears, risk, left))
    return chosen


def _waiting(
    candidate: Candidate, clears: Iterable[UUID], risks: Mapping[UUID, int]
) -> tuple[Fraction, str, Candidate]:
    """An action in the order of what it is worth, the most first; of equals by key."""
    return -_weight(clears, risks) / candidate.cost, candidate.key, candidate


def needed_for(chosen: Sequence[Chosen], total: int, share: Fraction) -> int | None:
    """How many actions, in their order, clear a share of all risk; None when all of them don't."""
    for count, each in enumerate(chosen, 1):
        if total - each.left >= share * total:
            return count
    return None


def bound(candidates: Iterable[Candidate], risks: Mapping[UUID, int]) -> Fraction:
    """How many times the least possible cost a greedy choice costs at most."""
    most = max((_weight(each.clears, risks) for each in candidates), default=0)
    return sum((Fraction(1, n) for n in range(1, most + 1)), Fraction(0))


def _helps(candidate: Candidate, risks: Mapping[UUID, int]) -> bool:
    return _weight(candidate.clears, risks) > candidate.doubts.raises


def _weight(flags: Iterable[UUID], risks: Mapping[UUID, int]) -> int:
    return sum(risks.get(flag, 0) for flag in flags)
