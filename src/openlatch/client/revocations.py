"""Revocations and their steps."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls, end
from openlatch.json_values import JsonObject


class RevocationsCalls(Calls):
    """Revocations and their steps."""

    def preview(
        self,
        grants: Iterable[UUID] = (),
        sessions: Iterable[UUID] = (),
        trim_level: UUID | None = None,
        trim_until: date | datetime | None = None,
    ) -> schemas.Preview:
        """What a revocation would do. Nothing happens yet."""
        body = _wish(grants, sessions, trim_level, trim_until)
        return schemas.Preview.model_validate(self._transport.call("POST", "/revocations/preview", json=body))

    def revoke(
        self,
        reason: str,
        grants: Iterable[UUID] = (),
        sessions: Iterable[UUID] = (),
        trim_level: UUID | None = None,
        trim_until: date | datetime | None = None,
        fingerprint: str = "",
    ) -> schemas.RevocationPage:
        """End or trim access. With a preview's ``fingerprint``, only if it would still do the same."""
        body = {**_wish(grants, sessions, trim_level, trim_until), "reason": reason, "fingerprint": fingerprint}
        return schemas.RevocationPage.model_validate(self._transport.call("POST", "/revocations", json=body))

    def revocation(self, ident: UUID) -> schemas.RevocationPage:
        """A revocation with its steps."""
        return schemas.RevocationPage.model_validate(self._transport.call("GET", f"/revocations/{ident}"))

    def retry(self, ident: UUID) -> schemas.RevocationPage:
        """Try waiting steps now."""
        return schemas.RevocationPage.model_validate(self._transport.call("POST", f"/revocations/{ident}/retry"))

    def step_done(self, ident: UUID, step: UUID, proof: str) -> schemas.RevocationPage:
        """Say that a step was done by hand, and what was seen."""
        path = f"/revocations/{ident}/steps/{step}/done"
        return schemas.RevocationPage.model_validate(self._transport.call("POST", path, json={"proof": proof}))

    def skip_step(self, ident: UUID, step: UUID, reason: str) -> schemas.RevocationPage:
        """Say that a step of a revocation will not be done, and why."""
        path = f"/revocations/{ident}/steps/{step}/skip"
        return self._ask(schemas.RevocationPage, "POST", path, schemas.SkipStep(reason=reason))

    def preview_undo(self, ident: UUID) -> schemas.Undone:
        """What undoing a revocation would put back."""
        return self._get(schemas.Undone, f"/revocations/{ident}/undo")

    def undo_revocation(self, ident: UUID, reason: str) -> schemas.Undone:
        """Put back what a revocation took away."""
        return self._ask(schemas.Undone, "POST", f"/revocations/{ident}/undo", schemas.Undo(reason=reason))


def _wish(
    grants: Iterable[UUID], sessions: Iterable[UUID], trim_level: UUID | None, trim_until: date | datetime | None
) -> JsonObject:
    return {
        "grants": [str(ident) for ident in grants],
        "sessions": [str(ident) for ident in sessions],
        "trim_level": str(trim_level) if trim_level else None,
        **end(trim_until, "trim_"),
    }
