"""Values as JSON, and a hash of them."""

from __future__ import annotations

import hashlib
from datetime import date
from uuid import UUID

import rfc8785
from pydantic import BaseModel

from openlatch.json_values import JsonValue


def jsonable(value: object) -> JsonValue:
    """A value with ids and times as text, as it is stored and hashed."""
    if isinstance(value, BaseModel):
        return jsonable(value.model_dump(exclude_unset=True))
    if isinstance(value, dict):
        return {key: jsonable(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [jsonable(inner) for inner in value]
    if isinstance(value, UUID):
        return str(value)
    return value.isoformat() if isinstance(value, date) else value


def fingerprint(shown: object) -> str:
    """A hash by which to recognise later what was shown."""
    return hashlib.sha256(rfc8785.dumps(jsonable(shown))).hexdigest()[:32]
