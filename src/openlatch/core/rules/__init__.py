"""The rules that raise flags. Each is written once, as a small function, in the books below."""

from openlatch.core.rules.accounts import ACCOUNTS, OFFERS, PEOPLE
from openlatch.core.rules.grants import GRANTS
from openlatch.core.rules.limits import LIMITS, Settings, Weights
from openlatch.core.rules.links import app_unused as _links  # noqa: F401  importing writes them into the book
from openlatch.core.rules.rule import Book, Finding, Rule, evaluate
from openlatch.core.rules.sessions import SESSIONS

BOOKS: tuple[Book, ...] = (GRANTS, SESSIONS, ACCOUNTS, PEOPLE, OFFERS)
RULES: tuple[Rule, ...] = tuple(rule for book in BOOKS for rule in book.rules)

__all__ = [
    "ACCOUNTS", "BOOKS", "GRANTS", "LIMITS", "OFFERS", "PEOPLE", "RULES", "SESSIONS", "Book", "Finding", "Rule",
    "Settings", "Weights", "evaluate",
]  # fmt: skip
