"""Who can do what."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class AccessCalls(Calls):
    """Who can do what."""

    def mine(self) -> schemas.Mine:
        """What I can reach, and who can reach mine."""
        return self._ask(schemas.Mine, "GET", "/mine")

    def access(self, person: UUID, account: UUID, **question: object) -> schemas.Paths:
        """By which paths a person can act in an account. ``question``: at, believed, permission, resource, shortest."""
        return self._get(schemas.Paths, "/access", person=person, account=account, **question)

    def account_access(self, account: UUID, **question: object) -> schemas.Paths:
        """Everyone who can act in an account."""
        return self._get(schemas.Paths, f"/accounts/{account}/access", **question)

    def person_access(self, person: UUID, **question: object) -> schemas.Paths:
        """Everything that a person can act in."""
        return self._get(schemas.Paths, f"/people/{person}/access", **question)

    def matrix(self, account: UUID, **question: object) -> schemas.Matrix:
        """Everyone in an account against everything that can be done there."""
        return self._get(schemas.Matrix, f"/accounts/{account}/matrix", **question)

    def difference(
        self, account: UUID, one: datetime, other: datetime, believed: datetime | None = None
    ) -> Sequence[schemas.AccessShift]:
        """Whose rights in an account were others at a second instant than at a first."""
        path = f"/accounts/{account}/difference"
        return self._get(schemas.Difference, path, one=one, other=other, believed=believed).shifts

    def suppose(self, changes: Sequence[schemas.SupposedChange]) -> schemas.Supposed:
        """What changes would do to who can do what; nothing is changed."""
        return self._ask(schemas.Supposed, "POST", "/access/suppose", schemas.Suppose(changes=list(changes)))

    def risk_map(self) -> schemas.RiskMap:
        """All live grants by danger and by how long unused."""
        return self._get(schemas.RiskMap, "/map")

    def ends(self, since: datetime | None = None, months: int = 3) -> schemas.Calendar:
        """What ends day by day."""
        return self._get(schemas.Calendar, "/ends", since=since, months=months)
