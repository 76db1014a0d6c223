"""How exposures differ: before and after a change, and from what was judged as intended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from openlatch.core.exposure.answers import Calculator, Exposure
from openlatch.core.exposure.chart import Chart, Way


class Change(StrEnum):
    """What happened to an exposure."""

    NEW = "new"
    GONE = "gone"
    CHANGED = "changed"
    UNCHANGED = "unchanged"


@dataclass(frozen=True, slots=True)
class Difference:
    """What happened to an exposure, with the ways in that exist only after, and only before."""

    change: Change
    gained: tuple[Way, ...] = ()
    lost: tuple[Way, ...] = ()

    @property
    def grew(self) -> bool:
        """Whether somebody gets in afterwards who did not before."""
        return bool(self.gained)


def compare(before: Exposure | None, after: Exposure | None, asker: Calculator) -> Difference:
    """The difference between two exposures of one resource by one right.

    One that could not be computed equals only another such.
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
    """Descriptions of the requests that some ways have and others don't, from the asked instant on.

    TooEntangled when that can't be computed.
    """
    chart = Chart((), asker.manner, asker.boundary, asker.known, {}, asker.since, (*ways, *without))
    has, had = (chart.space.union(chart.set_of(way) for way in several) for several in (ways, without))
    return tuple(way for way, _ in chart.ways(chart.space.less(has, had)))
