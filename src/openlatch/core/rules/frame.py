"""The frame: what a rule is, what it finds, and how a subject is put before every rule."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Generic, TypeVar

from openlatch.core.rules.facts import AccountFacts, GrantFacts, SessionFacts
from openlatch.core.rules.score import Score
from openlatch.core.words import GrantState

Facts = TypeVar("Facts", GrantFacts, SessionFacts, AccountFacts)


@dataclass(frozen=True, slots=True)
class Thresholds:
    """What the organisation finds too long, in days, by sensitivity where it matters."""

    unused_days: dict[int, int] = field(default_factory=lambda: {1: 180, 2: 120, 3: 90, 4: 45})
    never_used_days: dict[int, int] = field(default_factory=lambda: {1: 90, 2: 60, 3: 30, 4: 14})
    no_end_from_sensitivity: int = 3
    session_days: dict[int, int] = field(default_factory=lambda: {1: 90, 2: 60, 3: 30, 4: 7})


@dataclass(frozen=True, slots=True)
class Finding:
    """What a rule found: the sentence, the facts that it names, and the score."""

    sentence: str
    facts: dict[str, Any]
    score: Score


@dataclass(frozen=True, slots=True)
class Rule(Generic[Facts]):
    """A rule: its key, a title for people, what to do about a finding, and the function that looks."""

    key: str
    title: str
    remedy: str
    find: Callable[[Facts, Thresholds, datetime], Finding | None]


# Grants in these states are looked at; an ended one can't be stale, a pending one gives nothing yet.
LIVE = frozenset({GrantState.ACTIVE, GrantState.SUSPENDED, GrantState.REVOKING})


def evaluate_grant(
    rules: Sequence[Rule[GrantFacts]], facts: GrantFacts, thresholds: Thresholds, now: datetime
) -> Iterator[tuple[str, Finding]]:
    """Every finding on one grant, by rule key."""
    if facts.state not in LIVE:
        return
    for rule in rules:
        finding = rule.find(facts, thresholds, now)
        if finding is not None:
            yield rule.key, finding


def evaluate_session(
    rules: Sequence[Rule[SessionFacts]], facts: SessionFacts, thresholds: Thresholds, now: datetime
) -> Iterator[tuple[str, Finding]]:
    """Every finding on one session that is going on, by rule key."""
    for rule in rules:
        finding = rule.find(facts, thresholds, now)
        if finding is not None:
            yield rule.key, finding


def day(at: datetime) -> str:
    """A day as sentences write it, in UTC."""
    return f"{at.day} {at:%B %Y}"
