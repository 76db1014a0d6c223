"""Values as JSON holds them, and a hash of them."""

from __future__ import annotations

import hashlib
from datetime import date
from typing import Any
from uuid import UUID

import rfc8785


def jsonable(value: Any) -> Any:
    """The value with ids and times as text, as it is stored and hashed."""
    if isinstance(value, dict):
        return {key: jsonable(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [jsonable(inner) for inner in value]
    if isinstance(value, UUID):
        return str(value)
    return value.isoformat() if isinstance(value, date) else value


def fingerprint(shown: Any) -> str:
    """By which to say later that this is what was seen."""
    return hashlib.sha256(rfc8785.dumps(jsonable(shown))).hexdigest()[:32]
