"""Which instants are taken: those that survive being stored, and shown in every time zone."""

from __future__ import annotations

from datetime import UTC, datetime

# No instant before this year is taken.
FIRST_YEAR = 1970
# Dates that programs write when they mean "no end". Everything from here on is read as none, where an end is meant.
FAR_AWAY_YEAR = 2200


def in_bounds(at: datetime) -> datetime:
    """The same instant. ValueError when it lies before 1970, or from 2200 on."""
    if not FIRST_YEAR <= at.year < FAR_AWAY_YEAR:
        raise ValueError(f"lies before {FIRST_YEAR} or after {FAR_AWAY_YEAR - 1}")
    return at


def bounded(at: datetime) -> datetime:
    """An instant in UTC. ValueError for one without a time zone, before 1970, or from 2200 on."""
    if at.tzinfo is None:
        raise ValueError("has no time zone")
    return in_bounds(at).astimezone(UTC)
