"""How much is measured: as a rule enough for a figure, or just enough to see that every measure runs to its end."""

from __future__ import annotations

import os

# Set by a test, which looks at no figure.
QUICK = bool(os.environ.get("OPENLATCH_BENCH_QUICK"))


def scaled(usual: int, least: int = 2) -> int:
    """As many as usual, or a hundredth of it and no fewer than ``least``."""
    return max(usual // 100, least) if QUICK else usual
