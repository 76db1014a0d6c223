"""Accounts and apps."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class AccountsCalls(Calls):
    """Accounts and apps."""

    def account(self, ident: UUID) -> schemas.AccountPage:
        """An account, with everyone and everything that can reach it."""
        return schemas.AccountPage.model_validate(self._transport.call("GET", f"/accounts/{ident}"))

    def app(self, ident: UUID) -> schemas.AppPage:
        """An app, with its links."""
        return schemas.AppPage.model_validate(self._transport.call("GET", f"/apps/{ident}"))

    def set_account(
        self,
        account: UUID,
        emergency_hours: int | None,
        prerequisites: Iterable[str] = (),
        version: int | None = None,
    ) -> schemas.AccountRow:
        """How access to an account is given."""
        body = schemas.SetAccount.model_validate(
            {"emergency_hours": emergency_hours, "prerequisites": list(prerequisites)}
        )
        return self._ask(schemas.AccountRow, "PUT", f"/accounts/{account}/giving", body, version)
