"""The rules that raise flags, and the frame they stand in."""

from openlatch.core.rules.accounts import LATCH_RULE
from openlatch.core.rules.facts import AccountFacts, GrantFacts, SessionFacts
from openlatch.core.rules.frame import Finding, Rule, Thresholds, evaluate_grant, evaluate_session
from openlatch.core.rules.grants import GRANT_RULES
from openlatch.core.rules.sessions import SESSION_RULES

RULES: tuple[Rule[GrantFacts] | Rule[SessionFacts] | Rule[AccountFacts], ...] = (
    *GRANT_RULES,
    *SESSION_RULES,
    LATCH_RULE,
)

__all__ = [
    "GRANT_RULES",
    "LATCH_RULE",
    "RULES",
    "SESSION_RULES",
    "AccountFacts",
    "Finding",
    "GrantFacts",
    "Rule",
    "SessionFacts",
    "Thresholds",
    "evaluate_grant",
    "evaluate_session",
]
