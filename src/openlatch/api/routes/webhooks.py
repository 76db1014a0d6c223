"""The calls about webhooks."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.service.unit import Unit
from openlatch.service.webhooks import manage

ONE = "/webhooks/<uuid:ident>"


@api.add("GET", "/webhooks", "Receivers of what is journalled", schemas.Webhooks)
def list_webhooks(unit: Unit) -> schemas.Webhooks:
    """For administrators."""
    return schemas.Webhooks(rows=manage.rows(unit))


@api.add("POST", "/webhooks", "Add a webhook", schemas.WebhookMade, body=schemas.SetWebhook, status=201, secret=True)
def add_webhook(unit: Unit, body: schemas.SetWebhook) -> schemas.WebhookMade:
    """It is told what is journalled from now on. The secret is shown only now."""
    return manage.add(unit, body)


@api.add("PUT", ONE, "Change a webhook", schemas.WebhookOf, body=schemas.SetWebhook)
def change_webhook(unit: Unit, ident: UUID, body: schemas.SetWebhook) -> schemas.WebhookOf:
    """With If-Match, only when nobody has changed it meanwhile."""
    return manage.change(unit, ident, body, if_match())


@api.add("DELETE", ONE, "Remove a webhook", schemas.Done)
def remove_webhook(unit: Unit, ident: UUID) -> schemas.Done:
    """With what waits for its receiver."""
    manage.remove(unit, ident)
    return schemas.Done(done=True)


@api.add("PUT", f"{ONE}/paused", "Pause a webhook", schemas.WebhookOf)
def pause_webhook(unit: Unit, ident: UUID) -> schemas.WebhookOf:
    """What is journalled meanwhile is told when it goes on."""
    return manage.set_paused(unit, ident, True)


@api.add("DELETE", f"{ONE}/paused", "Let a paused webhook go on", schemas.WebhookOf)
def resume_webhook(unit: Unit, ident: UUID) -> schemas.WebhookOf:
    """Where it was paused."""
    return manage.set_paused(unit, ident, False)


@api.add(
    "POST", f"{ONE}/secret", "Give a webhook a new secret", schemas.WebhookMade, body=schemas.RotateSecret, secret=True
)
def rotate_webhook_secret(unit: Unit, ident: UUID, body: schemas.RotateSecret) -> schemas.WebhookMade:
    """The one before signs each message as well for some hours, so that nothing is lost meanwhile."""
    return manage.rotate(unit, ident, body.hours)


@api.add("POST", f"{ONE}/test", "Send a test to a webhook", schemas.Done, status=202)
def test_webhook(unit: Unit, ident: UUID) -> schemas.Done:
    """What comes of it is among the deliveries."""
    manage.test(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", f"{ONE}/deliveries", "Deliveries of a webhook", schemas.Deliveries, query=schemas.ListDeliveries)
def list_deliveries(unit: Unit, ident: UUID, query: schemas.ListDeliveries) -> schemas.Deliveries:
    """The latest 200, or of one state."""
    return schemas.Deliveries(rows=manage.deliveries(unit, ident, query.state or ""))


@api.add("POST", f"{ONE}/again", "Send again what was given up", schemas.SentAgain, body=schemas.SendAgain)
def send_deliveries_again(unit: Unit, ident: UUID, body: schemas.SendAgain) -> schemas.SentAgain:
    """All, or some."""
    return schemas.SentAgain(count=manage.send_again(unit, ident, body.deliveries))
