"""The chain: any change to any entry shows."""

from __future__ import annotations

import copy
from typing import Any

import pytest
import rfc8785
from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.journal import chain


def entries(count: int) -> list[dict[str, Any]]:
    drafts = [
        {
            "organisation": "o",
            "at": f"2026-03-10T12:00:{n:02}.000000Z",
            "actor": {"id": None, "name": "Mara Ødegård"},
            "action": "grant.given",
            "subject": {"kind": "grant", "id": None, "name": f"g{n}", "account": None},
            "facts": {"n": n, "why": "“season”"},
        }
        for n in range(count)
    ]
    return list(chain.chain(drafts, 0, chain.START))


def test_an_untouched_journal_is_sound_and_gives_what_to_note() -> None:
    """The last position and hash prove everything up to there."""
    whole = entries(5)
    verdict = chain.verify(whole)
    assert verdict.sound
    assert (verdict.entries, verdict.position, verdict.hash) == (5, 5, whole[-1]["hash"])
    assert chain.verify([], (0, chain.START)).sound


@given(st.integers(0, 5), st.sampled_from([*chain.FIELDS, "hash"]))
def test_an_altered_entry_is_found(index: int, name: str) -> None:
    """Whatever part of whichever entry."""
    whole = copy.deepcopy(entries(6))
    before = whole[index][name]
    whole[index][name] = (
        {**before, "x": 1}
        if isinstance(before, dict)
        else before + 1
        if isinstance(before, int)
        else before[:-1] + "0123456789abcdef"[(int(before[-1], 36) + 1) % 16]
        if name in ("hash", "previous")
        else before + "x"
    )
    assert not chain.verify(whole).sound


@given(st.integers(0, 4))
def test_a_missing_entry_is_found(index: int) -> None:
    """Also the last ones, when a later position was noted."""
    whole = entries(6)
    verdict = chain.verify(whole[:index] + whole[index + 1 :])
    assert any("missing" in fault.what for fault in verdict.faults)
    assert not chain.verify(whole[: index + 1], (6, whole[-1]["hash"])).sound


@given(st.permutations(range(5)).filter(lambda order: list(order) != sorted(order)))
def test_reordered_entries_are_found(order: list[int]) -> None:
    """Whichever way."""
    whole = entries(5)
    assert not chain.verify(whole[i] for i in order).sound


def test_a_rewritten_journal_does_not_hold_the_hash_that_was_noted() -> None:
    """Somebody who seals everything anew is found out by one noted line."""
    whole = entries(4)
    noted = (3, whole[2]["hash"])
    forged = [{**e, "facts": {"n": 9}} for e in whole]
    again = list(chain.chain(forged, 0, chain.START))
    assert chain.verify(again).sound
    assert not chain.verify(again, noted).sound
    assert chain.verify(whole, noted).sound


@pytest.mark.parametrize("name", chain.FIELDS[:1] + chain.FIELDS[4:])
def test_an_entry_without_a_part_is_found(name: str) -> None:
    """Instead of failing on it."""
    whole = entries(3)
    del whole[1][name]
    assert any("has no" in fault.what for fault in chain.verify(whole).faults)


TEXT = st.text(st.characters(exclude_categories=["Cs"]))
NUMBERS = st.integers(-(2**53) + 1, 2**53 - 1) | st.floats(allow_nan=False, allow_infinity=False)
JSON = st.recursive(
    st.none() | st.booleans() | NUMBERS | TEXT,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(TEXT, inner),
)


@given(JSON)
def test_the_quick_way_to_canonical_json_is_that_of_the_standard(value: Any) -> None:
    """Whoever verifies an export with another RFC 8785 library gets the same bytes."""
    assert chain.canonical(value) == rfc8785.dumps(value)


@given(TEXT, JSON)
def test_what_stands_around_a_place_makes_the_canonical_entry(name: str, value: Any) -> None:
    """Whoever puts the position and the hash before in gets what is sealed."""
    (entry,) = entries(1)
    entry = {**entry, "facts": {"why": value}, "subject": {**entry["subject"], "name": name}}
    before, between, after = chain.around_its_place(entry)
    whole = f"{before}{entry['position']}{between}{entry['previous']}{after}"
    assert whole.encode() == chain.canonical({field: entry[field] for field in chain.FIELDS})
