"""The language that rules are written in: facts, limits, comparisons and a little whole-number arithmetic.

A rule is written once. What it says is a tree of these terms; it is worked out here on the facts of one subject, and
``store.ruling`` turns the same tree into SQL that looks at all of them. To mean the same in both, terms know only
truths and whole numbers, and never a missing value: a fact that can be missing has a number that says so.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from openlatch.core.rules.limits import Settings

Facts = Mapping[str, Any]


class Truth:
    """Something that holds or does not. Joined with ``&``, ``|`` and ``~``."""

    def of(self, facts: Facts, settings: Settings) -> bool:
        """Whether it holds for these facts."""
        raise NotImplementedError

    def __and__(self, other: Truth) -> Truth:
        return Both(self, other)

    def __or__(self, other: Truth) -> Truth:
        return Either(self, other)

    def __invert__(self) -> Truth:
        return Unless(self)


class Number:
    """A whole number. Compared to numbers and limits; added and taken away."""

    def of(self, facts: Facts, settings: Settings) -> int:
        """What it comes to for these facts."""
        raise NotImplementedError

    def __gt__(self, other: Number | int) -> Truth:
        return Comparison(Sign.MORE, self, as_number(other))

    def __ge__(self, other: Number | int) -> Truth:
        return Comparison(Sign.AT_LEAST, self, as_number(other))

    def __lt__(self, other: Number | int) -> Truth:
        return Comparison(Sign.MORE, as_number(other), self)

    def __le__(self, other: Number | int) -> Truth:
        return Comparison(Sign.AT_LEAST, as_number(other), self)

    def __sub__(self, other: Number | int) -> Number:
        return Difference(self, as_number(other))


def as_number(value: Number | int) -> Number:
    """A plain number as a term."""
    return value if isinstance(value, Number) else Plain(value)


class Sign(StrEnum):
    """How two numbers are compared."""

    MORE = ">"
    AT_LEAST = ">="


@dataclass(frozen=True, slots=True)
class TrueFact(Truth):
    """A fact that holds or does not, by its name."""

    name: str
    about: str = ""

    def of(self, facts: Facts, settings: Settings) -> bool:
        return bool(facts[self.name])


@dataclass(frozen=True, slots=True)
class NumberFact(Number):
    """A fact that is a whole number, by its name."""

    name: str
    about: str = ""

    def of(self, facts: Facts, settings: Settings) -> int:
        return int(facts[self.name])


@dataclass(frozen=True, slots=True)
class SaidFact:
    """A fact that sentences name and no rule computes with: a name, an instant. It may be missing."""

    name: str
    about: str = ""


@dataclass(frozen=True, slots=True)
class Plain(Number):
    """A number as it stands."""

    value: int

    def of(self, facts: Facts, settings: Settings) -> int:
        return self.value


@dataclass(frozen=True, slots=True)
class Limit(Number):
    """A limit of the organisation for accounts of the subject's sensitivity (``limits.LIMITS``)."""

    name: str

    def of(self, facts: Facts, settings: Settings) -> int:
        return settings.limit(self.name, facts["sensitivity"])


@dataclass(frozen=True, slots=True)
class Comparison(Truth):
    """Two numbers compared."""

    sign: Sign
    left: Number
    right: Number

    def of(self, facts: Facts, settings: Settings) -> bool:
        left, right = self.left.of(facts, settings), self.right.of(facts, settings)
        return left > right if self.sign is Sign.MORE else left >= right


@dataclass(frozen=True, slots=True)
class Both(Truth):
    """Both hold."""

    left: Truth
    right: Truth

    def of(self, facts: Facts, settings: Settings) -> bool:
        return self.left.of(facts, settings) and self.right.of(facts, settings)


@dataclass(frozen=True, slots=True)
class Either(Truth):
    """At least one holds."""

    left: Truth
    right: Truth

    def of(self, facts: Facts, settings: Settings) -> bool:
        return self.left.of(facts, settings) or self.right.of(facts, settings)


@dataclass(frozen=True, slots=True)
class Unless(Truth):
    """It does not hold."""

    inner: Truth

    def of(self, facts: Facts, settings: Settings) -> bool:
        return not self.inner.of(facts, settings)


@dataclass(frozen=True, slots=True)
class Difference(Number):
    """One number less another."""

    left: Number
    right: Number

    def of(self, facts: Facts, settings: Settings) -> int:
        return self.left.of(facts, settings) - self.right.of(facts, settings)


@dataclass(frozen=True, slots=True)
class Past(Number):
    """How far a number is past a limit, in percent: 0 at the limit, 100 at three times of it, in steps of 20.

    Steps, so that a flag does not change every day while nothing happens.
    """

    value: Number
    limit: Number

    def of(self, facts: Facts, settings: Settings) -> int:
        limit = max(self.limit.of(facts, settings), 1)
        over = (self.value.of(facts, settings) - limit) * 50 // limit
        return min(max(over, 0), 100) // 20 * 20
