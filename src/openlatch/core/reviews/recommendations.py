"""What a reviewer is told to consider, with the reason: drawn from the frozen facts alone."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from uuid import UUID

from openlatch.core.vocabulary import Reach, Subject, Verdict

# A level is said to suffice only when use has been seen for at least this long.
OBSERVED = timedelta(days=60)
RECENT = timedelta(days=180)
END_WITHIN = timedelta(days=180)
_ENDING = {
    "holder_left": "The holder has left.",
    "unrecorded": "Nobody recorded that it was given.",
    "never_used": "It was never used.",
    "unused": "It is not used any more.",
    "session_too_old": "It has been open for too long.",
}


@dataclass(frozen=True, slots=True)
class LevelChoice:
    """A level of the account's system, as far as choosing a smaller one goes."""

    id: UUID
    name: str
    reach: Reach
    permissions: frozenset[str]


@dataclass(frozen=True, slots=True)
class Evidence:
    """What a recommendation is drawn from.

    ``used`` is when each permission was last used, ``observed_since`` since when use has been watched there.
    """

    subject: Subject
    rules: Sequence[str] = ()
    last_used_at: datetime | None = None
    reach: Reach | None = None
    held: frozenset[str] = frozenset()
    used: Mapping[str, date] = field(default_factory=dict)
    observed_since: date | None = None
    until: datetime | None = None


@dataclass(frozen=True, slots=True)
class Recommendation:
    """What to consider, and why. A trim comes with the level or the end to trim to."""

    verdict: Verdict
    reason: str
    level: LevelChoice | None = None
    until: datetime | None = None


def smallest_sufficient(
    levels: Iterable[LevelChoice], held: frozenset[str], reach: Reach, used: frozenset[str]
) -> LevelChoice | None:
    """The smallest level that covers what was used and gives less than what is held; None when none does."""
    fitting = [
        level
        for level in levels
        if used and used <= level.permissions and level.permissions < held and level.reach <= reach
    ]
    return min(fitting, key=lambda level: (len(level.permissions), level.reach, level.name), default=None)


def recommend(evidence: Evidence, levels: Sequence[LevelChoice], now: datetime) -> Recommendation:
    """What the facts speak for. It is never carried out by itself."""
    for rule, reason in _ENDING.items():
        if rule in evidence.rules:
            return Recommendation(Verdict.REVOKE, reason)
    if evidence.subject is Subject.EXPOSURE:
        return Recommendation(Verdict.REVOKE, "Somebody outside can reach it; close it unless that is meant.")
    if evidence.subject in (Subject.GRANT, Subject.LINK):
        return _of_grant(evidence, levels, now)
    return Recommendation(Verdict.KEEP, "Nothing speaks against it." if not evidence.rules else "It is flagged.")


def _of_grant(evidence: Evidence, levels: Sequence[LevelChoice], now: datetime) -> Recommendation:
    since = evidence.observed_since
    watched = since is not None and since <= (now - OBSERVED).date()
    recent = frozenset(key for key, day in evidence.used.items() if day >= (now - RECENT).date())
    if watched and evidence.reach is not None:
        level = smallest_sufficient(levels, evidence.held, evidence.reach, recent)
        if level is not None:
            unused = len(evidence.held - recent)
            return Recommendation(
                Verdict.TRIM,
                f"Of {len(evidence.held)} permissions {unused} went unused in {RECENT.days} days; "
                f"“{level.name}” suffices.",
                level,
            )
    if "no_end_date" in evidence.rules:
        return Recommendation(Verdict.TRIM, "It has no end, on a sensitive account.", until=now + END_WITHIN)
    if evidence.rules:
        return Recommendation(Verdict.KEEP, "It is used, and flagged: say why it is needed.")
    if evidence.last_used_at is not None:
        days = (now - evidence.last_used_at).days
        return Recommendation(Verdict.KEEP, "Used today." if days < 1 else f"Used {days} day{'s' * (days != 1)} ago.")
    return Recommendation(Verdict.KEEP, "Not used yet, and given lately.")
