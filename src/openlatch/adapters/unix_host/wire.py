"""What is found on a host as JSON and back: each thing by the name of its class, and its fields by their types."""

from __future__ import annotations

import types
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from datetime import date
from enum import Enum
from functools import cache
from typing import Union, get_args, get_origin, get_type_hints

from openlatch.adapters import contract
from openlatch.adapters.coverage import Coverage
from openlatch.core.revocations.plan import Move
from openlatch.json_values import JsonObject, JsonValue

KINDS: Mapping[str, type] = {
    kind.__name__: kind for kind in (*get_args(contract.Found), Move) if kind is not contract.Unchanged
} | {"Coverage": Coverage}


def written(thing: object) -> JsonObject:
    """Something that was found, or a move of a plan."""
    return {"is": type(thing).__name__, **_plain(thing)}


def _plain(value: object) -> JsonValue:
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, date):
        return value.isoformat()
    if is_dataclass(value) and not isinstance(value, type):
        return {one.name: _plain(getattr(value, one.name)) for one in fields(value)}
    if isinstance(value, Mapping):
        return {str(key): _plain(each) for key, each in value.items()}
    return [_plain(each) for each in value] if isinstance(value, list | tuple) else value


def read(told: JsonObject) -> object:
    """The inverse of ``written``. ValueError, TypeError or KeyError for what is not of that form."""
    kind = KINDS[told["is"]]
    return _made(kind, {name: value for name, value in told.items() if name != "is"})


def _made(kind: type, told: JsonObject) -> object:
    hints = _hints(kind)
    unknown = set(told) - set(hints)
    if unknown:
        raise ValueError(f"{kind.__name__} has no {', '.join(sorted(unknown))}")
    return kind(**{name: _value(hints[name], value) for name, value in told.items()})


@cache
def _hints(kind: type) -> dict[str, object]:
    hints = get_type_hints(kind)
    return {one.name: hints[one.name] for one in fields(kind)}


def _value(hint: object, value: JsonValue) -> JsonValue:
    origin, inner = get_origin(hint), get_args(hint)
    if origin in (Union, types.UnionType):
        # Only optional ones occur.
        return None if value is None else _value(next(one for one in inner if one is not types.NoneType), value)
    if origin is tuple:
        parts = inner[:1] * len(value) if len(inner) == 2 and inner[1] is Ellipsis else inner
        if not isinstance(value, list) or len(parts) != len(value):
            raise ValueError(f"{value!r} does not have {len(parts)} parts")
        return tuple(_value(part, each) for part, each in zip(parts, value, strict=True))
    if isinstance(hint, type) and not origin:
        if issubclass(hint, Enum):
            return hint(value)
        if issubclass(hint, date):
            return hint.fromisoformat(value)
        if is_dataclass(hint):
            return _made(hint, value)
        if hint in (str, bool, int) and type(value) is not hint:
            raise ValueError(f"{value!r} is no {hint.__name__}")
    return value
