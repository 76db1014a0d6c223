"""The calls about systems, leavers and undoing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.client.asking import Asking


class Ending(Asking):
    """Systems and their drift, leavers, undoing."""

    def read_system(self, ident: UUID, fully: bool = False) -> None:
        """Have a system read soon; ``fully`` also what it says has not changed."""
        self._transport.call("POST", f"/systems/{ident}/read", params={"fully": str(fully).lower()})

    def set_reading(self, ident: UUID, minutes: int) -> schemas.SystemRow:
        """Say every how many minutes a system is read."""
        return self._ask(schemas.SystemRow, "PUT", f"/systems/{ident}/reading", schemas.SetReading(read_every=minutes))

    def set_matching(self, ident: UUID, rules: Sequence[tuple[str, bool]]) -> schemas.SystemRow:
        """Say by which marks people are told in a system, each with whether it is enough alone."""
        body = schemas.SetMatching.model_validate({"matching": rules})
        return self._ask(schemas.SystemRow, "PUT", f"/systems/{ident}/matching", body)

    def doubts(self) -> Sequence[schemas.Doubt]:
        """Logins that may be somebody's, for a person to decide."""
        return self._get(schemas.Doubts, "/doubts").doubts

    def decide_doubt(self, ident: UUID, person: UUID | None) -> None:
        """Say whose a login is; nobody's whom the register knows with None."""
        self._ask(schemas.Done, "POST", f"/doubts/{ident}/decide", schemas.DecideDoubt(person=person))

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

    def preview_leaving(
        self, person: UUID, successors: Mapping[UUID, UUID | None] | None = None, lock: bool = True, drop: bool = False
    ) -> schemas.LeavingPreview:
        """What somebody's leaving would do, with what needs a successor first."""
        body = schemas.LeaveWish(successors=dict(successors or {}), lock=lock, drop=drop)
        return self._ask(schemas.LeavingPreview, "POST", f"/people/{person}/leaving/preview", body)

    def let_leave(
        self,
        person: UUID,
        reason: str,
        successors: Mapping[UUID, UUID | None] | None = None,
        lock: bool = True,
        drop: bool = False,
        fingerprint: str = "",
    ) -> schemas.LeavingPage:
        """Let somebody leave: successors first, then all that they have ends."""
        body = schemas.Leave(
            successors=dict(successors or {}), lock=lock, drop=drop, reason=reason, fingerprint=fingerprint
        )
        return self._ask(schemas.LeavingPage, "POST", f"/people/{person}/leaving", body)

    def leaving(self, person: UUID) -> schemas.LeavingPage:
        """How far somebody's leaving has come."""
        return self._get(schemas.LeavingPage, f"/people/{person}/leaving")

    def leaving_report(self, person: UUID) -> schemas.LeavingReport:
        """What came of somebody's leaving, once nothing is left."""
        return self._get(schemas.LeavingReport, f"/people/{person}/leaving/report")
