"""When reviewers are reminded, and when others are told that they are late."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta

LATE = "late"


def due_reminder(reminders: Sequence[int], done: Iterable[str], due_at: datetime, now: datetime) -> str | None:
    """The reminder to send now, or None: by the days before it is due, or ``late`` once it is.

    Of several that were missed only the last is sent; those before it count as done.
    """
    sent = set(done)
    if now >= due_at:
        return None if LATE in sent else LATE
    come = [days for days in sorted(reminders) if now >= due_at - timedelta(days=days)]
    if not come or str(come[0]) in sent:
        return None
    return str(come[0])
