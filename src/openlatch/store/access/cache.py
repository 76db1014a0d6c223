"""Values kept in memory between questions, for as long as the database says that they are still the same."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from threading import Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

Key = TypeVar("Key")
Value = TypeVar("Value")


def _one(_: object) -> int:
    return 1


class Kept(Generic[Key, Value]):
    """Values by keys that have the version of what they were made of in them, up to a size in all.

    A key must never come to mean something else: versions are the row's own place and transaction, or random. What was
    not asked for the longest is given up. All threads of a process share it.
    """

    def __init__(self, most: int, size: Callable[[Value], int] = _one) -> None:
        self._values: LRUCache[Key, Value] = LRUCache(most, size)
        self._size = size
        self._lock = Lock()

    def some(self, keys: Iterable[Key]) -> dict[Key, Value]:
        """Those of the values that are there."""
        with self._lock:
            return {key: self._values[key] for key in keys if key in self._values}

    def put(self, values: Mapping[Key, Value]) -> None:
        """Keep values. One that is larger than everything may be is not kept."""
        with self._lock:
            for key, value in values.items():
                if self._size(value) <= self._values.maxsize:
                    self._values[key] = value
