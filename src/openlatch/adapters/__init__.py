"""Reading access in the systems where accounts live, and changing it there. One module per kind of system."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from openlatch.adapters.contract import (
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    FoundPart,
    Holding,
    Login,
    Presence,
    Reading,
    SharedAccount,
    Used,
    Whole,
)
from openlatch.adapters.postgresql import PostgresqlAdapter

Maker = Callable[[dict[str, Any], str], Adapter]

# By the system's kind. ``by_hand`` has none: people carry its steps out and say so.
ADAPTERS: dict[str, Maker] = {"postgresql": PostgresqlAdapter}

__all__ = [
    "ADAPTERS",
    "Abilities",
    "Adapter",
    "Found",
    "FoundLevel",
    "FoundPart",
    "Holding",
    "Login",
    "Maker",
    "Presence",
    "Reading",
    "SharedAccount",
    "Used",
    "Whole",
]
