"""Waiting until an instant, in SQL."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, or_

from openlatch.core.retries import LONGEST_WAIT


def is_over(column: Any, now: datetime) -> ColumnElement[bool]:
    """Whether a wait is over; the same as ``core.retries.is_due``, for rows."""
    return or_(column <= now, column > now + LONGEST_WAIT)
