"""The primary database is lost while access is being revoked; the standby takes over."""

from __future__ import annotations

import random
from pathlib import Path

from bench.failover import rehearse


def test_nothing_that_was_answered_is_lost_and_nothing_is_done_twice(folder: Path) -> None:
    """Web process and workers find the new primary by themselves, and end what was begun."""
    place = folder / "failover"
    place.mkdir()
    place.chmod(0o755)
    seen = rehearse(place, 2, random.Random(7))
    assert (seen.lost, seen.doubled, seen.revoked_twice, seen.not_revoked) == (0, 0, 0, 0)
    assert (seen.died, seen.wrong, seen.faults) == ((), (), ())
    assert seen.answered > 10
