"""Acting on behalf of an account."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls
from openlatch.json_values import JsonView


class ActingCalls(Calls):
    """Acting on behalf of an account."""

    def switch(self, account: UUID) -> schemas.Me:
        """Switch into an account."""
        return self._ask(schemas.Me, "POST", "/me/switch", schemas.Switch(account=account))

    def switch_out(self) -> None:
        """Switch out again."""
        self._ask(schemas.Done, "DELETE", "/me/switch")

    def exchange(self, token: str, account: UUID) -> JsonView:
        """Exchange a token of one's own for a short-lived one to act in an account (RFC 8693)."""
        form = {
            "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange",
            "subject_token": token,
            "subject_token_type": "urn:ietf:params:oauth:token-type:access_token",
            "audience": str(account),
        }
        return self._transport.form("/oauth/token", form)

    def begin_device(self, program: str, scope: str = "write") -> JsonView:
        """Codes for a program that somebody lets in by their browser (RFC 8628)."""
        return self._transport.form("/oauth/device_authorization", {"client_id": program, "scope": scope})

    def collect_device(self, program: str, device_code: str) -> JsonView:
        """The token of a program that was let in. CallFailed says by its ``title`` why not, or not yet."""
        kind = "urn:ietf:params:oauth:grant-type:device_code"
        fields = {"grant_type": kind, "device_code": device_code, "client_id": program}
        return self._transport.form("/oauth/token", fields)

    def introspect(self, token: str) -> JsonView:
        """Whether an exchanged token is good now, and for what (RFC 7662)."""
        return self._transport.form("/oauth/introspect", {"token": token})

    def revoke_token(self, token: str) -> None:
        """End an exchanged token of one's own (RFC 7009)."""
        self._transport.form("/oauth/revoke", {"token": token})
