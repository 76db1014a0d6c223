"""Latches."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class LatchesCalls(Calls):
    """Latches."""

    def preview_latch(self, latch: schemas.SetLatch) -> schemas.LatchPreview:
        """What breaks a latch as things are."""
        return self._ask(schemas.LatchPreview, "POST", "/latches/preview", latch)

    def set_latch(self, latch: schemas.SetLatch) -> schemas.LatchPreview:
        """Set a latch to off, warn or hold."""
        return self._ask(schemas.LatchPreview, "PUT", "/latches", latch)

    def latches(self, account: UUID) -> list[schemas.LatchState]:
        """Every latch of an account: how it is set, and what breaks it."""
        found = self._transport.call("GET", f"/accounts/{account}/latches")
        return schemas.Rows[schemas.LatchState].model_validate(found).rows
