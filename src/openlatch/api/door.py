"""Limits on any request body: text that can be stored, numbers that fit, and a bounded depth and size."""

from __future__ import annotations

import math
import unicodedata
from collections.abc import Iterator

from openlatch.errors import BadInput

DEEPEST = 20
MOST_VALUES = 100_000
_LARGEST = 2**63 - 1
_KEPT = "\t\n\r"


def refuse_unusable(given: object) -> None:
    """Raise BadInput, naming the part at fault, for values that no field of any call could take."""
    for seen, (place, value, depth) in enumerate(_values(given)):
        if seen > MOST_VALUES:
            raise BadInput("There are too many values in it.", f"Send at most {MOST_VALUES:,} in one call.")
        if depth > DEEPEST:
            raise BadInput("It is nested too deeply.", f"Nest at most {DEEPEST} deep.", {place: "is nested too deeply"})
        wrong = _wrong(value)
        if wrong:
            raise BadInput(f"The request does not fit: {place} {wrong}.", "Look at the field named.", {place: wrong})


def _values(given: object) -> Iterator[tuple[str, object, int]]:
    """Every value in a body with its path and depth. Names of fields are values, too."""
    waiting = [("request", given, 0)]
    while waiting:
        place, value, depth = waiting.pop()
        yield place, value, depth
        if depth > DEEPEST:
            continue
        if isinstance(value, dict):
            waiting += [(str(name)[:100], name, depth + 1) for name in value]
            waiting += [(str(name)[:100], inner, depth + 1) for name, inner in value.items()]
        elif isinstance(value, list):
            waiting += [(place, inner, depth + 1) for inner in value]


def _wrong(value: object) -> str:
    if isinstance(value, str):
        return next((_of_character(c) for c in value if not c.isprintable() and _of_character(c)), "")
    if isinstance(value, bool) or value is None:
        return ""
    if isinstance(value, int):
        return "" if -_LARGEST <= value <= _LARGEST else "is too large a number"
    if isinstance(value, float):
        return "" if math.isfinite(value) and abs(value) <= _LARGEST else "is too large a number"
    return ""


def _of_character(character: str) -> str:
    """What is wrong with a character that does not show; nothing with tabs and ends of lines."""
    kind = unicodedata.category(character)
    if kind == "Cs":
        return "holds half of a character (a lone surrogate)"
    if kind == "Cc" and character not in _KEPT:
        return f"holds the control character U+{ord(character):04X}"
    return ""
