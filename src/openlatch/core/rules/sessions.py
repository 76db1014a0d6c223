"""The rules over sessions."""

from __future__ import annotations

from datetime import datetime

from openlatch.core.rules.facts import SessionFacts
from openlatch.core.rules.frame import Finding, Rule, Thresholds, day
from openlatch.core.rules.score import overdue, score
from openlatch.core.words import Reach


def session_too_old(facts: SessionFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """A session that has been open for longer than accounts of this sensitivity allow."""
    limit = thresholds.session_days[facts.sensitivity]
    days = (now - facts.started_at).days
    if days <= limit:
        return None
    where = f" on {facts.device}" if facts.device else ""
    return Finding(
        f"{facts.holder} has been signed in to {facts.account}{where} for {days} days, since "
        f"{day(facts.started_at)}; {limit} days are the limit here.",
        {"started_at": facts.started_at.isoformat(), "days": days, "limit_days": limit, "device": facts.device},
        # What a session reaches is up to its holder's grants, so it counts as being able to see.
        score(Reach.OBSERVE, facts.sensitivity, facts.inside, overdue(days, limit)),
    )


SESSION_RULES: tuple[Rule[SessionFacts], ...] = (
    Rule("session_too_old", "A session open for too long", "End the session.", session_too_old),
)
