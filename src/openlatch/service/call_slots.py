"""A limit on simultaneous calls to each system, so that a system that stalls holds up no other.

Whoever finds no free slot comes back later instead of queueing; the tables say what there is to do.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from uuid import UUID

AT_ONCE = 2


class Rooms:
    """The slots taken in this process, by system."""

    def __init__(self, at_once: int = AT_ONCE) -> None:
        self._at_once = at_once
        self._lock = threading.Lock()
        self._there: Counter[UUID] = Counter()

    @contextmanager
    def enter(self, system: UUID) -> Iterator[bool]:
        """Take a slot until the end of the block; yields whether there was one."""
        with self._lock:
            is_free = self._there[system] < self._at_once
            self._there[system] += is_free
        try:
            yield is_free
        finally:
            with self._lock:
                self._there[system] -= is_free
