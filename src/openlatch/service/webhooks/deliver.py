"""Delivering: entries of the journal become deliveries, and deliveries are posted until they are taken or given up.

What becomes of an entry, and what is posted, is the kind's of the receiver: here entries as they are; security events
in ``service.signals``.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Protocol
from uuid import UUID

import orjson
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session as Db

from openlatch.core import webhooks as core
from openlatch.json_values import JsonObject
from openlatch.service.journal import entries
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.service.webhooks import post, signatures
from openlatch.store import deliveries, journal
from openlatch.store.database import transaction
from openlatch.store.deliveries import Due, Entry, Made, Receiver
from openlatch.store.tables import Delivery, JournalEntry, JournalHead, Webhook

# So many deliveries are sent before others have their turn.
SENT_AT_ONCE = 20
# A process that died while it delivered holds the receiver up for so long.
LEASE = timedelta(seconds=SENT_AT_ONCE * post.SECONDS * post.MOST_NUMBERS + 30)
# What a process spends on receivers at most, so that slow ones leave room for everything else.
_ROOM = threading.BoundedSemaphore(4)
KEPT = timedelta(days=30)

Post = Callable[[signatures.Message, bytes, tuple[str, ...]], post.Outcome]


class Kind(Protocol):
    """What a kind of receiver gets, and how people speak of one: its place, its noun, and its kind in the journal."""

    name: str
    page: str
    noun: str
    subject: str

    def made_of(self, db: Db, to: Receiver, entries: Iterable[Entry]) -> Iterable[Made]:
        """The deliveries that entries of the journal become, in their order."""

    def message(
        self, service: Service, db: Db, to: Receiver, delivery: Due, now: datetime
    ) -> tuple[signatures.Message, bytes]:
        """A delivery as it is posted now."""


def due(unit: Unit, kind: Kind) -> list[UUID]:
    """The receivers of a kind for whom there is something to make or to send now."""
    head = select(JournalHead.position).where(JournalHead.organisation_id == unit.viewer.organisation).scalar_subquery()
    waiting = select(Delivery.id).where(
        Delivery.webhook_id == Webhook.id,
        Delivery.state == "waiting",
        or_(Delivery.next_try_at.is_(None), Delivery.next_try_at <= unit.now),
    )
    wanted = select(Webhook.id).where(
        Webhook.kind == kind.name,
        # Others fetch what is for them.
        Webhook.url != "",
        Webhook.paused_at.is_(None),
        or_(Webhook.busy_until.is_(None), Webhook.busy_until < unit.now),
        or_(Webhook.next_try_at.is_(None), Webhook.next_try_at <= unit.now),
        or_(Webhook.position < head, waiting.exists()),
    )
    return list(unit.db.scalars(wanted.order_by(Webhook.id)))


def receivers(service: Service, organisation: UUID) -> list[tuple[UUID, str]]:
    """The receivers that something is posted to, each with the name of its kind."""
    with transaction(service.engine, organisation) as db:
        posted = select(Webhook.id, Webhook.kind).where(Webhook.url != "", Webhook.paused_at.is_(None))
        return [(ident, name) for ident, name in db.execute(posted.order_by(Webhook.id))]


def deliver(service: Service, organisation: UUID, ident: UUID, kind: Kind, send: Post = post.post) -> bool:
    """Make and send what is due for one receiver; returns whether there is more. One process does at a time."""
    if not _ROOM.acquire(blocking=False):
        return False
    try:
        now = service.clock()
        until = now + LEASE
        with transaction(service.engine, organisation) as db:
            to, entries = deliveries.claim(db, ident, now, until)
            delivery = make(db, to, entries, kind, now) if to else None
            ready = _ready(service, db, to, delivery, kind, now)
        if to is None:
            return False
        sent = 0
        try:
            while ready is not None and sent < SENT_AT_ONCE:
                outcome = send(ready.message, ready.body, service.private_receivers)
                sent += 1
                with service.unit(Viewer.itself(organisation)) as unit:
                    if outcome.is_taken:
                        deliveries.taken(unit.db, ident, ready.delivery, _printable(outcome), unit.now)
                    else:
                        _note(unit, ident, ready.delivery, outcome, kind)
                # Apart, so that a next one that can't be written does not undo that this one was delivered.
                with transaction(service.engine, organisation) as db:
                    # One that is down is left alone until its next try.
                    now = service.clock()
                    to, delivery = (None, None) if outcome.is_down else deliveries.next_due(db, ident, now)
                    ready = _ready(service, db, to, delivery, kind, now)
        finally:
            with service.unit(Viewer.itself(organisation)) as unit:
                # Only one's own: another process has it by now, where this one took longer.
                deliveries.release(unit.db, ident, until)
                if sent:
                    unit.announce("delivery")
        return len(entries) == deliveries.MADE_AT_ONCE or ready is not None
    finally:
        _ROOM.release()


def make(db: Db, to: Receiver, entries: Sequence[Entry], kind: Kind, now: datetime) -> Due | None:
    """Make the deliveries that further entries become, for a receiver whose row is locked; returns the next one that is
    due.
    """
    if not entries:
        return deliveries.next_due(db, to.id, now)[1]
    return deliveries.make(db, to, kind.made_of(db, to, entries), entries[-1].position, now)


@dataclass(frozen=True, slots=True)
class Ready:
    """A delivery as it is posted."""

    delivery: UUID
    message: signatures.Message
    body: bytes


def _ready(
    service: Service, db: Db, to: Receiver | None, delivery: Due | None, kind: Kind, now: datetime
) -> Ready | None:
    """A delivery as it is posted, unless its receiver is paused, fetches now, or is to be left alone for now."""
    if to is None or delivery is None or not to.url or to.paused_at is not None or (to.next_try_at or now) > now:
        return None
    return Ready(delivery.id, *kind.message(service, db, to, delivery, now))


class Entries:
    """The kind of those who receive what is journalled: each entry as an event, signed by a secret of both."""

    name, page, noun, subject = "journal", "/webhooks", "webhook", "webhook"

    def made_of(self, db: Db, to: Receiver, told: Iterable[Entry]) -> Iterable[Made]:
        """One of each entry that the receiver wants."""
        return [Made(one.position, one.subject_id) for one in told if core.wants(to.actions, one.action)]

    def message(
        self, service: Service, db: Db, to: Receiver, delivery: Due, now: datetime
    ) -> tuple[signatures.Message, bytes]:
        """The entry as the journal has it now."""
        entry = _entry(service, db, delivery, to)
        body = orjson.dumps(core.event(service.address, entry))
        return signatures.signed(to.url, body, _secrets(service, to, now), now, str(delivery.id)), body


ENTRIES = Entries()


def _entry(service: Service, db: Db, delivery: Due, to: Receiver) -> JsonObject:
    if delivery.position is None:
        # A test has no place in the journal.
        test = {"kind": "webhook", "id": str(to.id), "name": to.name, "account": None}
        return {
            "organisation": str(to.organisation_id),
            "position": f"test-{delivery.id}",
            "at": journal.stamp(delivery.created_at),
            "actor": {"id": None, "name": "Open Latch"},
            "action": "webhook.test",
            "subject": test,
            "facts": {},
        }
    row = db.get(JournalEntry, (to.organisation_id, delivery.position))
    if row is None:
        archived = entries.at(service, db, to.organisation_id, delivery.position)
        assert archived is not None
        return {name: value for name, value in archived.items() if name not in {"previous", "key", "told"}}
    account = str(row.account_id) if row.account_id else None
    subject_id = str(row.subject_id) if row.subject_id else None
    return {
        "organisation": str(row.organisation_id),
        "position": row.position,
        "at": journal.stamp(row.at),
        "actor": {"id": str(row.actor_id) if row.actor_id else None, "name": row.actor_name},
        "action": row.action,
        "subject": {"kind": row.subject_kind, "id": subject_id, "name": row.subject_name, "account": account},
        "facts": row.facts,
        "hash": row.hash.hex(),
    }


def _secrets(service: Service, to: Receiver, now: datetime) -> list[tuple[str, bytes]]:
    """The secrets that sign now, by their key ids: the present one, and the one before while it still counts."""
    found = [(key_id(to.id, to.secret_number), service.cipher.decrypt(to.secret))]
    if to.secret_before is not None and to.secret_before_until is not None and to.secret_before_until > now:
        found.append((key_id(to.id, to.secret_number - 1), service.cipher.decrypt(to.secret_before)))
    return found


def key_id(ident: UUID, number: int) -> str:
    """The key id of a receiver's secret: each new one has another."""
    return f"{ident}.{number}"


