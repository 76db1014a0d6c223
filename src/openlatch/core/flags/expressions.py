"""The expressions that rules are written in: facts, limits, comparisons and whole-number arithmetic.

A rule is written once, as a tree of expressions. It is evaluated here for one subject, and ``store.flags`` compiles the
same tree to SQL for all of them. So that both mean the same, expressions know only truth values and whole numbers, and
no missing values: a fact that can be missing has a number for that.

Facts are expressions too, over what the register holds (*columns*). Columns may be missing; each says what counts then.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from typing import TYPE_CHECKING

from openlatch.json_values import JsonView

if TYPE_CHECKING:
    from openlatch.core.flags.limits import Settings

Facts = JsonView


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
    """A whole number. Can be compared with numbers and limits, added and subtracted."""

    def of(self, facts: Facts, settings: Settings) -> int:
        """Its value for these facts."""
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
    """A constant as an expression."""
    return value if isinstance(value, Number) else Plain(value)


class Sign(StrEnum):
    """How two numbers are compared."""

    MORE = ">"
    AT_LEAST = ">="


@dataclass(frozen=True, slots=True)
class TrueFact(Truth):
    """A truth-valued fact, by its name; with its definition, unless it is a plain column."""

    name: str
    about: str = ""
    means: Truth | None = None

    def of(self, facts: Facts, settings: Settings) -> bool:
        return bool(facts[self.name])


@dataclass(frozen=True, slots=True)
class NumberFact(Number):
    """A whole-number fact, by its name; with its definition, unless it is a plain column."""

    name: str
    about: str = ""
    means: Number | None = None

    def of(self, facts: Facts, settings: Settings) -> int:
        return int(facts[self.name])


@dataclass(frozen=True, slots=True)
class SaidFact:
    """A fact that sentences name and no rule computes with: a name, an instant. It may be missing."""

    name: str
    about: str = ""


@dataclass(frozen=True, slots=True)
class Plain(Number):
    """A constant number."""

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


# What facts are made of.


class Instant:
    """A point in time, which may be missing."""

    def of(self, facts: Facts, settings: Settings) -> datetime | None:
        """The instant; None when it is missing."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True)
class InstantColumn(Instant):
    """A column that is an instant."""

    name: str

    def of(self, facts: Facts, settings: Settings) -> datetime | None:
        found: datetime | None = facts[self.name]
        return found


# The instant at which one looks.
NOW = InstantColumn("now")


@dataclass(frozen=True, slots=True)
class First(Instant):
    """The first of two instants that is there."""

    one: Instant
    other: Instant

    def of(self, facts: Facts, settings: Settings) -> datetime | None:
        found = self.one.of(facts, settings)
        return self.other.of(facts, settings) if found is None else found


@dataclass(frozen=True, slots=True)
class Latest(Instant):
    """The later one of two instants; the other one, when one is missing."""

    one: Instant
    other: Instant

    def of(self, facts: Facts, settings: Settings) -> datetime | None:
        there = [at for at in (self.one.of(facts, settings), self.other.of(facts, settings)) if at is not None]
        return max(there, default=None)


@dataclass(frozen=True, slots=True)
class TextColumn:
    """A column that is a text."""

    name: str

    def among(self, *words: str) -> Truth:
        """Whether it is one of these."""
        return Among(self, tuple(sorted(words)))


@dataclass(frozen=True, slots=True)
class NumberColumn(Number):
    """A whole-number column, with the value that counts when it is missing."""

    name: str
    missing: int

    def of(self, facts: Facts, settings: Settings) -> int:
        found = facts[self.name]
        return self.missing if found is None else int(found)


@dataclass(frozen=True, slots=True)
class TruthColumn(Truth):
    """A truth-valued column, with the value that counts when it is missing."""

    name: str
    missing: bool

    def of(self, facts: Facts, settings: Settings) -> bool:
        found = facts[self.name]
        return self.missing if found is None else bool(found)


@dataclass(frozen=True, slots=True)
class IsThere(Truth):
    """Whether a column is not missing."""

    column: InstantColumn | TextColumn

    def of(self, facts: Facts, settings: Settings) -> bool:
        return facts[self.column.name] is not None


@dataclass(frozen=True, slots=True)
class Among(Truth):
    """Whether a text is one of some; a missing one is none."""

    column: TextColumn
    words: tuple[str, ...]

    def of(self, facts: Facts, settings: Settings) -> bool:
        return facts[self.column.name] in self.words


@dataclass(frozen=True, slots=True)
class AtDomain(Truth):
    """Whether an address is at one of some domains; a missing one is at none."""

    column: TextColumn
    domains: frozenset[str]

    def of(self, facts: Facts, settings: Settings) -> bool:
        address = facts[self.column.name]
        return address is not None and [*address.split("@"), ""][1] in self.domains


@dataclass(frozen=True, slots=True)
class Known(Truth):
    """Whether a publisher is one that the organisation knows, or any at all when it has named none."""

    column: TextColumn

    def of(self, facts: Facts, settings: Settings) -> bool:
        publisher = facts[self.column.name]
        return publisher in settings.known_publishers if settings.known_publishers else bool(publisher)


@dataclass(frozen=True, slots=True)
class Later(Truth):
    """Whether one instant is later than another; not so when one is missing."""

    one: Instant
    other: Instant

    def of(self, facts: Facts, settings: Settings) -> bool:
        one, other = self.one.of(facts, settings), self.other.of(facts, settings)
        return one is not None and other is not None and one > other


class TimeUnit(StrEnum):
    """What time is counted in."""

    DAYS = "days"
    HOURS = "hours"


_LENGTHS = {TimeUnit.DAYS: timedelta(days=1), TimeUnit.HOURS: timedelta(hours=1)}


@dataclass(frozen=True, slots=True)
class Between(Number):
    """The whole days or hours from one instant to another, negative when the other is earlier; both are there."""

    unit: TimeUnit
    start: Instant
    end: Instant

    def of(self, facts: Facts, settings: Settings) -> int:
        start, end = self.start.of(facts, settings), self.end.of(facts, settings)
        if start is None or end is None:
            raise ValueError(f"no time between {self.start} and {self.end}: one of them is missing")
        length = _LENGTHS[self.unit]
        return (end - start) // length if end >= start else -((start - end) // length)


@dataclass(frozen=True, slots=True)
class AtLeast(Number):
    """A number, or another where that is more."""

    value: Number
    least: int

    def of(self, facts: Facts, settings: Settings) -> int:
        return max(self.value.of(facts, settings), self.least)


@dataclass(frozen=True, slots=True)
class If(Number):
    """One number where something holds, and another where it does not."""

    true: Truth
    then: Number
    other: Number

    def of(self, facts: Facts, settings: Settings) -> int:
        return (self.then if self.true.of(facts, settings) else self.other).of(facts, settings)
