"""The filter language: RFC 7644 section 3.4.2.2, parsed to a small tree that Python and SQL can carry out."""

from openlatch.core.filters.grammar import parse
from openlatch.core.filters.tree import AND, NOT, OR, Compare, Node, Operator, Present, names_in
from openlatch.core.filters.values import Attribute, Kind, check, matches, operators_of, require_attribute

__all__ = [
    "AND",
    "NOT",
    "OR",
    "Attribute",
    "Compare",
    "Kind",
    "Node",
    "Operator",
    "Present",
    "check",
    "matches",
    "names_in",
    "operators_of",
    "parse",
    "require_attribute",
]
