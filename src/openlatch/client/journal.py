"""The journal and its signed heads."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import httpx

from openlatch import schemas
from openlatch.client.base import Calls


class JournalCalls(Calls):
    """The journal and its signed heads."""

    def verify_journal(self, position: int | None = None, hash: str = "") -> schemas.JournalVerdict:
        """Have the service verify its journal; with a position and hash noted earlier also its end."""
        params = {"position": position, "hash": hash} if position is not None else {}
        found = self._transport.call("GET", "/journal/verify", params=params, timeout=httpx.Timeout(60, read=3600))
        return schemas.JournalVerdict.model_validate(found)

    def tree_heads(self) -> schemas.TreeHeads:
        """The signed heads of the journal, oldest first."""
        return schemas.TreeHeads.model_validate(self._transport.call("GET", "/journal/heads"))

    def published_keys(self) -> Sequence[dict[str, str]]:
        """The keys that the service signs with, as JSON Web Keys; ``purpose`` says what for."""
        return self._transport.published("/.well-known/jwks.json")

    def journal_events(self, after: int = 0) -> Iterator[str]:
        """OCSF events of the entries after a position, up to a thousand, line by line."""
        return self._transport.lines(f"/journal/events?after={after}")

    def export_journal(self) -> Iterator[str]:
        """The whole journal, line by line."""
        return self._transport.lines("/journal/export")
