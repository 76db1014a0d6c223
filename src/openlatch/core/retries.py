"""How long to wait before trying again: one answer for steps, provisioning and mail."""

from __future__ import annotations

from datetime import datetime, timedelta

FIRST_WAIT = timedelta(seconds=2)


LONGEST_WAIT = timedelta(minutes=15)


def wait_after(tries: int) -> timedelta:
    """How long to wait after that many tries: it doubles each time, up to fifteen minutes."""
    doublings = min(max(tries - 1, 0), 20)
    return min(FIRST_WAIT * (1 << doublings), LONGEST_WAIT)


def is_due(next_try: datetime | None, now: datetime) -> bool:
    """Whether a wait is over.

    A wait longer than any that is ever set comes from a clock that was set back since: it is over, too.
    """
    return next_try is None or not now < next_try <= now + LONGEST_WAIT
