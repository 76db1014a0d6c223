"""Telling which person a login is, by what a system says of it: surely, or so that somebody has to be asked.

A system tells marks of a login: an address, a staff number, the fingerprint of a key, a uid, a name. Rules say in which
order they count, and whether one alone is enough.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from uuid import UUID

from openlatch.errors import BadInput


class MarkKind(StrEnum):
    """By what a login can be told to be somebody's."""

    ADDRESS = "address"
    EMPLOYEE = "employee"
    FINGERPRINT = "fingerprint"
    UID = "uid"
    NAME = "name"


@dataclass(frozen=True, slots=True)
class MatchRule:
    """One mark that counts; alone it is enough when ``sure``, else somebody is asked."""

    by: MarkKind
    sure: bool


# A uid is often given anew, and two people can have one name: they are put to somebody.
USUAL = (
    MatchRule(MarkKind.ADDRESS, True),
    MatchRule(MarkKind.EMPLOYEE, True),
    MatchRule(MarkKind.FINGERPRINT, True),
    MatchRule(MarkKind.UID, False),
    MatchRule(MarkKind.NAME, False),
)


@dataclass(frozen=True, slots=True)
class Candidate:
    """Somebody who may be meant, and by which mark."""

    person: UUID
    by: MarkKind


@dataclass(frozen=True, slots=True)
class Match:
    """Who a login is, if that is sure; else who it may be, the likeliest first."""

    person: Candidate | None
    candidates: tuple[Candidate, ...] = ()


Bearers = Mapping[tuple[MarkKind, str], Sequence[UUID]]


def rules_of(kept: Sequence[Sequence[object]]) -> tuple[MatchRule, ...]:
    """The rules as they are kept: pairs of a mark and whether it is sure. The usual ones when none are.

    BadInput for a mark that there is not, or one named twice.
    """
    try:
        found = tuple(MatchRule(MarkKind(str(by)), bool(sure)) for by, sure in kept)
    except ValueError as error:
        raise BadInput(
            f"A rule can't be read: {error}.", f"Name one of {', '.join(MarkKind)}.", {"matching": "unknown"}
        ) from error
    if len({rule.by for rule in found}) < len(found):
        raise BadInput("A mark is named twice.", "Name each once.", {"matching": "twice"})
    return found or USUAL


def normal(kind: MarkKind, value: str) -> str:
    """A mark in the form in which two of them are compared: addresses and names without regard to case."""
    value = value.strip()
    return value.lower() if kind in (MarkKind.ADDRESS, MarkKind.NAME) else value


def match(marks: Mapping[MarkKind, str], rules: Sequence[MatchRule], bearers: Bearers) -> Match:
    """Who bears these marks. Surely one person when sure marks name just one; otherwise somebody has to be asked."""
    candidates: dict[UUID, Candidate] = {}
    sure: dict[UUID, Candidate] = {}
    for rule in rules:
        value = normal(rule.by, marks.get(rule.by, ""))
        for person in bearers.get((rule.by, value), ()) if value else ():
            found = Candidate(person, rule.by)
            candidates.setdefault(person, found)
            if rule.sure:
                sure.setdefault(person, found)
    if len(sure) == 1:
        return Match(next(iter(sure.values())))
    return Match(None, tuple(sure.values()) or tuple(candidates.values()))