def _printable(outcome: post.Outcome) -> str:
    """What a receiver answered, which can be anything."""
    return "".join(letter for letter in outcome.words if letter.isprintable())[:500]


def _note(unit: Unit, ident: UUID, delivery_id: UUID, outcome: post.Outcome, kind: Kind) -> None:
    """Note that a delivery was not taken, and when it is tried again."""
    hook, delivery = unit.db.get(Webhook, ident, with_for_update=True), unit.db.get(Delivery, delivery_id)
    if hook is None or delivery is None:
        return
    delivery.tries += 1
    delivery.answer = _printable(outcome)
    if outcome.is_down:
        hook.failing_since = hook.failing_since or unit.now
        hook.tries += 1
        hook.next_try_at = core.next_try(min(hook.tries, core.MOST_TRIES - 1), unit.now, outcome.wait)
    delivery.next_try_at = core.next_try(delivery.tries, unit.now, outcome.wait)
    if outcome.status == 410:
        hook.paused_at = unit.now
        _tell(unit, kind, f"The {kind.noun} {hook.name} says that it is gone; it is paused.")
        unit.record(f"{kind.subject}.paused", kind.subject, hook.id, hook.name, answer=delivery.answer)
    if delivery.next_try_at is None:
        delivery.state, delivery.ended_at = "given_up", unit.now
        others = select(func.count(Delivery.id)).where(Delivery.webhook_id == ident, Delivery.state == "given_up")
        # Once: others follow when a receiver stays away.
        if (unit.db.scalar(others) or 0) <= 1:
            _tell(unit, kind, f"A delivery to the {kind.noun} {hook.name} was given up after {delivery.tries} tries.")


def _tell(unit: Unit, kind: Kind, sentence: str) -> None:
    notices.tell_and_write(unit, list(notices.administrators(unit)), "sign_in", sentence, kind.page)
