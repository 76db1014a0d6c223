"""The score from 0 to 100 behind a flag's severity, as the sum of parts that can be shown.

| part        | points                                                          |
|-------------|-----------------------------------------------------------------|
| reach       | observe 8, operate 16, spend 28, steward 32                     |
| sensitivity | low 4, medium 10, high 20, critical 28                          |
| outside     | 15 when the holder stands outside the trust boundary            |
| staleness   | 0 to 25: how far past its threshold, full at three times of it  |

A score from 75 is critical, from 55 high, from 35 medium, and low below.
"""

from __future__ import annotations

from dataclasses import dataclass

from openlatch.core.words import Reach, Severity

REACH_POINTS = {Reach.OBSERVE: 8, Reach.OPERATE: 16, Reach.SPEND: 28, Reach.STEWARD: 32}
SENSITIVITY_POINTS = {1: 4, 2: 10, 3: 20, 4: 28}
OUTSIDE_POINTS = 15
STALENESS_POINTS = 25
BANDS = ((75, Severity.CRITICAL), (55, Severity.HIGH), (35, Severity.MEDIUM), (0, Severity.LOW))


@dataclass(frozen=True, slots=True)
class Score:
    """The parts of a score, each in points."""

    reach: int
    sensitivity: int
    outside: int
    staleness: int

    @property
    def total(self) -> int:
        """The sum, at most 100."""
        return min(100, self.reach + self.sensitivity + self.outside + self.staleness)

    @property
    def severity(self) -> Severity:
        """The band that the total falls into."""
        return next(severity for floor, severity in BANDS if self.total >= floor)


def score(reach: Reach, sensitivity: int, inside: bool, staleness: float) -> Score:
    """The score of a flag. ``staleness`` goes from 0 (fresh) to 1 (as stale as it gets)."""
    return Score(
        REACH_POINTS[reach],
        SENSITIVITY_POINTS[sensitivity],
        0 if inside else OUTSIDE_POINTS,
        round(STALENESS_POINTS * min(max(staleness, 0.0), 1.0)),
    )


def overdue(days: int, threshold: int) -> float:
    """How stale something is: 0 at its threshold, 1 at three times of it."""
    return 1.0 if threshold <= 0 else (days - threshold) / (2 * threshold)
