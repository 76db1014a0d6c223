"""The webhooks of an organisation: for administrators, each change after a fresh proof."""

from __future__ import annotations

import secrets
from datetime import timedelta
from uuid import UUID

from sqlalchemy import ColumnElement, delete, func, select, update
from sqlalchemy.orm import undefer

from openlatch import schemas
from openlatch.core import webhooks as core
from openlatch.core.checks import require_name
from openlatch.errors import BadInput, Conflict, NotFound, Outdated
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.service.webhooks.deliver import ENTRIES, key_id
from openlatch.store import journal
from openlatch.store.tables import Delivery, Person, Webhook

MOST = 50
OURS = Webhook.kind == ENTRIES.name
MOST_SHOWN = 200
SECRET_BYTES = 32


def rows(unit: Unit) -> list[schemas.WebhookOf]:
    """Every webhook, with how many deliveries wait and were given up."""
    unit.sight.require_administrator()
    waiting, given_up = counted("waiting"), counted("given_up")
    found = unit.db.execute(select(Webhook, waiting, given_up).where(OURS).order_by(Webhook.name)).all()
    return [_shown(row, some, others) for row, some, others in found]


def counted(state: str) -> ColumnElement[int]:
    """How many deliveries to a receiver are in a state, for a query of receivers."""
    of = select(func.count(Delivery.id)).where(Delivery.webhook_id == Webhook.id, Delivery.state == state)
    return of.correlate(Webhook).scalar_subquery()


def _shown(row: Webhook, waiting: int, given_up: int) -> schemas.WebhookOf:
    return schemas.WebhookOf(
        id=row.id,
        name=row.name,
        url=row.url,
        actions=[str(one) for one in row.actions],
        key_id=key_id(row.id, row.secret_number),
        secret_before_until=row.secret_before_until,
        paused_at=row.paused_at,
        failing_since=row.failing_since,
        next_try_at=row.next_try_at,
        waiting=waiting,
        given_up=given_up,
        version=row.version,
    )


def one(unit: Unit, ident: UUID) -> schemas.WebhookOf:
    """One webhook. NotFound when there is none."""
    for row in rows(unit):
        if row.id == ident:
            return row
    raise NotFound("There is no such webhook.")


def add(unit: Unit, wish: schemas.SetWebhook) -> schemas.WebhookMade:
    """Tell a receiver what is journalled from now on. The secret is shown only now."""
    unit.sight.require_administrator()
    unit.require_proof("Adding a webhook")
    if (unit.db.scalar(select(func.count(Webhook.id)).where(OURS)) or 0) >= MOST:
        raise Conflict(f"There are {MOST} webhooks already.", "Remove one that nobody needs.")
    secret = secrets.token_bytes(SECRET_BYTES)
    position, _ = journal.head(unit.db)
    row = Webhook(
        organisation_id=unit.viewer.organisation,
        secret=unit.service.cipher.encrypt(secret),
        secret_number=1,
        position=position,
    )
    _write(unit, row, wish)
    unit.db.add(row)
    unit.db.flush()
    unit.record("webhook.added", "webhook", row.id, row.name, url=core.without_query(row.url), actions=row.actions)
    _tell(unit, f"{unit.viewer.name} added the webhook {row.name} ({core.without_query(row.url)}).")
    unit.db.refresh(row)
    return schemas.WebhookMade(webhook=_shown(row, 0, 0), secret=_written(secret))


def change(unit: Unit, ident: UUID, wish: schemas.SetWebhook, version: int | None) -> schemas.WebhookOf:
    """Change where it goes, and what is told."""
    row = _locked(unit, ident, "Changing a webhook")
    if version is not None and row.version != version:
        raise Outdated("The webhook was changed meanwhile.", "Look at it again.", {"version": str(row.version)})
    _write(unit, row, wish)
    # It may be another receiver.
    row.tries, row.next_try_at, row.failing_since = 0, None, None
    row.version += 1
    unit.db.flush()
    unit.record("webhook.changed", "webhook", row.id, row.name, url=core.without_query(row.url), actions=row.actions)
    _tell(unit, f"{unit.viewer.name} changed the webhook {row.name} ({core.without_query(row.url)}).")
    return one(unit, ident)


def remove(unit: Unit, ident: UUID) -> None:
    """Remove a webhook, and what waits for its receiver."""
    row = _locked(unit, ident, "Removing a webhook")
    forget(unit, row)
    unit.db.delete(row)
    unit.db.flush()
    unit.record("webhook.removed", "webhook", ident, row.name, url=core.without_query(row.url))
    _tell(unit, f"{unit.viewer.name} removed the webhook {row.name}.")


def forget(unit: Unit, row: Webhook) -> None:
    """Delete what waits for a receiver of any kind, and what it was sent."""
    unit.db.execute(delete(Delivery).where(Delivery.webhook_id == row.id))


def set_paused(unit: Unit, ident: UUID, is_paused: bool) -> schemas.WebhookOf:
    """Pause a webhook, or go on where it was paused: nothing is lost meanwhile."""
    row = _locked(unit, ident, "Pausing a webhook" if is_paused else "Resuming a webhook")
    if (row.paused_at is not None) != is_paused:
        row.paused_at = unit.now if is_paused else None
        row.tries, row.next_try_at = 0, None
        how = "paused" if is_paused else "resumed"
        unit.record(f"webhook.{how}", "webhook", row.id, row.name)
        _wake(unit, row)
    return one(unit, ident)


