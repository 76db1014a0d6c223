"""Small things about words."""

from __future__ import annotations


def counted(count: int, noun: str, plural: str = "") -> str:
    """A number with its noun, singular or plural; ``plural`` where it is not the noun with an s."""
    return f"{count:,} {noun if count == 1 else plural or f'{noun}s'}"
