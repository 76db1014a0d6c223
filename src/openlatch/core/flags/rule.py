"""What a rule is, and how rules are evaluated for one subject.

A rule is a small function of facts and limits that returns a ``When``. It is called once, with the facts as
expressions; the result is the rule's only definition, used for one subject here and for all of them in SQL.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from functools import lru_cache
from string import Formatter
from typing import Any, cast
from zoneinfo import ZoneInfo

from openlatch.core.flags.expressions import (
    Facts,
    Limit,
    Number,
    NumberFact,
    Past,
    SaidFact,
    TrueFact,
    Truth,
    as_number,
)
from openlatch.core.flags.limits import Settings
from openlatch.core.flags.score import Score, score
from openlatch.core.time_windows import day_in_words, ends_on
from openlatch.core.vocabulary import SENSITIVITY_WORDS, Reach
from openlatch.json_values import JsonObject, JsonValue

# The condition of a rule: from the facts of its subject, which its catalogue names by attributes, and its limits.
Condition = Callable[[Any, Any], "When"]


@dataclass(frozen=True, slots=True)
class When:
    """When a rule applies, how stale the subject is then, and how certain the finding is; both in percent.

    ``limit`` is what the sentence may name as {limit}. ``least`` is the minimum score of the finding.
    """

    true: Truth
    stale: Number | int = 0
    sure: Number | int = 100
    limit: Limit | None = None
    least: int = 0


@dataclass(frozen=True, slots=True)
class Remedy:
    """What to do about a finding: in words, and what can be done with one click or command.

    ``act`` is "revoke", "trim", "end_session" or "" where only a person can tell.
    """

    words: str
    act: str = ""


@dataclass(frozen=True, slots=True)
class Rule:
    """A rule. ``number`` never changes: findings are stored under it."""

    number: int
    key: str
    subject: str
    title: str
    about: str
    remedy: Remedy
    says: str
    when: When
    named: tuple[str, ...] = ()

    @property
    def stale(self) -> Number:
        """How stale the subject is, as a term."""
        return as_number(self.when.stale)

    @property
    def sure(self) -> Number:
        """How sure the finding is, as a term."""
        return as_number(self.when.sure)

    def find(self, facts: Facts, settings: Settings) -> Finding | None:
        """What the rule finds on a subject with these facts; None when it does not apply."""
        points = self.points(facts, settings)
        if points is None:
            return None
        told = {name: facts[name] for name in self.named if name != "limit"}
        if self.when.limit is not None:
            told["limit"] = self.when.limit.of(facts, settings)
        return Finding(
            _sentence(self.says, told, settings.zone), {name: _plain(told[name]) for name in self.named}, points
        )

    def points(self, facts: Facts, settings: Settings) -> Score | None:
        """How severe the finding is; None when the rule does not apply."""
        if self.key in settings.off or not self.when.true.of(facts, settings):
            return None
        return score(
            settings.weights,
            facts["reach"],
            facts["sensitivity"],
            facts["inside"],
            self.stale.of(facts, settings),
            self.sure.of(facts, settings),
            self.when.least,
        )


@dataclass(frozen=True, slots=True)
class Finding:
    """What a rule found: the sentence, the facts that it names, and the score."""

    sentence: str
    facts: JsonObject
    score: Score


@dataclass(slots=True)
class Book:
    """The rules on one kind of subject, in the order they were written down."""

    subject: str
    facts: type
    rules: list[Rule] = field(default_factory=list)

    def rule(self, number: int, title: str, remedy: Remedy, says: str) -> Callable[[Condition], Condition]:
        """A decorator that puts a function of the facts and limits into the book; its docstring is what it is about."""

        def put(function: Condition) -> Condition:
            named = tuple(dict.fromkeys(name for _, name, _, _ in Formatter().parse(says) if name))
            about = " ".join((function.__doc__ or "").split())
            when = function(self.facts, LIMIT)
            self.rules.append(Rule(number, function.__name__, self.subject, title, about, remedy, says, when, named))
            return function

        return put


class Limits:
    """The limits of the organisation as terms, by their names: ``limit.unused``."""

    def __getattr__(self, name: str) -> Limit:
        return Limit(name)


LIMIT = Limits()


def evaluate(rules: Sequence[Rule], facts: Facts, settings: Settings) -> Iterator[tuple[Rule, Finding]]:
    """Every finding on one subject."""
    for rule in rules:
        finding = rule.find(facts, settings)
        if finding is not None:
            yield rule, finding


def number(about: str, means: Number | None = None) -> NumberFact:
    """A fact that is a whole number; it takes the name that it is given in its class.

    ``means`` says how it comes from what is gathered; without, a column of its name is the fact.
    """
    return cast(NumberFact, _Unnamed(NumberFact, about, means))


def truth(about: str, means: Truth | None = None) -> TrueFact:
    """A fact that holds or does not."""
    return cast(TrueFact, _Unnamed(TrueFact, about, means))


def said(about: str) -> SaidFact:
    """A fact that only appears in sentences: a column that may be missing."""
    return cast(SaidFact, _Unnamed(SaidFact, about, None))


@dataclass(frozen=True, slots=True)
class _Unnamed:
    kind: type
    about: str
    means: Number | Truth | None

    def __set_name__(self, owner: type, name: str) -> None:
        means = () if self.means is None else (self.means,)
        setattr(owner, name, self.kind(name, self.about, *means))


def facts_of(kind: type) -> Mapping[str, NumberFact | TrueFact | SaidFact]:
    """The facts about one kind of subject, by name."""
    found: dict[str, NumberFact | TrueFact | SaidFact] = {}
    for place in reversed(kind.__mro__):
        found |= {n: f for n, f in vars(place).items() if isinstance(f, NumberFact | TrueFact | SaidFact)}
    return found


def said_of(kind: type) -> tuple[str, ...]:
    """The names of the facts about one kind of subject that sentences can name."""
    return tuple(name for name, fact in facts_of(kind).items() if isinstance(fact, SaidFact))


class Gathered(JsonObject):
    """The columns of one subject; facts are computed as rules ask for them."""

    def __init__(self, columns: Mapping[str, object], means: Mapping[str, Number | Truth], settings: Settings) -> None:
        super().__init__(columns)
        self._means, self._settings = means, settings

    def __missing__(self, name: str) -> int | bool:
        value = self[name] = self._means[name].of(self, self._settings)
        return value


def meanings(kind: type) -> Mapping[str, Number | Truth]:
    """The definitions of the facts about one kind of subject that are not plain columns, by name."""
    facts = facts_of(kind).items()
    return {n: f.means for n, f in facts if not isinstance(f, SaidFact) and f.means is not None}


def past(value: Number, limit: Number) -> Number:
    """How far a number is past a limit, in percent (``expressions.Past``)."""
    return Past(value, limit)


# Facts that are ends: what is over by midnight was over on the day before.
ENDS = frozenset({"until", "leaves_at", "giver_left_at", "payer_leaves_at", "paid_until"})


def _sentence(says: str, facts: Mapping[str, object], zone: ZoneInfo) -> str:
    said = ""
    for words, name, spec in _pieces(says):
        if name is not None:
            value = facts[name]
            # An instant is a day whatever an organisation's own sentence asks for.
            if isinstance(value, datetime) and name in ENDS:
                value = ends_on(value, zone)
            words += day_in_words(value, zone) if isinstance(value, date) else _word(value, spec)
        said += words
    return said


@lru_cache(maxsize=1024)
def _pieces(says: str) -> tuple[tuple[str, str | None, str], ...]:
    """The pieces of a sentence: some words, then a fact and how it is written."""
    return tuple((words, name, spec or "") for words, name, spec, _ in Formatter().parse(says))


def _word(value: JsonValue, spec: str) -> str:
    match spec:
        case "day":
            return "an unknown day"
        case "reach":
            return Reach(value).plain
        case "sensitivity":
            return SENSITIVITY_WORDS[value]
    if spec.startswith("#"):
        return f"{value:,} {spec[1:]}{'s' * (value != 1)}"
    return "nobody" if value is None else str(value)


def _plain(value: object) -> object:
    return value.isoformat() if isinstance(value, datetime) else value
