"""The rule over accounts: a latch that does not hold what it should."""

from __future__ import annotations

from datetime import datetime

from openlatch.core.latches import LatchMode
from openlatch.core.rules.facts import AccountFacts
from openlatch.core.rules.frame import Finding, Rule, Thresholds
from openlatch.core.rules.score import score


def latch_broken(facts: AccountFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """A latch is on, and something in the account breaks it all the same."""
    if not facts.breaches:
        return None
    first = facts.breaches[0]
    more = f" And {len(facts.breaches) - 1} more." if len(facts.breaches) > 1 else ""
    firm = any(breach.latch.mode is LatchMode.HOLD for breach in facts.breaches)
    return Finding(
        f"{facts.account} breaks the latch {first.words}{more}",
        {"breaches": [{"latch": b.latch.words, "fact": b.fact} for b in facts.breaches]},
        score(facts.reach, facts.sensitivity, True, 0.8 if firm else 0.2),
    )


LATCH_RULE = Rule(
    "latch_broken",
    "Latch broken",
    "End or trim what breaks it, or change the latch.",
    latch_broken,
)
