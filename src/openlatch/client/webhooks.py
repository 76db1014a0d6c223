"""The client's calls about webhooks."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls


class WebhooksCalls(Calls):
    """Calls about receivers of what is journalled."""

    def webhooks(self) -> Sequence[schemas.WebhookOf]:
        """The receivers of what is journalled."""
        return self._ask(schemas.Webhooks, "GET", "/webhooks").rows

    def add_webhook(self, wish: schemas.SetWebhook) -> schemas.WebhookMade:
        """Add one. Its secret is in the answer, and nowhere else."""
        return self._ask(schemas.WebhookMade, "POST", "/webhooks", wish)

    def change_webhook(self, ident: UUID, wish: schemas.SetWebhook, version: int | None = None) -> schemas.WebhookOf:
        """Change one. Outdated when somebody else has, since ``version``."""
        return self._ask(schemas.WebhookOf, "PUT", f"/webhooks/{ident}", wish, version=version)

    def remove_webhook(self, ident: UUID) -> None:
        """Remove one, with what waits for it."""
        self._ask(schemas.Done, "DELETE", f"/webhooks/{ident}")

    def pause_webhook(self, ident: UUID, is_paused: bool = True) -> schemas.WebhookOf:
        """Pause one, or let it go on where it was paused."""
        return self._ask(schemas.WebhookOf, "PUT" if is_paused else "DELETE", f"/webhooks/{ident}/paused")

    def rotate_webhook_secret(self, ident: UUID, hours: int = 24) -> schemas.WebhookMade:
        """Give one a new secret; the one before signs as well for so many hours."""
        wish = schemas.RotateSecret(hours=hours)
        return self._ask(schemas.WebhookMade, "POST", f"/webhooks/{ident}/secret", wish)

    def test_webhook(self, ident: UUID) -> None:
        """Send it a test."""
        self._ask(schemas.Done, "POST", f"/webhooks/{ident}/test")

    def deliveries(self, ident: UUID, state: schemas.DeliveryState | None = None) -> Sequence[schemas.DeliveryOf]:
        """Its latest deliveries, up to 200, or those in a state."""
        return self._get(schemas.Deliveries, f"/webhooks/{ident}/deliveries", state=state).rows

    def send_again(self, ident: UUID, deliveries: Sequence[UUID] = ()) -> int:
        """Send what was given up again, all or some; returns how many."""
        wish = schemas.SendAgain(deliveries=list(deliveries))
        return self._ask(schemas.SentAgain, "POST", f"/webhooks/{ident}/again", wish).count
