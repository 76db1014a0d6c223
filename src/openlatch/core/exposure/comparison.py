"""How exposures differ: before and after a change, and from what somebody judged to be intended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from openlatch.core.exposure.answers import Calculator, Exposure
from openlatch.core.exposure.chart import Chart, Way


class Change(StrEnum):
    """What became of one exposure."""

    NEW = "new"
    GONE = "gone"
    CHANGED = "changed"
    UNCHANGED = "unchanged"


@dataclass(frozen=True, slots=True)
class Difference:
    """What became of an exposure, with the ways in that are there only after, and only before."""

    change: Change
    gained: tuple[Way, ...] = ()
    lost: tuple[Way, ...] = ()

    @property
    def grew(self) -> bool:
        """Whether somebody gets in afterwards who did not before."""
        return bool(self.gained)


def compare(before: Exposure | None, after: Exposure | None, asker: Calculator) -> Difference:
    """The difference between two exposures of one resource by one right.

    One that could not be worked out is equal only to another such.
    """
    if before is None or after is None:
        return _of_one(before, after)
    if before.entangled or after.entangled:
        return Difference(Change.UNCHANGED if before.entangled and after.entangled else Change.CHANGED)
    was, now = ways_of(before), ways_of(after)
    if was == now:
        return Difference(Change.UNCHANGED)
    gained, lost = difference(now, was, asker), difference(was, now, asker)
    return Difference(Change.CHANGED if gained or lost else Change.UNCHANGED, gained, lost)


def _of_one(before: Exposure | None, after: Exposure | None) -> Difference:
    if before is not None:
        return Difference(Change.GONE, lost=ways_of(before))
    return Difference(Change.UNCHANGED) if after is None else Difference(Change.NEW, ways_of(after))


def ways_of(exposure: Exposure) -> tuple[Way, ...]:
    """The ways in of an exposure."""
    return tuple(opening.way for opening in exposure.openings)


def difference(ways: Sequence[Way], without: Sequence[Way], asker: Calculator) -> tuple[Way, ...]:
    """Descriptions of the requests that some ways have and others have not, from the asker's instant on.

    TooEntangled when that can't be worked out.
    """
    chart = Chart((), asker.manner, asker.boundary, asker.known, {}, asker.since, (*ways, *without))
    has, had = (chart.space.union(chart.set_of(way) for way in several) for several in (ways, without))
    return tuple(way for way, _ in chart.ways(chart.space.less(has, had)))
