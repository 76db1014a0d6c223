"""How many random histories a test goes through: some in a usual run, ten times as many by ``make test-nightly``."""

from __future__ import annotations

import os


def seeds(few: int) -> range:
    """The seeds of a test that takes ``few`` of them in a usual run."""
    return range(few * (10 if os.environ.get("HYPOTHESIS_PROFILE") == "nightly" else 1))
