"""The first eight rules: each at its threshold, just past it, and what it says."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import pytest

from openlatch.core.rules import (
    GRANT_RULES,
    RULES,
    SESSION_RULES,
    GrantFacts,
    SessionFacts,
    Thresholds,
    evaluate_grant,
    evaluate_session,
)
from openlatch.core.rules.score import overdue, score
from openlatch.core.words import GrantState, HolderKind, Reach, Severity, Standing

NOW = datetime(2026, 3, 10, 12, tzinfo=UTC)
QUIET = GrantFacts(
    id=UUID(int=1),
    account_id=UUID(int=2),
    account="Ledger",
    sensitivity=2,
    holder_kind=HolderKind.PERSON,
    holder_id=UUID(int=3),
    holder="Mara",
    inside=True,
    standing=Standing.CURRENT,
    left_at=None,
    state=GrantState.ACTIVE,
    level="Reader",
    reach=Reach.OBSERVE,
    given_at=NOW - timedelta(days=400),
    given_by="Ines",
    giver_left_at=None,
    until=None,
    last_used_at=NOW - timedelta(days=1),
    recorded=True,
    system="Books",
)


def found(**changed: Any) -> dict[str, str]:
    """The rules that raise on the quiet grant with something changed, with what they say."""
    facts = QUIET._replace(**changed)
    return {key: f.sentence for key, f in evaluate_grant(GRANT_RULES, facts, Thresholds(), NOW)}


def ago(days: int) -> datetime:
    return NOW - timedelta(days=days)


def test_a_quiet_grant_raises_nothing() -> None:
    """Used, recorded, inside, not sensitive: no rule has anything to say."""
    assert found() == {}


@pytest.mark.parametrize(
    ("rule", "just_not", "just", "told"),
    [
        ("unused", {"last_used_at": ago(120)}, {"last_used_at": ago(121)}, "121 days, since 9 November 2025"),
        (
            "never_used",
            {"last_used_at": None, "given_at": ago(60)},
            {"last_used_at": None, "given_at": ago(61)},
            "61 days ago",
        ),
        ("no_end_date", {"sensitivity": 2}, {"sensitivity": 3}, "without an end date; its sensitivity is high"),
        ("no_end_date", {"sensitivity": 4, "until": ago(-9)}, {"sensitivity": 4}, "sensitivity is critical"),
        (
            "outsider_far_reach",
            {"inside": False, "reach": Reach.OPERATE},
            {"inside": False, "reach": Reach.SPEND},
            "commit money",
        ),
        ("outsider_far_reach", {"reach": Reach.STEWARD}, {"inside": False, "reach": Reach.STEWARD}, "who else gets in"),
        (
            "holder_left",
            {"standing": Standing.LEAVING, "left_at": ago(-1)},
            {"standing": Standing.LEFT, "left_at": ago(9)},
            "left on 1 March 2026",
        ),
        ("holder_left", {}, {"standing": Standing.LEAVING, "left_at": ago(0)}, "still holds"),
        ("giver_left", {"giver_left_at": ago(-1)}, {"giver_left_at": ago(1)}, "Ines gave Mara"),
        ("unrecorded", {}, {"recorded": False}, "nobody recorded"),
        ("review_overdue", {}, {"left_undecided_at": ago(3)}, "in the review that closed on 7 March 2026"),
    ],
)
def test_each_rule_at_its_edge(rule: str, just_not: dict[str, Any], just: dict[str, Any], told: str) -> None:
    """Not raised at the threshold, raised just past it, with a sentence that names the facts."""
    assert rule not in found(**just_not)
    assert told in found(**just)[rule]


def test_what_has_ended_or_was_only_offered_is_not_looked_at() -> None:
    """An ended grant can't be stale."""
    for state in (GrantState.ENDED, GrantState.PENDING):
        assert found(state=state, standing=Standing.LEFT, left_at=ago(9)) == {}
    assert "holder_left" in found(state=GrantState.SUSPENDED, standing=Standing.LEFT, left_at=ago(9))


def test_a_session_is_too_old_by_the_sensitivity_of_its_account() -> None:
    """A week for a critical account, a quarter for one of low sensitivity."""

    def raised(sensitivity: int, days: int) -> list[str]:
        facts = SessionFacts(
            UUID(int=1),
            UUID(int=2),
            "Ledger",
            sensitivity,
            HolderKind.PERSON,
            UUID(int=3),
            "Mara",
            True,
            ago(days),
            NOW,
            "Phone",
        )
        return [f.sentence for _, f in evaluate_session(SESSION_RULES, facts, Thresholds(), NOW)]

    assert raised(4, 7) == raised(1, 90) == []
    assert "on Phone for 8 days" in raised(4, 8)[0]
    assert raised(1, 91)


def test_the_score_grows_with_every_part_and_ends_at_100() -> None:
    """Its parts add up; its bands are the severities."""
    least, most = score(Reach.OBSERVE, 1, True, 0), score(Reach.STEWARD, 4, False, 1)
    assert (least.total, least.severity) == (12, Severity.LOW)
    assert (most.total, most.severity) == (100, Severity.CRITICAL)
    totals = [score(r, s, i, t).total for r in Reach for s in range(1, 5) for i in (True, False) for t in (0, 1)]
    assert len(totals) == 64
    assert max(totals) == 100
    assert (overdue(90, 90), overdue(270, 90)) == (0, 1)


def test_every_rule_has_a_key_of_its_own_and_says_what_to_do() -> None:
    """The console, the journal and the documents go by the key."""
    assert len({rule.key for rule in RULES}) == len(RULES) == 10
    assert all(rule.title and rule.remedy.endswith(".") for rule in RULES)
