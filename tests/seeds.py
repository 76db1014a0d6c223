"""How much a test tries: some in a usual run, more by ``make test-nightly``."""

from __future__ import annotations

import os

IS_NIGHTLY = os.environ.get("HYPOTHESIS_PROFILE") == "nightly"


def seeds(few: int) -> range:
    """The seeds of a test that goes through ``few`` random histories in a usual run, and ten times as many nightly."""
    return range(few * (10 if IS_NIGHTLY else 1))


def in_turn(number: int, turn: int, turns: int) -> bool:
    """Whether a case is tried in this turn: in a usual run each is in one of the turns, nightly in all of them."""
    return IS_NIGHTLY or number % turns == turn % turns
