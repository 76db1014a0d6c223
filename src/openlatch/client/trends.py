"""Figures over time."""

from __future__ import annotations

from datetime import date
from urllib.parse import urlencode

from openlatch import schemas
from openlatch.client.base import Calls


class TrendsCalls(Calls):
    """Figures over time."""

    def trends(
        self, since: date | None = None, until: date | None = None, span: schemas.TrendSpan = "week"
    ) -> schemas.Trends:
        """Risk, departures, revocations, reviews, exposures and unrecorded access, period by period."""
        return self._get(schemas.Trends, "/trends", since=since, until=until, span=span)

    def trends_csv(self, since: date | None = None, until: date | None = None, span: schemas.TrendSpan = "week") -> str:
        """The same as CSV, a line for each period."""
        days = {"since": since, "until": until, "span": span}
        return self._transport.content(f"/trends/export?{urlencode({k: v for k, v in days.items() if v})}").decode()

    def want_trends(self, wants: bool) -> None:
        """Get the monthly letter about them, or not."""
        self._ask(schemas.Done, "POST", "/me/trends", schemas.WantLetter(wants=wants))
