"""What is sent to receivers of security events: events made of the journal, each a signed token (RFC 8417)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from uuid import UUID

from sqlalchemy.orm import Session as Db

from openlatch.core import sent_signals as core
from openlatch.core.ids import new_id
from openlatch.core.signals import STREAM_UPDATED, VERIFICATION
from openlatch.json_values import JsonObject
from openlatch.service import signing_keys
from openlatch.service.unit import Service
from openlatch.service.webhooks import deliver
from openlatch.service.webhooks.signatures import Message
from openlatch.store import deliveries
from openlatch.store.deliveries import Due, Entry, Made, Receiver
from openlatch.store.flags import evaluate_many
from openlatch.store.tables import (
    Delivery,
    SignalStream,
)

TYPE = "application/secevent+jwt"
# The end of a team's access is told of so many people.
MOST_HOLDERS = 10_000


class SecurityEvents:
    """The kind of those who receive security events: of people who change, each event a token that we sign."""

    name, page, noun, subject = "signals", "/signals", "receiver of signals", "signal_receiver"

    def made_of(self, db: Db, to: Receiver, entries: Iterable[Entry]) -> Iterable[Made]:
        """One of each person whom an entry is about, of the types that the stream was set to."""
        if to.stream is None or not to.stream.is_open:
            return
        wanted, left_out = core.delivered(to.stream.requested), set(map(str, to.stream.left_out))
        for entry in entries:
            sent = core.BY_ACTION.get(entry.action)
            if sent is None or sent.event not in wanted:
                continue
            people = [one for one in _people_of(db, entry) if str(one) not in left_out]
            for part, person in enumerate(people):
                event = {"type": sent.event, "detail": _detail(entry, sent, person)}
                yield Made(entry.position, person, part, person, event, entry.at)

    def message(self, service: Service, db: Db, to: Receiver, delivery: Due, now: datetime) -> tuple[Message, bytes]:
        """The token, with the header that its receiver wants to be shown (RFC 8935, section 2.1)."""
        assert to.stream is not None
        headers = {"Content-Type": TYPE, "Accept": "application/json"}
        if to.stream.authorization is not None:
            headers["Authorization"] = service.cipher.decrypt(to.stream.authorization).decode()
        return Message("POST", to.url, headers), token(service, to.stream.audience, delivery).encode()


SECURITY_EVENTS = SecurityEvents()


def token(service: Service, audience: str, delivery: Due) -> str:
    """A delivery as a security event token. The same one has the same ``jti`` however often it is sent."""
    event = delivery.event or {}
    position = "" if delivery.position is None else str(delivery.position)
    claims = {
        "iss": service.address,
        "aud": audience,
        "jti": str(delivery.id),
        "iat": int(delivery.created_at.timestamp()),
        "txn": f"{delivery.organisation_id}/{position or delivery.id}",
        "sub_id": _subject(delivery),
        "events": {event["type"]: event["detail"]},
    }
    return signing_keys.signed(service, claims, "secevent+jwt")


def _subject(delivery: Due) -> JsonObject:
    if delivery.person_id is None:
        # It is about the stream itself.
        return {"format": "opaque", "id": str(delivery.webhook_id)}
    return dict(core.subject_of(delivery.address, str(delivery.person_id)))


def _detail(entry: Entry, sent: core.Sent, person: UUID) -> JsonObject:
    by = "system" if entry.actor_id is None else "user" if entry.actor_id == person else "admin"
    return core.detail_of(sent, entry.account_name or "", by, int(entry.at.timestamp()))


def _people_of(db: Db, entry: Entry) -> list[UUID]:
    """Whom an entry is about: a person, whoever a sign-in is for, or those who reach an account by a grant."""
    if entry.person_id is not None:
        return [entry.person_id]
    if entry.subject_kind == "grant" and entry.subject_id is not None:
        return list(evaluate_many.people_behind(db, [entry.subject_id], entry.at, MOST_HOLDERS))
    return []


def own_event(stream: SignalStream, kind: str, detail: JsonObject, now: datetime) -> Delivery:
    """An event about the stream itself, to be sent as the others."""
    assert kind in (VERIFICATION, STREAM_UPDATED)
    event = {"type": kind, "detail": detail}
    return Delivery(
        id=new_id(), organisation_id=stream.organisation_id, webhook_id=stream.id, event=event, created_at=now
    )


def waiting(db: Db, ident: UUID, most: int, now: datetime) -> list[Due]:
    """What a receiver that fetches has not taken yet, after what is due was made: a bounded part of each."""
    to, entries = deliveries.further(db, ident)
    if to is not None:
        deliver.make(db, to, entries, SECURITY_EVENTS, now)
    return deliveries.waiting(db, ident, most)
