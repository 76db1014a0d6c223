"""The score from 0 to 100 behind a flag's severity, as the sum of parts that can be shown.

| part        | points with the usual weights                                                    |
|-------------|----------------------------------------------------------------------------------|
| reach       | observe 8, operate 16, spend 28, steward 32                                      |
| sensitivity | low 4, medium 10, high 20, critical 28                                           |
| outside     | 15 when the holder stands outside the trust boundary                             |
| staleness   | 0 to 25: how far past its limit, in steps of a fifth, full at three times of it  |
| doubt       | 0 to -20: how uncertain the finding is                                           |
| urgency     | what is missing to the least score of a rule that has one                        |

score = reach + sensitivity + outside + staleness x percent / 100 - doubt x (100 - confidence) / 100, within 0 to 100,
and no less than the rule's least score.
From 75 it is critical, from 55 high, from 35 medium, and low below.
"""

from __future__ import annotations

from dataclasses import dataclass

from openlatch.core.flags.limits import Weights
from openlatch.core.vocabulary import Severity

CRITICAL_FROM = 75
BANDS = ((CRITICAL_FROM, Severity.CRITICAL), (55, Severity.HIGH), (35, Severity.MEDIUM), (0, Severity.LOW))


@dataclass(frozen=True, slots=True)
class Score:
    """The parts of a score, each in points."""

    reach: int
    sensitivity: int
    outside: int
    staleness: int
    doubt: int = 0
    least: int = 0

    @property
    def _sum(self) -> int:
        return self.reach + self.sensitivity + self.outside + self.staleness - self.doubt

    @property
    def total(self) -> int:
        """The sum, from the least score of its rule to 100."""
        return min(100, max(self.least, self._sum))

    @property
    def severity(self) -> Severity:
        """The band that the total falls into."""
        return severity_of(self.total)

    @property
    def parts(self) -> dict[str, int]:
        """The parts by name, as answers show them; they add up to the score."""
        return {
            "reach": self.reach,
            "sensitivity": self.sensitivity,
            "outside": self.outside,
            "staleness": self.staleness,
            "doubt": -self.doubt,
            **({"urgency": self.least - self._sum} if self._sum < self.least else {}),
        }


def severity_of(total: int) -> Severity:
    """The band that a score falls into."""
    return next(severity for floor, severity in BANDS if total >= floor)


def score(
    weights: Weights, reach: int, sensitivity: int, inside: bool, stale: int, confidence: int, least: int = 0
) -> Score:
    """The score of a flag. ``stale`` and ``confidence`` are percents, ``least`` the least score of its rule."""
    return Score(
        weights.reach[reach - 1],
        weights.sensitivity[sensitivity - 1],
        0 if inside else weights.outside,
        weights.staleness * stale // 100,
        weights.doubt * (100 - confidence) // 100,
        least,
    )
