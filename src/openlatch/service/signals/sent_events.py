"""What is sent to receivers of security events: events made of the journal, each a signed token (RFC 8417)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from uuid import UUID

from sqlalchemy import select
from sqlalchemy.orm import Session as Db
from sqlalchemy.orm import undefer

from openlatch.core import sent_signals as core
from openlatch.core.ids import new_id
from openlatch.core.signals import STREAM_UPDATED, VERIFICATION
from openlatch.json_values import JsonObject
from openlatch.service import signing_keys
from openlatch.service.unit import Service
from openlatch.service.webhooks import deliver
from openlatch.service.webhooks.signatures import Message
from openlatch.store.flags import evaluate_many
from openlatch.store.tables import (
    Account,
    Delivery,
    Grant,
    JournalEntry,
    Person,
    SignalStream,
    SignIn,
    Webhook,
)

TYPE = "application/secevent+jwt"
# The end of a team's access is told of so many people.
MOST_HOLDERS = 10_000


class SecurityEvents:
    """The kind of those who receive security events: of people who change, each event a token that we sign."""

    name, page, noun, subject = "signals", "/signals", "receiver of signals", "signal_receiver"

    def made_of(self, db: Db, hook: Webhook, entries: Iterable[JournalEntry]) -> list[JsonObject]:
        """One of each person whom an entry is about, of the types that the stream was set to."""
        stream = db.get_one(SignalStream, hook.id)
        if stream.set_up_at is None or stream.is_disabled:
            return []
        wanted, left_out = core.delivered(stream.requested), set(map(str, stream.left_out))
        made: list[JsonObject] = []
        for entry in entries:
            told = core.BY_ACTION.get(entry.action)
            if told is None or told.event not in wanted:
                continue
            people = [one for one in _people_of(db, entry) if str(one) not in left_out]
            for part, person in enumerate(people):
                event = {"type": told.event, "detail": _detail(db, entry, told, person)}
                told_of = {"person_id": person, "subject_id": person, "event": event, "created_at": entry.at}
                made.append({"position": entry.position, "part": part, **told_of})
        return made

    def message(
        self, service: Service, db: Db, hook: Webhook, delivery: Delivery, now: datetime
    ) -> tuple[Message, bytes]:
        """The token, with the header that its receiver wants to be shown (RFC 8935, section 2.1)."""
        stream = db.get_one(SignalStream, hook.id, options=[undefer(SignalStream.authorization)])
        headers = {"Content-Type": TYPE, "Accept": "application/json"}
        if stream.authorization is not None:
            headers["Authorization"] = service.cipher.decrypt(stream.authorization).decode()
        return Message("POST", hook.url, headers), token(service, db, stream, delivery).encode()


SECURITY_EVENTS = SecurityEvents()


def token(service: Service, db: Db, stream: SignalStream, delivery: Delivery) -> str:
    """A delivery as a security event token. The same one has the same ``jti`` however often it is sent."""
    event = delivery.event or {}
    position = "" if delivery.position is None else str(delivery.position)
    claims = {
        "iss": service.address,
        "aud": stream.audience,
        "jti": str(delivery.id),
        "iat": int(delivery.created_at.timestamp()),
        "txn": f"{delivery.organisation_id}/{position or delivery.id}",
        "sub_id": _subject(db, stream, delivery),
        "events": {event["type"]: event["detail"]},
    }
    return signing_keys.signed(service, claims, "secevent+jwt")


def _subject(db: Db, stream: SignalStream, delivery: Delivery) -> JsonObject:
    if delivery.person_id is None:
        # It is about the stream itself.
        return {"format": "opaque", "id": str(stream.id)}
    person = db.get_one(Person, delivery.person_id)
    return dict(core.subject_of(person.address, str(person.id)))


def _detail(db: Db, entry: JournalEntry, told: core.Sent, person: UUID) -> JsonObject:
    account = db.get(Account, entry.account_id) if entry.account_id else None
    by = "system" if entry.actor_id is None else "user" if entry.actor_id == person else "admin"
    return core.detail_of(told, account.name if account else "", by, int(entry.at.timestamp()))


def _people_of(db: Db, entry: JournalEntry) -> Iterator[UUID]:
    """Whom an entry is about: a person, whoever a sign-in is for, or those who reach an account by a grant."""
    if entry.subject_id is None:
        return
    if entry.subject_kind == "person":
        yield entry.subject_id
    elif entry.subject_kind == "sign_in":
        yield from db.scalars(select(SignIn.person_id).where(SignIn.id == entry.subject_id))
    elif entry.subject_kind == "grant":
        yield from _holders(db, entry.subject_id, entry.at)


def _holders(db: Db, grant: UUID, at: datetime) -> Iterator[UUID]:
    person = db.scalar(select(Grant.person_id).where(Grant.id == grant))
    if person is not None:
        yield person
    else:
        yield from evaluate_many.people_behind(db, [grant], at, MOST_HOLDERS)


def own_event(stream: SignalStream, kind: str, detail: JsonObject, now: datetime) -> Delivery:
    """An event about the stream itself, to be sent as the others."""
    assert kind in (VERIFICATION, STREAM_UPDATED)
    event = {"type": kind, "detail": detail}
    return Delivery(
        id=new_id(), organisation_id=stream.organisation_id, webhook_id=stream.id, event=event, created_at=now
    )


def make(db: Db, stream: SignalStream) -> None:
    """Make what is due for a receiver that fetches; a bounded part of it."""
    deliver.make(db, stream.organisation_id, stream.id, SECURITY_EVENTS)
