"""People and teams: moves, leavers, erasure."""

from __future__ import annotations

from collections.abc import Mapping
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class PeopleCalls(Calls):
    """People and teams: moves, leavers, erasure."""

    def person(self, ident: UUID) -> schemas.PersonPage:
        """A person, with everything that they can reach."""
        return schemas.PersonPage.model_validate(self._transport.call("GET", f"/people/{ident}"))

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

    def set_speaker(self, team: UUID, speaker: UUID | None) -> schemas.TeamRow:
        """Say who speaks for a team."""
        return self._ask(schemas.TeamRow, "PUT", f"/teams/{team}/speaker", schemas.SetSpeaker(speaker=speaker))

    def preview_move(self, person: UUID, wish: schemas.MoveWish | None = None) -> schemas.MovePlan:
        """What a move of somebody comes to."""
        return self._ask(schemas.MovePlan, "POST", f"/people/{person}/move/preview", wish or schemas.MoveWish())

    def preview_erasing(self, person: UUID) -> schemas.Erased:
        """What erasing somebody would take away."""
        return self._ask(schemas.Erased, "POST", f"/people/{person}/erase/preview")

    def erase_person(self, person: UUID) -> schemas.Erased:
        """Erase what identifies somebody who left. It can't be undone."""
        return self._ask(schemas.Erased, "POST", f"/people/{person}/erase")

    def held_data(self, person: UUID) -> schemas.HeldData:
        """All that is held about somebody."""
        return self._ask(schemas.HeldData, "POST", f"/people/{person}/held-data")

    def team(self, ident: UUID) -> schemas.TeamPage:
        """A team with its members."""
        return self._ask(schemas.TeamPage, "GET", f"/teams/{ident}")