def rotate(unit: Unit, ident: UUID, hours: int) -> schemas.WebhookMade:
    """Give a webhook a new secret. For so many hours the one before signs each message as well."""
    row = _locked(unit, ident, "Giving a webhook a new secret", secret=True)
    secret = secrets.token_bytes(SECRET_BYTES)
    row.secret_before, row.secret_before_until = row.secret, unit.now + timedelta(hours=hours)
    row.secret, row.secret_number = unit.service.cipher.encrypt(secret), row.secret_number + 1
    unit.db.flush()
    unit.record("webhook.secret_set", "webhook", row.id, row.name, hours=hours)
    return schemas.WebhookMade(webhook=one(unit, ident), secret=_written(secret))


def test(unit: Unit, ident: UUID) -> None:
    """Send a test, which is about nothing."""
    row = _locked(unit, ident, "Testing a webhook")
    if row.paused_at is not None:
        raise Conflict("The webhook is paused.", "Resume it first.")
    unit.db.add(Delivery(organisation_id=unit.viewer.organisation, webhook_id=row.id, created_at=unit.now))
    # Somebody waits for it.
    row.next_try_at = None
    unit.db.flush()
    unit.announce("delivery")
    _wake(unit, row)


def deliveries(unit: Unit, ident: UUID, state: str) -> list[schemas.DeliveryOf]:
    """The latest deliveries of a webhook, or those in a state, the latest first."""
    one(unit, ident)
    return [
        schemas.DeliveryOf.model_validate(
            {
                "id": row.id,
                "position": row.position,
                "state": row.state,
                "tries": row.tries,
                "answer": row.answer,
                "made_at": row.created_at,
                "next_try_at": row.next_try_at,
                "ended_at": row.ended_at,
            }
        )
        for row, _ in sent_about(unit, ident, state)
    ]


def sent_about(unit: Unit, ident: UUID, state: str) -> list[tuple[Delivery, Person | None]]:
    """The latest deliveries to a receiver of any kind, or those in a state, each with whom it is about."""
    wanted = select(Delivery, Person).outerjoin(Person, Person.id == Delivery.person_id)
    wanted = wanted.where(Delivery.webhook_id == ident)
    wanted = wanted.where(Delivery.state == state) if state else wanted
    return [(row, person) for row, person in unit.db.execute(wanted.order_by(Delivery.id.desc()).limit(MOST_SHOWN))]


def send_again(unit: Unit, ident: UUID, which: list[UUID]) -> int:
    """Send deliveries that were given up again, all or some; returns how many."""
    row = _locked(unit, ident, "Sending again")
    count = wait_again(unit, row, which)
    if count:
        unit.record("webhook.sent_again", "webhook", row.id, row.name, count=count)
        _wake(unit, row)
    return count


def wait_again(unit: Unit, row: Webhook, which: list[UUID]) -> int:
    """Let deliveries that were given up wait again, all or some; returns how many."""
    ident = row.id
    again = update(Delivery).where(Delivery.webhook_id == ident, Delivery.state == "given_up")
    again = again.where(Delivery.id.in_(which)) if which else again
    values = {"state": "waiting", "tries": 0, "next_try_at": None, "ended_at": None}
    count = len(unit.db.scalars(again.values(values).returning(Delivery.id)).all())
    if count:
        row.tries, row.next_try_at = 0, None
    return count


def _locked(unit: Unit, ident: UUID, why: str, secret: bool = False) -> Webhook:
    unit.sight.require_administrator()
    unit.require_proof(why)
    options = [undefer(Webhook.secret)] if secret else []
    row = unit.db.get(Webhook, ident, with_for_update=True, options=options)
    if row is None or row.kind != ENTRIES.name:
        raise NotFound("There is no such webhook.")
    return row


def _write(unit: Unit, row: Webhook, wish: schemas.SetWebhook) -> None:
    name = require_name(wish.name, "The webhook has no name.", "Give one that tells its receiver.")
    refuse_taken(unit, row, name)
    row.name, row.actions = name, list(core.filters_of(wish.actions))
    row.url = core.checked_url(wish.url, unit.service.private_receivers)


def refuse_taken(unit: Unit, row: Webhook, name: str) -> None:
    """BadInput for a name that another receiver has, of whichever kind."""
    taken = unit.db.scalar(select(Webhook.kind).where(Webhook.name == name, Webhook.id != row.id))
    if taken is not None:
        noun = "webhook" if taken == ENTRIES.name else "receiver of signals"
        raise BadInput(f"There is a {noun} called {name} already.", "Give another name.", {"name": "is taken"})


def _written(secret: bytes) -> str:
    return secret.hex()


def _wake(unit: Unit, row: Webhook) -> None:
    unit.wake("deliver", webhook=row.id)


def _tell(unit: Unit, sentence: str) -> None:
    others = list(notices.administrators(unit) - {unit.viewer.person})
    notices.tell_and_write(unit, others, "sign_in", sentence, ENTRIES.page)
