"""What use shows: the smallest sufficient level, what it would take away, and how certain that is."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from openlatch.core.reviews.recommendations import LevelChoice, smallest_sufficient
from openlatch.core.vocabulary import Reach

YEAR = 365


@dataclass(frozen=True, slots=True)
class Watched:
    """What is known about the use of one grant: on how many days each permission was used, and when last."""

    since: date | None
    last_days: Mapping[str, date]
    day_counts: Mapping[str, int]
    pauses: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Sufficient:
    """The smallest level that covers the use, what would be given up, and how sure that is, in percent and words.

    ``level`` is None when nothing smaller would do, or nothing is known.
    """

    level: LevelChoice | None
    given_up: frozenset[str]
    used: frozenset[str]
    sure: int
    words: str


def sufficient(
    levels: Iterable[LevelChoice], held: frozenset[str], reach: Reach, watched: Watched, days: int, today: date
) -> Sufficient:
    """The smallest level that would have covered the last ``days``.

    Certainty is the share of a year during which use was watched, since a year shows every season; less where the
    period is shorter than a pause after which it was used again before.
    """
    begin = today - timedelta(days=days)
    used = frozenset(key for key, last in watched.last_days.items() if last >= begin)
    if watched.since is None:
        return Sufficient(None, frozenset(), used, 0, "Use of it has not been watched.")
    observed = (today - watched.since).days
    sure = min(100, 100 * observed // YEAR)
    words = f"Watched for {observed} days"
    seasonal = [pause for pause in watched.pauses if pause >= days]
    if seasonal:
        sure //= 2
        words += f"; it has come back after a pause of {seasonal[0]} days before, longer than the {days} days looked at"
    elif observed < days:
        words += f", less than the {days} days looked at"
    level = smallest_sufficient(levels, held, reach, used)
    return Sufficient(level, held - level.permissions if level else frozenset(), used, sure, words + ".")
