"""How long whoever was called asks to wait: the field ``Retry-After`` of HTTP (RFC 9110, section 10.2.3)."""

from __future__ import annotations

from datetime import UTC, datetime
from email.utils import parsedate_to_datetime


def seconds(written: str, now: datetime) -> float | None:
    """Seconds from ``now`` (in UTC), which are written as a number or as a date; None where it is neither."""
    text = written.strip()
    if text.isascii() and text.isdecimal():
        return float(text)
    try:
        until = parsedate_to_datetime(text)
    except (ValueError, OverflowError):
        return None
    until = until if until.tzinfo else until.replace(tzinfo=UTC)
    return max((until - now).total_seconds(), 0.0)
