"""Waiting for what another process does."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")
# Longer than a machine takes that is busy with other tests; only a test that fails waits so long.
SECONDS = 120.0


def until(ask: Callable[[], T | None], *errors: type[Exception]) -> T:
    """The first answer that counts as true; meanwhile these errors are none."""
    ends = time.monotonic() + SECONDS
    while time.monotonic() < ends:
        try:
            found = ask()
        except errors:
            found = None
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(f"It did not come within {SECONDS} s.")
