"""Room for each system: how many may wait on one at a time, so that one that stalls holds up nobody else.

Whoever finds no room comes back later instead of waiting in line; the tables say what there is to do.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from uuid import UUID

AT_ONCE = 2


class Rooms:
    """Who is at which system just now, in this process."""

    def __init__(self, at_once: int = AT_ONCE) -> None:
        self._at_once = at_once
        self._lock = threading.Lock()
        self._there: Counter[UUID] = Counter()

    @contextmanager
    def enter(self, system: UUID) -> Iterator[bool]:
        """Gives whether there was room; if so it is taken until the end."""
        with self._lock:
            is_free = self._there[system] < self._at_once
            self._there[system] += is_free
        try:
            yield is_free
        finally:
            with self._lock:
                self._there[system] -= is_free
