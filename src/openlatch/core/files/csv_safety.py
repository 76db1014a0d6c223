"""Text for spreadsheets."""

from __future__ import annotations


def guarded(text: str) -> str:
    """Text that a spreadsheet will not take for a formula (OWASP: CSV injection)."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text
