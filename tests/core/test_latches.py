"""Latches: what breaks each, what a change may still do when one is broken, and what waits in the future."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest

from openlatch.core.latches import Crowd, Latch, LatchKind, LatchMode, breaches, held, newly_broken
from openlatch.core.register import Account, Grant, Level, Permission, Person, Register, Team
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import GrantState, Reach
from tests.core.test_access import KEEP, NOW, account, grant, person, team

PAY = Level(UUID(int=903), "Pay", "Can pay.", frozenset({Permission("pay", "Send money", Reach.SPEND)}))
HERE = account(0).id
YEAR = Window(None, NOW + timedelta(days=300))


def people() -> list[Person]:
    """Number 0 owns; 1 and 2 are inside, 1 with a second factor; 3 is outside."""
    return [Person(person(n).id, f"P{n}", inside=n != 3, second_factor=n == 1) for n in range(4)]


def crowd(*grants: Grant, public: Any = None, teams: Any = ()) -> Crowd:
    register = Register.of(people(), teams, [], [Account(HERE, "Box", person(0).id)], grants)
    return Crowd.of(register, HERE, NOW, public)


def latch(kind: LatchKind, number: int | None = None, mode: LatchMode = LatchMode.HOLD) -> Latch:
    return Latch(kind, mode, number, ("see", "pay"))


NOT = GrantState.SUSPENDED
BREAKS: list[tuple[LatchKind, int | None, tuple[Grant, ...], str | None]] = [
    (LatchKind.MOST_DELEGATES, 1, (grant(1, person(1), 0),), None),
    (LatchKind.MOST_DELEGATES, 1, (grant(1, person(1), 0), grant(2, person(2), 0)), "there are 2 delegates (P1, P2)"),
    (LatchKind.MOST_DELEGATES, 1, (grant(1, person(1), 0), grant(2, person(2), 0, state=NOT)), None),
    (LatchKind.ONE_AT_A_TIME, None, (grant(1, person(1), 0), grant(2, person(0), 0)), None),
    (
        LatchKind.ONE_AT_A_TIME,
        None,
        (grant(1, person(1), 0), grant(2, person(2), 0)),
        "P1 and P2 have access at the same time, now",
    ),
    (LatchKind.NO_OUTSIDERS, None, (grant(1, person(3), 0),), "P3 is an outsider"),
    (LatchKind.NO_OUTSIDERS, None, (grant(1, person(2), 0),), None),
    (LatchKind.NO_SPEND_OUTSIDE, None, (grant(1, person(3), 0),), None),
    (LatchKind.NO_SPEND_OUTSIDE, None, (grant(1, person(3), 0, PAY),), "P3 is an outsider and can spend"),
    (LatchKind.ENDS_WITHIN, 300, (grant(1, person(1), 0, window=YEAR),), None),
    (LatchKind.ENDS_WITHIN, 299, (grant(1, person(1), 0, window=YEAR),), "the grant of P1 ends on 2027-01-04"),
    (LatchKind.ENDS_WITHIN, 299, (grant(1, person(1), 0),), "the grant of P1 has no end"),
    (LatchKind.TWO_STEWARDS, None, (grant(1, person(1), 0),), "only one person decides about it"),
    (LatchKind.TWO_STEWARDS, None, (grant(1, person(1), 0, KEEP),), None),
    (LatchKind.SECOND_FACTOR, None, (grant(1, person(1), 0),), None),
    (LatchKind.SECOND_FACTOR, None, (grant(1, person(2), 0),), "P2 has no second factor"),
    (LatchKind.UNSEEN, None, (grant(1, person(2), 0),), None),
    (LatchKind.NEVER_TOGETHER, None, (grant(1, person(1), 0, PAY),), None),
    (
        LatchKind.NEVER_TOGETHER,
        None,
        (grant(1, person(1), 0, PAY), grant(2, person(1), 0)),
        "P1 can both “See” and “Send money”",
    ),
]


@pytest.mark.parametrize(("kind", "number", "grants", "fact"), BREAKS)
def test_what_breaks_each_latch(
    kind: LatchKind, number: int | None, grants: tuple[Grant, ...], fact: str | None
) -> None:
    """And what does not; a latch that is off is never broken."""
    found = breaches([latch(kind, number)], crowd(*grants))
    assert [breach.fact for breach in found] == ([fact] if fact else [])
    assert breaches([latch(kind, number, LatchMode.OFF)], crowd(*grants)) == []
    assert all(breach.remedy for breach in found)


def test_of_many_delegates_the_first_are_named_and_the_others_counted() -> None:
    everybody = [Person(person(n).id, f"P{n}", inside=True, second_factor=True) for n in range(7)]
    held = [grant(n, person(n), 0) for n in range(1, 7)]
    register = Register.of(everybody, (), [], [Account(HERE, "Box", person(0).id)], held)
    (found,) = breaches([latch(LatchKind.MOST_DELEGATES, 5)], Crowd.of(register, HERE, NOW, None))
    assert found.fact == "there are 6 delegates (P1, P2, P3, P4 and 2 more)"


def test_what_is_public_and_what_a_partner_holds() -> None:
    """Neither needs a person."""
    open_plan = {UUID(int=7): "Plan"}
    assert [b.fact for b in breaches([latch(LatchKind.NOTHING_PUBLIC)], crowd(public=open_plan))] == [
        "“Plan” is open to anyone"
    ]
    partner = crowd(grant(1, team(0), 0), teams=[Team(team(0).id, "Agency", partner=True)])
    assert [b.fact for b in breaches([latch(LatchKind.NO_OUTSIDERS)], partner)] == ["Agency is a partner organisation"]


def test_a_latch_that_is_broken_already_holds_only_what_makes_it_worse() -> None:
    """So that it can be mended step by step."""
    most = [latch(LatchKind.MOST_DELEGATES, 1)]
    one, two, three = (grant(n, person(n), 0) for n in (1, 2, 3))
    before = crowd(one, two)
    assert newly_broken(most, before, crowd(one)) == []
    assert newly_broken(most, before, crowd(one, grant(4, person(2), 0, KEEP))) == []
    assert len(held(newly_broken(most, before, crowd(one, two, three)))) == 1
    warn = [latch(LatchKind.MOST_DELEGATES, 1, LatchMode.WARN)]
    found = newly_broken(warn, before, crowd(one, two, three))
    assert (len(found), held(found)) == (1, [])


def test_time_to_come_counts_too() -> None:
    """A window that begins next week overlaps then, one that begins when the other ends never does."""
    first = grant(1, person(1), 0, window=Window(None, NOW + timedelta(days=10)))
    after = grant(2, person(2), 0, window=Window(NOW + timedelta(days=10), None))
    during = grant(3, person(2), 0, window=Window(NOW + timedelta(days=9), None))
    assert breaches([latch(LatchKind.ONE_AT_A_TIME)], crowd(first, after)) == []
    (found,) = breaches([latch(LatchKind.ONE_AT_A_TIME)], crowd(first, during))
    assert found.fact == "P1 and P2 have access at the same time, from 2026-03-19"
