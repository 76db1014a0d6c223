"""Requests for access."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class RequestsCalls(Calls):
    """Requests for access."""

    def ask_access(self, wish: schemas.AskAccess) -> schemas.RequestRow:
        """Ask for access."""
        return self._ask(schemas.RequestRow, "POST", "/requests", wish)

    def request(self, ident: UUID) -> schemas.RequestRow:
        """A request for access."""
        return self._ask(schemas.RequestRow, "GET", f"/requests/{ident}")

    def grant_request(
        self, ident: UUID, how: schemas.GrantRequest | None = None, version: int | None = None
    ) -> schemas.RequestRow:
        """Grant a request: as it was asked, or less, or for a shorter time."""
        return self._ask(schemas.RequestRow, "POST", f"/requests/{ident}/grant", how or schemas.GrantRequest(), version)

    def decline_request(self, ident: UUID, words: str, version: int | None = None) -> schemas.RequestRow:
        """Decline a request, with a word about why."""
        return self._ask(schemas.RequestRow, "POST", f"/requests/{ident}/decline", schemas.Words(words=words), version)

    def withdraw_request(self, ident: UUID, version: int | None = None) -> schemas.RequestRow:
        """Withdraw one's own request."""
        return self._ask(schemas.RequestRow, "POST", f"/requests/{ident}/withdraw", None, version)
