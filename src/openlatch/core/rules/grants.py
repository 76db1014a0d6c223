"""The rules over grants. Each is one small function of the facts, the thresholds and the time."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from openlatch.core.rules.facts import GrantFacts
from openlatch.core.rules.frame import Finding, Rule, Thresholds, day
from openlatch.core.rules.score import overdue, score
from openlatch.core.words import SENSITIVITY_WORDS, Reach, Standing


def _finding(facts: GrantFacts, staleness: float, sentence: str, **named: Any) -> Finding:
    points = score(facts.reach, facts.sensitivity, facts.inside, staleness)
    return Finding(sentence, {"level": facts.level, "reach": facts.reach.word, **named}, points)


def unused(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """Used once, but not for longer than accounts of this sensitivity allow."""
    limit = thresholds.unused_days[facts.sensitivity]
    if facts.last_used_at is None:
        return None
    days = (now - facts.last_used_at).days
    if days <= limit:
        return None
    return _finding(
        facts,
        overdue(days, limit),
        f"{facts.holder} has not used “{facts.level}” on {facts.account} for {days} days, "
        f"since {day(facts.last_used_at)}; {limit} days are the limit here.",
        last_used_at=facts.last_used_at.isoformat(),
        days=days,
        limit_days=limit,
    )


def never_used(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """Given some time ago and never used since."""
    limit = thresholds.never_used_days[facts.sensitivity]
    days = (now - facts.given_at).days
    # What nobody recorded was given at an unknown time; its first sight says nothing about its use.
    if facts.last_used_at is not None or days <= limit or not facts.recorded:
        return None
    return _finding(
        facts,
        overdue(days, limit),
        f"{facts.holder} was given “{facts.level}” on {facts.account} {days} days ago, on {day(facts.given_at)}, "
        f"and has never used it.",
        given_at=facts.given_at.isoformat(),
        days=days,
        limit_days=limit,
    )


def no_end_date(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """Access without an end on an account that is too sensitive for that."""
    if facts.until is not None or facts.sensitivity < thresholds.no_end_from_sensitivity:
        return None
    word = SENSITIVITY_WORDS[facts.sensitivity]
    return _finding(
        facts,
        0.0,
        f"{facts.holder} holds “{facts.level}” on {facts.account} without an end date; its sensitivity is {word}.",
        sensitivity=facts.sensitivity,
    )


def outsider_far_reach(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """Somebody outside the trust boundary who can spend or decide who else gets in."""
    if facts.inside or facts.reach < Reach.SPEND:
        return None
    return _finding(
        facts,
        0.4,
        f"{facts.holder} is outside the organisation; on {facts.account} they {facts.reach.plain} (“{facts.level}”).",
        inside=False,
    )


def holder_left(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """The holder is no longer with the organisation."""
    gone = facts.left_at <= now if facts.left_at else facts.standing is Standing.LEFT
    if facts.standing is Standing.CURRENT or not gone:
        return None
    when = f" on {day(facts.left_at)}" if facts.left_at else ""
    return _finding(
        facts,
        1.0,
        f"{facts.holder} left{when} and still holds “{facts.level}” on {facts.account}.",
        left_at=facts.left_at.isoformat() if facts.left_at else None,
    )


def giver_left(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """Whoever gave the access is no longer there to answer for it."""
    if facts.giver_left_at is None or facts.giver_left_at > now:
        return None
    return _finding(
        facts,
        0.2,
        f"{facts.given_by} gave {facts.holder} “{facts.level}” on {facts.account} and left on "
        f"{day(facts.giver_left_at)}; nobody answers for it now.",
        given_by=facts.given_by,
        giver_left_at=facts.giver_left_at.isoformat(),
    )


def unrecorded(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """The system has it, and nobody recorded that it was given."""
    if facts.recorded:
        return None
    return _finding(
        facts,
        0.8,
        f"{facts.holder} can reach {facts.account} in {facts.system} (“{facts.level}”), and nobody recorded "
        f"that it was given.",
        system=facts.system,
    )


def review_overdue(facts: GrantFacts, thresholds: Thresholds, now: datetime) -> Finding | None:
    """Nobody decided on it in the last review that it was in, so that it was kept without anyone's judgement."""
    if facts.left_undecided_at is None:
        return None
    days = (now - facts.left_undecided_at).days
    return _finding(
        facts,
        overdue(days, 30),
        f"Nobody decided on “{facts.level}” of {facts.holder} on {facts.account} in the review that closed on "
        f"{day(facts.left_undecided_at)}.",
        left_undecided_at=facts.left_undecided_at.isoformat(),
    )


GRANT_RULES: tuple[Rule[GrantFacts], ...] = (
    Rule("unused", "Unused for too long", "Revoke it, or ask the holder whether it is still needed.", unused),
    Rule("never_used", "Never used since given", "Revoke it; it can be offered again when needed.", never_used),
    Rule("no_end_date", "No end date on a sensitive account", "Trim it to an end date.", no_end_date),
    Rule(
        "outsider_far_reach",
        "An outsider who can spend or steward",
        "Trim it to a lower level, or put somebody inside in its place.",
        outsider_far_reach,
    ),
    Rule("holder_left", "The holder has left", "Revoke it.", holder_left),
    Rule("giver_left", "The giver has left", "Have the owner confirm it in a review, or revoke it.", giver_left),
    Rule("unrecorded", "Unrecorded access", "Find out who gave it; revoke it if nobody did.", unrecorded),
    Rule("review_overdue", "Left undecided in a review", "Decide on it: open a round, or revoke it.", review_overdue),
)
