"""Notices."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class NotificationsCalls(Calls):
    """Notices."""

    def read_notices(self, notices: Iterable[UUID] = ()) -> None:
        """Mark notices as read; all of them when none is named."""
        self._ask(schemas.Done, "POST", "/notices/read", schemas.ReadNotices(notices=list(notices)))
