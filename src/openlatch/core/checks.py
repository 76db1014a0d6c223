"""Checks of what callers give that are the same everywhere: words that have to be there, and how many of something."""

from __future__ import annotations

from openlatch.errors import BadInput

SHORTEST = 3


def has_words(text: str) -> bool:
    """Whether somebody wrote something: at least three characters that are not blanks around it."""
    return len(text.strip()) >= SHORTEST


def require_words(text: str, detail: str, remedy: str = "Say in a few words why.", field: str = "reason") -> str:
    """The text without blanks around it. BadInput, with this detail, when nothing is written."""
    if not has_words(text):
        raise BadInput(detail, remedy, {field: "is missing"})
    return text.strip()


def require_name(text: str, detail: str, remedy: str) -> str:
    """A name without blanks around it. BadInput, with this detail, when there is none."""
    if not text.strip():
        raise BadInput(detail, remedy, {"name": "is missing"})
    return text.strip()


def require_count(count: int, most: int, things: str, field: str, least: int = 1) -> None:
    """Refuse, as BadInput, a number of things below the least or above the most."""
    if not least <= count <= most:
        limits = f"Give {least:,} to {most:,}." if least else f"Give at most {most:,}."
        raise BadInput(f"{count:,} {things} were given.", limits, {field: "out of range"})
