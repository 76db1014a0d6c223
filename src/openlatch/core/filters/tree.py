"""The parsed form of a filter."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

Value = str | int | float | bool | None


class Operator(StrEnum):
    """The comparisons of RFC 7644, table 3."""

    EQ = "eq"
    NE = "ne"
    CO = "co"
    SW = "sw"
    EW = "ew"
    GT = "gt"
    GE = "ge"
    LT = "lt"
    LE = "le"


@dataclass(frozen=True, slots=True)
class Compare:
    """``attribute operator value``."""

    name: str
    operator: Operator
    value: Value


@dataclass(frozen=True, slots=True)
class Present:
    """``attribute pr``: it has a value."""

    name: str


@dataclass(frozen=True, slots=True)
class AND:
    """Both sides."""

    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class OR:
    """Either side."""

    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class NOT:
    """The opposite."""

    inner: Node


Node = Compare | Present | AND | OR | NOT


def names_in(node: Node) -> Iterator[str]:
    """Every attribute name that a filter uses, in reading order."""
    match node:
        case Compare(name=name) | Present(name=name):
            yield name
        case AND(left=left, right=right) | OR(left=left, right=right):
            yield from names_in(left)
            yield from names_in(right)
        case NOT(inner=inner):
            yield from names_in(inner)
