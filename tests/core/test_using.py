"""What use shows: the level that would have been enough, and how sure that is."""

from __future__ import annotations

from datetime import date, timedelta
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.grants.usage import Watched, sufficient
from openlatch.core.reviews.recommendations import LevelChoice
from openlatch.core.vocabulary import Reach

TODAY = date(2026, 3, 10)
READ = LevelChoice(UUID(int=1), "Read", Reach.OBSERVE, frozenset({"read"}))
ANSWER = LevelChoice(UUID(int=2), "Answer", Reach.OPERATE, frozenset({"read", "send"}))
RUN = LevelChoice(UUID(int=3), "Run", Reach.STEWARD, frozenset({"read", "send", "share"}))
LEVELS = (READ, ANSWER, RUN)


def back(days: int) -> date:
    return TODAY - timedelta(days=days)


def watched(since: int | None, pauses: tuple[int, ...] = (), **used: int) -> Watched:
    return Watched(back(since) if since is not None else None, {key: back(n) for key, n in used.items()}, {}, pauses)


@pytest.mark.parametrize(
    ("seen", "days", "level", "given_up", "sure", "words"),
    [
        (watched(None), 90, None, set(), 0, "Use of it has not been watched."),
        (watched(365, read=3), 90, READ, {"send", "share"}, 100, "Watched for 365 days."),
        (watched(365, read=3, send=90), 90, ANSWER, {"share"}, 100, "Watched for 365 days."),
        (watched(365, read=3, send=91), 90, READ, {"send", "share"}, 100, "Watched for 365 days."),
        (watched(365, read=3, send=2, share=1), 90, None, set(), 100, "Watched for 365 days."),
        (watched(73, read=3), 90, READ, {"send", "share"}, 20, "Watched for 73 days, less than the 90 days looked at."),
        (
            watched(730, (200, 40), read=3),
            90,
            READ,
            {"send", "share"},
            50,
            "Watched for 730 days; it has come back after a pause of 200 days before, "
            "longer than the 90 days looked at.",
        ),
        (watched(730, (200, 40), read=3), 201, READ, {"send", "share"}, 100, "Watched for 730 days."),
        (watched(365), 90, None, set(), 100, "Watched for 365 days."),
    ],
)
def test_the_smallest_level_and_how_sure_it_is(
    seen: Watched, days: int, level: LevelChoice | None, given_up: set[str], sure: int, words: str
) -> None:
    """The last day that is looked at counts; a season that is not over makes it half as sure."""
    found = sufficient(LEVELS, RUN.permissions, Reach.STEWARD, seen, days, TODAY)
    assert (found.level, set(found.given_up), found.sure, found.words) == (level, given_up, sure, words)


@given(
    st.frozensets(st.sampled_from("abcdef"), min_size=1),
    st.lists(st.frozensets(st.sampled_from("abcdef"), min_size=1), max_size=6),
    st.dictionaries(st.sampled_from("abcdef"), st.integers(0, 200)),
    st.integers(1, 200),
)
def test_what_is_proposed_covers_all_that_was_used_and_is_less(
    held: frozenset[str], sets: list[frozenset[str]], used: dict[str, int], days: int
) -> None:
    """Whatever levels there are; and none that would do is smaller."""
    levels = [LevelChoice(UUID(int=n), str(n), Reach.OBSERVE, rights) for n, rights in enumerate(sets)]
    found = sufficient(levels, held, Reach.OBSERVE, watched(400, **used), days, TODAY)
    lately = {key for key, ago in used.items() if ago <= days}
    fitting = [rights for rights in sets if lately and lately <= rights < held]
    assert found.used == lately
    if found.level is None:
        assert not fitting
    else:
        assert found.level.permissions in fitting
        assert len(found.level.permissions) == min(map(len, fitting))
        assert found.given_up == held - found.level.permissions
