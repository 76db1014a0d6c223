"""The rules that raise flags. Each is written once, as a small function, in the books below."""

from openlatch.core.flags.catalogue.accounts import ACCOUNTS, OFFERS, PEOPLE
from openlatch.core.flags.catalogue.grants import GRANTS
from openlatch.core.flags.catalogue.links import app_unused as _links  # noqa: F401  importing writes them into the book
from openlatch.core.flags.catalogue.sessions import SESSIONS
from openlatch.core.flags.limits import LIMITS, Settings, Weights
from openlatch.core.flags.rule import Book, Finding, Rule, evaluate

BOOKS: tuple[Book, ...] = (GRANTS, SESSIONS, ACCOUNTS, PEOPLE, OFFERS)
RULES: tuple[Rule, ...] = tuple(rule for book in BOOKS for rule in book.rules)

__all__ = [
    "ACCOUNTS",
    "BOOKS",
    "GRANTS",
    "LIMITS",
    "OFFERS",
    "PEOPLE",
    "RULES",
    "SESSIONS",
    "Book",
    "Finding",
    "Rule",
    "Settings",
    "Weights",
    "evaluate",
]
