"""Waiting until an instant, in SQL."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ColumnElement, SQLColumnExpression, or_

from openlatch.core.retries import LONGEST_WAIT


def is_over(column: SQLColumnExpression[datetime | None], now: datetime) -> ColumnElement[bool]:
    """Whether a wait is over; the same as ``core.retries.is_due``, for rows."""
    return or_(column <= now, column > now + LONGEST_WAIT)
