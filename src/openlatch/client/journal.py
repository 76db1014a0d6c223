"""The journal and its signed heads."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from contextlib import closing
from time import monotonic
from uuid import UUID

import httpx
import orjson

from openlatch import schemas
from openlatch.client.base import Calls
from openlatch.client.transport import Query, Unreachable
from openlatch.json_values import JsonObject

# Seconds without any answer after which changes are waited for no longer.
_MOST_SILENCE = 300.0


class JournalCalls(Calls):
    """The journal and its signed heads."""

    def verify_journal(self, position: int | None = None, hash: str = "") -> schemas.JournalVerdict:
        """Have the service verify its journal; with a position and hash noted earlier also its end."""
        params: dict[str, Query] = {"position": position, "hash": hash} if position is not None else {}
        found = self._transport.call("GET", "/journal/verify", params=params, timeout=httpx.Timeout(60, read=3600))
        return schemas.JournalVerdict.model_validate(found)

    def tree_heads(self) -> schemas.TreeHeads:
        """The signed heads of the journal, oldest first."""
        return schemas.TreeHeads.model_validate(self._transport.call("GET", "/journal/heads"))

    def archive(self) -> schemas.ArchivedParts:
        """The files of the archive, each with whether it is as it was written."""
        return schemas.ArchivedParts.model_validate(self._transport.call("GET", "/journal/archive"))

    def archived_entries(
        self, after: int = 0, about: UUID | None = None, limit: int = 100
    ) -> Sequence[schemas.ArchivedEntry]:
        """Entries of the journal that are in the archive, in order, after a position; or those about one thing."""
        params: dict[str, Query] = {"after": after, "limit": limit} | ({"about": str(about)} if about else {})
        found = self._transport.call("GET", "/journal/archive/entries", params=params)
        return schemas.ArchivedEntries.model_validate(found).entries

    def published_keys(self) -> Sequence[dict[str, str]]:
        """The keys that the service signs with, as JSON Web Keys; ``purpose`` says what for."""
        return self._transport.published("/.well-known/jwks.json")

    def journal_events(self, after: int = 0) -> Iterator[str]:
        """OCSF events of the entries after a position, up to a thousand, line by line."""
        return self._transport.lines(f"/journal/events?after={after}")

    def changes(self) -> Generator[schemas.Changed, None, None]:
        """Of which kinds something changes, as it does. Where the connection is lost, everything may have changed.

        It goes on until the token ends (CallFailed), or no service answers for five minutes (Unreachable).
        """
        last, wait = monotonic(), 1.0
        while True:
            try:
                # Closed at once with this, where it can still wait for the connection to end.
                with closing(self._transport.lines("/events")) as lines:
                    for line in lines:
                        last, wait = monotonic(), 1.0
                        if line.startswith("data: "):
                            yield schemas.Changed.model_validate_json(line.removeprefix("data: "))
            except Unreachable:
                if monotonic() > last + _MOST_SILENCE:
                    raise
            self._transport.wait(wait)
            wait = min(wait * 2, 30.0)

    def follow_journal(self, after: int) -> Generator[JsonObject, None, None]:
        """The entries of the journal after a position as OCSF events, each as it happens; it does not end by itself.

        ``metadata.sequence`` of an event is its position: with the last one that was seen nothing is lost or comes
        twice.
        """
        with closing(self.changes()) as changes:
            while True:
                told = [orjson.loads(line) for line in self.journal_events(after)]
                for event in told:
                    after = event["metadata"]["sequence"]
                    yield event
                if not told:
                    next(changes)

    def export_journal(self) -> Iterator[str]:
        """The whole journal, line by line."""
        return self._transport.lines("/journal/export")
