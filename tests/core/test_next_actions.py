"""Choosing the few actions that take away most risk."""

from __future__ import annotations

import itertools
from fractions import Fraction
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.flags.next_actions import ActionKind, Candidate, Doubts, bound, choose, needed_for, risk_of

FLAGS = [UUID(int=n) for n in range(1, 9)]


@st.composite
def registers(draw: st.DrawFn) -> tuple[list[Candidate], dict[UUID, int]]:
    """A few flags with their risks, and up to seven actions on them."""
    risks = {flag: risk_of(draw(st.integers(1, 4))) for flag in draw(st.sets(st.sampled_from(FLAGS), min_size=1))}
    flags = st.frozensets(st.sampled_from(FLAGS), max_size=5)
    doubts = st.builds(Doubts, st.booleans(), st.booleans(), st.booleans(), st.booleans(), st.sampled_from([0, 1, 9]))
    made = st.tuples(st.sampled_from(ActionKind), flags, doubts)
    rows = draw(st.lists(made, max_size=7))
    return [Candidate(kind, UUID(int=n), clears, held) for n, (kind, clears, held) in enumerate(rows)], risks


@given(registers())
def test_no_action_is_chosen_that_clears_nothing_new_or_raises_as_much(
    drawn: tuple[list[Candidate], dict[UUID, int]],
) -> None:
    candidates, risks = drawn
    left = dict(risks)
    for chosen in choose(candidates, risks):
        assert chosen.clears == {flag for flag in chosen.candidate.clears if flag in left}
        assert chosen.risk == sum(left.pop(flag) for flag in chosen.clears) > 0
        assert chosen.left == sum(left.values())
        assert sum(risks.get(flag, 0) for flag in chosen.candidate.clears) > chosen.candidate.doubts.raises


@given(registers())
def test_everything_is_cleared_for_at_most_the_proven_multiple_of_the_least_cost(
    drawn: tuple[list[Candidate], dict[UUID, int]],
) -> None:
    candidates, risks = drawn
    helping = [each for each in candidates if sum(risks.get(flag, 0) for flag in each.clears) > each.doubts.raises]
    clearable = {flag for each in helping for flag in each.clears if flag in risks}
    chosen = choose(candidates, risks)
    assert {flag for each in chosen for flag in each.clears} == clearable
    covers = (
        some
        for count in range(len(helping) + 1)
        for some in itertools.combinations(helping, count)
        if clearable <= {flag for each in some for flag in each.clears}
    )
    least = min(sum((each.cost for each in some), Fraction(0)) for some in covers)
    assert sum((each.candidate.cost for each in chosen), Fraction(0)) <= bound(helping, risks) * least


@given(registers())
def test_the_first_action_takes_away_most_risk_for_its_cost(drawn: tuple[list[Candidate], dict[UUID, int]]) -> None:
    candidates, risks = drawn
    chosen = choose(candidates, risks)
    if chosen:
        best = chosen[0].risk / chosen[0].candidate.cost
        for each in candidates:
            weight = sum(risks.get(flag, 0) for flag in each.clears)
            assert weight <= each.doubts.raises or weight / each.cost <= best


def test_how_many_actions_clear_a_share_is_counted_in_their_order() -> None:
    risks = dict.fromkeys(FLAGS[:4], 9)
    end = [Candidate(ActionKind.END, UUID(int=n), frozenset(some)) for n, some in enumerate((FLAGS[:2], FLAGS[2:3]))]
    chosen = choose(end, risks)
    assert [len(each.clears) for each in chosen] == [2, 1]
    assert needed_for(chosen, 36, Fraction(1, 2)) == 1
    assert needed_for(chosen, 36, Fraction(3, 4)) == 2
    assert needed_for(chosen, 36, Fraction(9, 10)) is None


def test_accepting_comes_after_whatever_takes_the_risk_away() -> None:
    flag = frozenset(FLAGS[:1])
    risks = {FLAGS[0]: 27}
    accept = Candidate(ActionKind.ACCEPT, UUID(int=1), flag)
    worst = Candidate(ActionKind.END, UUID(int=2), flag, Doubts(True, True, True, True))
    assert [each.candidate for each in choose([accept, worst], risks)] == [worst]
