"""What the attributes of a filter hold, whether a filter fits them, and whether a row matches it."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any
from uuid import UUID

from openlatch.core.filters.tree import AND, NOT, OR, Compare, Node, Operator, Present
from openlatch.core.vocabulary import Reach
from openlatch.errors import BadFilter
from openlatch.instants import bounded
from openlatch.json_values import JsonValue


class Kind(StrEnum):
    """What an attribute holds."""

    TEXT = "text"
    WORD = "word"
    NUMBER = "number"
    TIME = "time"
    TRUTH = "truth"
    REACH = "reach"
    ID = "id"


_ORDERED = {Operator.GT, Operator.GE, Operator.LT, Operator.LE}
_TEXTUAL = {Operator.CO, Operator.SW, Operator.EW}
_ALLOWED = {
    Kind.TEXT: set(Operator),
    Kind.WORD: {Operator.EQ, Operator.NE} | _TEXTUAL,
    Kind.NUMBER: {Operator.EQ, Operator.NE} | _ORDERED,
    Kind.TIME: {Operator.EQ, Operator.NE} | _ORDERED,
    Kind.TRUTH: {Operator.EQ, Operator.NE},
    Kind.REACH: {Operator.EQ, Operator.NE} | _ORDERED,
    Kind.ID: {Operator.EQ, Operator.NE, Operator.EW},
}


@dataclass(frozen=True, slots=True)
class Attribute:
    """An attribute that a filter can name: what it holds, and a sentence for the reference."""

    kind: Kind
    sentence: str


def operators_of(kind: Kind) -> list[Operator]:
    """The operators that compare what an attribute of a kind holds, in the order in which they are listed."""
    return [operator for operator in Operator if operator in _ALLOWED[kind]]


def check(node: Node, attributes: Mapping[str, Attribute]) -> Node:
    """The same filter with its values turned into what the attributes hold.

    BadFilter when it names an attribute that isn't there, an operator that doesn't fit, or a value of the
    wrong kind. Times become datetimes in UTC, reaches become ``Reach``.
    """
    match node:
        case Compare():
            return _check_compare(node, attributes)
        case Present():
            require_attribute(node.name, attributes)
            return node
        case AND():
            return AND(check(node.left, attributes), check(node.right, attributes))
        case OR():
            return OR(check(node.left, attributes), check(node.right, attributes))
        case NOT():
            return NOT(check(node.inner, attributes))


def require_attribute(name: str, attributes: Mapping[str, Attribute]) -> Attribute:
    """The attribute of that name. BadFilter, with the names that are close, when there is none."""
    if name not in attributes:
        near = difflib.get_close_matches(name, attributes, n=3)
        known = f"Did you mean {' or '.join(near)}? " if near else ""
        remedy = f"{known}Use one of: {', '.join(sorted(attributes))}."
        raise BadFilter(f"There is no attribute {name!r} here.", remedy, {"filter": name})
    return attributes[name]


def _check_compare(node: Compare, attributes: Mapping[str, Attribute]) -> Node:
    kind = require_attribute(node.name, attributes).kind
    if node.operator not in _ALLOWED[kind]:
        fits = ", ".join(sorted(_ALLOWED[kind]))
        raise _wrong(node, f"{node.name!r} can't be compared with {node.operator}.", f"Use one of: {fits}, pr.")
    if node.value is None:
        if node.operator not in (Operator.EQ, Operator.NE):
            raise _wrong(node, f"{node.name} {node.operator} null has no meaning.", "Use eq null, or pr.")
        return NOT(Present(node.name)) if node.operator is Operator.EQ else Present(node.name)
    return Compare(node.name, node.operator, _value(node, kind))


def _value(node: Compare, kind: Kind) -> JsonValue:
    value = node.value
    try:
        if kind is Kind.TRUTH and isinstance(value, bool):
            return value
        if kind is Kind.NUMBER and isinstance(value, int | float) and not isinstance(value, bool):
            return value
        if isinstance(value, str):
            return ending(value) if kind is Kind.ID and node.operator is Operator.EW else _from_text(value, kind)
    except (ValueError, OverflowError):
        pass
    raise _wrong(node, f"{value!r} is not a value for {node.name!r}.", f"It holds {_EXAMPLES[kind]}.")


def _wrong(node: Compare, detail: str, remedy: str) -> BadFilter:
    """What is wrong with a comparison, with the attribute at which to look."""
    return BadFilter(detail, remedy, {"filter": node.name})


def _from_text(value: str, kind: Kind) -> JsonValue:
    if kind in (Kind.TEXT, Kind.WORD):
        if "\0" in value:
            raise ValueError("no text in the register holds it")
        return value
    if kind is Kind.TIME:
        parsed = datetime.fromisoformat(value)
        return bounded(parsed if parsed.tzinfo else parsed.replace(tzinfo=UTC))
    if kind is Kind.REACH:
        return Reach.from_word(value)
    if kind is Kind.ID:
        return UUID(value)
    raise ValueError(value)


def ending(value: str) -> str:
    """The end of an id, without hyphens. ValueError for what is none."""
    plain = value.replace("-", "").lower()
    if not re.fullmatch(r"[0-9a-f]{4,32}", plain):
        raise ValueError(value)
    return plain


_EXAMPLES = {
    Kind.TEXT: 'text, as in "warden"',
    Kind.WORD: 'a word, as in "active"',
    Kind.NUMBER: "a number, as in 3",
    Kind.TIME: 'an instant, as in "2026-03-01T00:00:00Z"',
    Kind.TRUTH: "true or false",
    Kind.REACH: '"observe", "operate", "spend" or "steward"',
    Kind.ID: 'an id, as in "01890a5d-ac96-774b-bcce-b302099a8057"',
}


def matches(node: Node, row: Mapping[str, object]) -> bool:
    """Whether a row matches a checked filter. Text ignores case; a missing value matches only ``ne``."""
    match node:
        case AND():
            return matches(node.left, row) and matches(node.right, row)
        case OR():
            return matches(node.left, row) or matches(node.right, row)
        case NOT():
            return not matches(node.inner, row)
        case Present():
            return row[node.name] not in (None, "")
        case Compare():
            return _compare(node.operator, row[node.name], node.value)


def _fold(value: object) -> Any:
    return value.lower() if isinstance(value, str) else value


def _compare(operator: Operator, held: Any, value: Any) -> bool:
    if held is None:
        return operator is Operator.NE
    held, value = _fold(held), _fold(value)
    if isinstance(held, UUID) and operator is Operator.EW:
        held = held.hex
    outcomes: dict[Operator, Callable[[], bool]] = {
        Operator.EQ: lambda: held == value,
        Operator.NE: lambda: held != value,
        Operator.CO: lambda: value in held,
        Operator.SW: lambda: held.startswith(value),
        Operator.EW: lambda: held.endswith(value),
        Operator.GT: lambda: held > value,
        Operator.GE: lambda: held >= value,
        Operator.LT: lambda: held < value,
        Operator.LE: lambda: held <= value,
    }
    return bool(outcomes[operator]())
