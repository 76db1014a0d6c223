"""A cache of values between questions, keyed by versions from the database."""

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
    """A thread-safe cache, bounded by size, whose keys contain a version of what the values were made from.

    A key must never come to mean something else: versions are a row's place and transaction, or random. The least
    recently used values are dropped.
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
        """Store values, except one larger than the whole cache."""
        with self._lock:
            for key, value in values.items():
                if self._size(value) <= self._values.maxsize:
                    self._values[key] = value
