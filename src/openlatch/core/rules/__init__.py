"""The rules that raise flags, and the frame they stand in."""

from openlatch.core.rules.facts import GrantFacts, SessionFacts
from openlatch.core.rules.frame import Finding, Rule, Thresholds, evaluate_grant, evaluate_session
from openlatch.core.rules.grants import GRANT_RULES
from openlatch.core.rules.sessions import SESSION_RULES

RULES: tuple[Rule[GrantFacts] | Rule[SessionFacts], ...] = (*GRANT_RULES, *SESSION_RULES)

__all__ = [
    "GRANT_RULES",
    "RULES",
    "SESSION_RULES",
    "Finding",
    "GrantFacts",
    "Rule",
    "SessionFacts",
    "Thresholds",
    "evaluate_grant",
    "evaluate_session",
]
