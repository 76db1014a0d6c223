"""What an organisation finds too long, too many or too grave: limits by sensitivity, and the weights of the score.

A limit has a number for each sensitivity, low to critical; none means that the rule does not apply there.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import cast
from zoneinfo import ZoneInfo

from openlatch.core.register import UTC_ZONE
from openlatch.json_values import JsonObject, JsonView

# A number past every limit: what "never" is where one has to compare.
NEVER = 1_000_000_000
FOUR = tuple[int | None, int | None, int | None, int | None]


@dataclass(frozen=True, slots=True)
class LimitKind:
    """A limit that can be set: what it counts, in which unit, and what holds until somebody sets it."""

    name: str
    unit: str
    about: str
    usual: FOUR


LIMITS: Mapping[str, LimitKind] = MappingProxyType(
    {
        kind.name: kind
        for kind in (
            LimitKind("unused", "days", "How long access may go unused.", (180, 120, 90, 45)),
            LimitKind("never_used", "days", "How long new access may wait for its first use.", (90, 60, 30, 14)),
            LimitKind("link_unused", "days", "How long an app's link may go unused.", (180, 90, 60, 30)),
            LimitKind("dormant", "days", "After how long a pause use counts as coming back.", (365, 270, 180, 120)),
            LimitKind("excess", "rights", "How many rights may go unused.", (None, 1, 0, 0)),
            LimitKind(
                "watched", "days", "How long use must have been watched to say what is not used.", (90, 90, 60, 60)
            ),
            LimitKind("open_end", "days", "How old access may get without an end.", (None, None, 0, 0)),
            LimitKind("window", "days", "For how long access may be given at once.", (None, 1100, 730, 400)),
            LimitKind("offer", "days", "How long an offer may wait for its answer.", (30, 21, 14, 7)),
            LimitKind("undecided", "days", "How soon what a review left undecided comes up again.", (0, 0, 0, 0)),
            LimitKind("kept", "reviews", "How often access may be kept in reviews without being used.", (3, 2, 1, 1)),
            LimitKind("emergency", "hours", "How long access opened in an emergency may stay.", (72, 48, 24, 24)),
            LimitKind(
                "chain", "steps", "Over how many steps people may come in by a team or an account.", (5, 4, 3, 2)
            ),
            LimitKind("stewards", "people", "How many besides the owner may decide who else gets in.", (12, 8, 6, 4)),
            LimitKind("wide", "accounts", "How many accounts somebody outside may hold.", (8, 8, 8, 8)),
            LimitKind("session_age", "days", "How long a session may last.", (90, 60, 30, 7)),
            LimitKind("session_idle", "days", "How long a session may stay silent.", (60, 30, 14, 3)),
            LimitKind(
                "apart", "kilometres", "How far apart sessions of one sign-in may be at once.", (None, 1000, 500, 300)
            ),
            LimitKind(
                "speed", "kilometres an hour", "How fast one travels between sessions.", (1200, 1000, 1000, 1000)
            ),
            LimitKind("credential", "days", "How old an app's token may get.", (None, 730, 365, 180)),
            LimitKind("payment", "days", "How long before what is paid for an account ends.", (14, 14, 30, 30)),
            LimitKind("leaving", "days", "How long before somebody leaves their access is looked at.", (7, 14, 30, 60)),
        )
    }
)


@dataclass(frozen=True, slots=True)
class Weights:
    """The points of a score's parts (``score``). ``doubt`` is what the least certain finding loses."""

    reach: tuple[int, int, int, int] = (8, 16, 28, 32)
    sensitivity: tuple[int, int, int, int] = (4, 10, 20, 28)
    outside: int = 15
    staleness: int = 25
    doubt: int = 20


@dataclass(frozen=True, slots=True)
class Settings:
    """An organisation's rule settings. ``off`` are the keys of rules that are off; ``zone`` is the organisation's
    time zone, for days in sentences.
    """

    limits: Mapping[str, FOUR] = field(default_factory=dict)
    weights: Weights = field(default_factory=Weights)
    off: frozenset[str] = frozenset()
    never_together: tuple[tuple[str, str], ...] = ()
    known_publishers: frozenset[str] = frozenset()
    zone: ZoneInfo = UTC_ZONE

    def of(self, name: str) -> FOUR:
        """A limit's four numbers: as set, or the defaults."""
        return self.limits.get(name, LIMITS[name].usual)

    def limit(self, name: str, sensitivity: int) -> int:
        """A limit's number for one sensitivity, 1 to 4; NEVER where the rule does not apply."""
        found = self.of(name)[sensitivity - 1]
        return NEVER if found is None else found

    @property
    def stored(self) -> JsonObject:
        """The settings that differ from the defaults."""
        return {
            "limits": {name: list(four) for name, four in sorted(self.limits.items()) if four != LIMITS[name].usual},
            "weights": {
                "reach": list(self.weights.reach),
                "sensitivity": list(self.weights.sensitivity),
                "outside": self.weights.outside,
                "staleness": self.weights.staleness,
                "doubt": self.weights.doubt,
            },
            "off": sorted(self.off),
            "never_together": [list(pair) for pair in self.never_together],
            "known_publishers": sorted(self.known_publishers),
        }

    @classmethod
    def kept(cls, stored: JsonView, zone: ZoneInfo = UTC_ZONE) -> Settings:
        """From what ``stored`` returned, possibly in an earlier version: unknown names are ignored."""
        weights = dict(stored.get("weights", {}))
        for name in ("reach", "sensitivity"):
            if name in weights:
                weights[name] = tuple(weights[name])
        four = {name: tuple(value) for name, value in stored.get("limits", {}).items() if name in LIMITS}
        return cls(
            limits=cast(dict[str, FOUR], four),
            weights=Weights(**weights),
            off=frozenset(stored.get("off", ())),
            never_together=tuple((str(a), str(b)) for a, b in stored.get("never_together", ())),
            known_publishers=frozenset(stored.get("known_publishers", ())),
            zone=zone,
        )
