"""A stream of security events as its receiver sets it: OpenID Shared Signals Framework 1.0, section 8.

A receiver has one stream, by the token that it was given. It says how events get to it (pushed by RFC 8935, fetched by
RFC 8936), which, and about whom.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from uuid import UUID

from sqlalchemy import delete, func, or_, select, update

from openlatch.core import sent_signals as core
from openlatch.core import signals as core_signals
from openlatch.core import webhooks as core_webhooks
from openlatch.core.sent_signals import Status
from openlatch.core.signals import VERIFICATION
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, NotSignedIn, TooMany
from openlatch.json_values import JsonObject, JsonView
from openlatch.service.signals import receivers, sent_events
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.database import transaction
from openlatch.store.tables import Delivery, Person, PersonAddress, SignalStream, Webhook

MOST_HEADER = 2000
MOST_ASKED = 100


@dataclass(frozen=True, slots=True)
class Asker:
    """A receiver, by the token that it showed: who that is, and in which organisation."""

    viewer: Viewer
    stream: UUID


@dataclass(frozen=True, slots=True)
class Fetched:
    """Tokens by their ids, and whether there are more."""

    sets: Mapping[str, str]
    more: bool


def asker(service: Service, shown: str) -> Asker:
    """The receiver whose token was shown. NotSignedIn for another one."""
    with transaction(service.engine, None) as db:
        of = select(SignalStream.id, SignalStream.organisation_id)
        found = db.execute(of.where(SignalStream.token_hash == core_signals.digest(shown))).first() if shown else None
    if found is None:
        raise NotSignedIn("The token that was shown is no receiver's.", "Show the one that an administrator gave.")
    with transaction(service.engine, found.organisation_id) as db:
        name = db.scalar(select(Webhook.name).where(Webhook.id == found.id))
    return Asker(Viewer(found.organisation_id, name or "A receiver of signals"), found.id)


def poll_address(service: Service, ident: UUID) -> str:
    """Where a receiver fetches its events."""
    return f"{service.address}/signals/poll/{ident}"


def configured(unit: Unit, ident: UUID) -> JsonObject:
    """The configuration of a stream (section 8.1.1). NotFound while there is none."""
    hook, stream = _of(unit, ident)
    if stream.set_up_at is None:
        raise NotFound("There is no stream yet.", "Make one by POST.")
    push = {"method": core.PUSH, "endpoint_url": hook.url}
    poll = {"method": core.POLL, "endpoint_url": poll_address(unit.service, ident)}
    told: JsonObject = {
        "stream_id": str(ident),
        "iss": unit.service.address,
        "aud": stream.audience,
        "events_supported": list(core.EVENTS),
        "events_delivered": core.delivered(stream.requested),
        "delivery": push if hook.url else poll,
        "min_verification_interval": int(core.BETWEEN_VERIFICATIONS.total_seconds()),
    }
    if stream.requested is not None:
        told["events_requested"] = list(stream.requested)
    return {**told, "description": stream.description} if stream.description else told


def every(unit: Unit, ident: UUID) -> list[JsonObject]:
    """The streams of a receiver: one, or none."""
    _, stream = _of(unit, ident)
    return [] if stream.set_up_at is None else [configured(unit, ident)]


def make(unit: Unit, ident: UUID, asked: JsonView) -> JsonObject:
    """Make the stream (section 8.1.1.1). Conflict when there is one."""
    hook, stream = _of(unit, ident, lock=True)
    if stream.set_up_at is not None:
        raise Conflict("There is a stream already.", "Change it by PATCH, or delete it first.")
    stream.set_up_at = unit.now
    stream.requested, stream.description, stream.left_out, stream.is_disabled = None, "", [], False
    if not stream.is_held:
        hook.paused_at, stream.reason = None, ""
    # It gets what happens from now on.
    hook.position, _ = journal.head(unit.db)
    _write(unit, hook, stream, asked, whole=True)
    unit.record("signal_receiver.set_up", "signal_receiver", ident, hook.name, **_facts(hook, stream))
    return configured(unit, ident)


def change(unit: Unit, ident: UUID, asked: JsonView, whole: bool) -> JsonObject:
    """Change a stream (section 8.1.1.3), or replace what its receiver said of it as a ``whole`` (8.1.1.4)."""
    hook, stream = _of(unit, ident, lock=True)
    refuse_others(asked, ident)
    present = configured(unit, ident)
    for name in ("iss", "aud", "events_supported", "events_delivered", "min_verification_interval"):
        if name in asked and asked[name] != present[name]:
            raise BadInput(f"{name} is ours to set.", "Leave it out, or send it as it is.")
    _write(unit, hook, stream, asked, whole)
    unit.record("signal_receiver.changed", "signal_receiver", ident, hook.name, **_facts(hook, stream))
    receivers.wake(unit, hook)
    return configured(unit, ident)


def end(unit: Unit, ident: UUID) -> None:
    """Delete the stream with what waits; the receiver may make another."""
    hook, stream = _of(unit, ident, lock=True)
    configured(unit, ident)
    receivers.end_stream(unit, hook)
    stream.set_up_at, stream.authorization, hook.url = None, None, ""
    unit.record("signal_receiver.stream_ended", "signal_receiver", ident, hook.name)


def status(unit: Unit, ident: UUID) -> JsonObject:
    """Whether events are sent (section 8.1.2.1)."""
    configured(unit, ident)
    hook, stream = _of(unit, ident)
    told = {"stream_id": str(ident), "status": receivers.status_of(stream, hook).value}
    return {**told, "reason": stream.reason} if stream.reason else told


def set_status(unit: Unit, ident: UUID, asked: JsonView) -> JsonObject:
    """Enable, pause or disable the stream (section 8.1.2.2). NotAllowed while an administrator here holds it."""
    hook, stream = _of(unit, ident, lock=True)
    configured(unit, ident)
    refuse_others(asked, ident)
    try:
        wanted = Status(str(asked.get("status")))
    except ValueError:
        raise BadInput(f"{asked.get('status')!r} is no status.", f"Use one of: {', '.join(Status)}.") from None
    reason = asked.get("reason", "")
    if not isinstance(reason, str) or len(reason) > 500:
        raise BadInput("The reason is no text of up to 500 letters.", "Send it as text.")
    if stream.is_held and wanted is Status.ENABLED:
        raise NotAllowed("An administrator has paused this stream.", "Ask them to resume it.")
    if stream.is_disabled and wanted is not Status.DISABLED:
        # What happened while it was disabled was not made for it.
        hook.position, _ = journal.head(unit.db)
    if wanted is Status.DISABLED:
        receivers.end_stream(unit, hook)
    stream.is_disabled, stream.reason = wanted is Status.DISABLED, _clean(reason)
    hook.paused_at = None if wanted is Status.ENABLED else hook.paused_at or unit.now
    hook.tries, hook.next_try_at = 0, None
    unit.record("signal_receiver.status_set", "signal_receiver", ident, hook.name, status=wanted.value)
    receivers.wake(unit, hook)
    return status(unit, ident)


def set_subject(unit: Unit, ident: UUID, asked: JsonView, is_wanted: bool) -> None:
    """Send events about somebody, or none any more (section 8.1.3). NotFound for whom nobody here is."""
    _, stream = _of(unit, ident, lock=True)
    configured(unit, ident)
    refuse_others(asked, ident)
    named = core.email_of(asked.get("subject"))
    if named is None:
        raise BadInput("The subject can't be read.", "Name it by email, account, or the opaque id of an event.")
    people = _named(unit, *named)
    if not people:
        raise NotFound("Nobody here has that name.", "Check it.")
    kept = {str(one) for one in stream.left_out}
    kept = kept - people if is_wanted else kept | people
    if len(kept) > core.MOST_LEFT_OUT:
        raise Conflict(f"More than {core.MOST_LEFT_OUT} people would be left out.", "Add some again first.")
    stream.left_out = sorted(kept)
    unit.db.flush()


def _named(unit: Unit, form: str, name: str) -> set[str]:
    if form == "opaque":
        return set(map(str, unit.db.scalars(select(Person.id).where(func.text(Person.id) == name))))
    other = select(PersonAddress.person_id).where(func.lower(PersonAddress.address) == name.lower())
    by = or_(func.lower(Person.address) == name.lower(), Person.id.in_(other))
    return set(map(str, unit.db.scalars(select(Person.id).where(by))))


def verify(unit: Unit, ident: UUID, asked: JsonView) -> None:
    """Send a verification event (section 8.1.4.2). TooMany when the last was asked for a moment ago."""
    hook, stream = _of(unit, ident, lock=True)
    configured(unit, ident)
    refuse_others(asked, ident)
    state = asked.get("state")
    if state is not None and (not isinstance(state, str) or len(state) > 1000):
        raise BadInput("The state is no text of up to 1000 letters.", "Send it as text.")
    if stream.verified_at is not None and unit.now < stream.verified_at + core.BETWEEN_VERIFICATIONS:
        wait = stream.verified_at + core.BETWEEN_VERIFICATIONS - unit.now
        raise TooMany("A verification was asked for a moment ago.", wait=int(wait.total_seconds()) + 1)
    stream.verified_at = unit.now
    unit.db.add(sent_events.own_event(stream, VERIFICATION, {} if state is None else {"state": state}, unit.now))
    unit.db.flush()
    receivers.wake(unit, hook)


def fetch(unit: Unit, ident: UUID, asked: JsonView) -> Fetched:
    """Take what the receiver says of events that it has fetched, and give it more (RFC 8936, section 2)."""
    hook, stream = _of(unit, ident, lock=True)
    configured(unit, ident)
    if hook.url:
        raise NotFound("Events of this stream are pushed.", "Change its delivery first.")
    stream.heard_at = unit.now
    _settle(unit, ident, asked)
    most = asked.get("maxEvents", core.MOST_POLLED)
    if isinstance(most, bool) or not isinstance(most, int) or most < 0:
        raise BadInput("maxEvents is no number.", "Send one from 0.")
    if receivers.status_of(stream, hook) is not Status.ENABLED:
        return Fetched({}, False)
    most = min(most, core.MOST_POLLED)
    found = sent_events.waiting(unit.db, ident, most + 1, unit.now)
    tried = [one.id for one in found[:most]]
    unit.db.execute(update(Delivery).where(Delivery.id.in_(tried)).values(tries=Delivery.tries + 1))
    tokens = {str(one.id): sent_events.token(unit.service, stream.audience, one) for one in found[:most]}
    return Fetched(tokens, len(found) > most)


def _settle(unit: Unit, ident: UUID, asked: JsonView) -> None:
    """Note which events the receiver has, and which it could not take."""
    taken, faults = asked.get("ack", []), asked.get("setErrs", {})
    if not isinstance(taken, list) or not isinstance(faults, Mapping) or len(taken) + len(faults) > 10 * MOST_ASKED:
        raise BadInput("ack is no list, or setErrs no object, of up to 1000.", "Send them as RFC 8936 has them.")
    for name, state in [*((one, "delivered") for one in taken), *((one, "given_up") for one in faults)]:
        try:
            row = unit.db.get(Delivery, UUID(str(name)))
        except ValueError:
            continue
        if row is None or row.webhook_id != ident or row.state != "waiting":
            continue
        fault = faults.get(name)
        told = fault if isinstance(fault, Mapping) else {}
        row.state, row.ended_at = state, unit.now
        refused = _clean(f"{told.get('err')}: {told.get('description')}")
        row.answer = "it was fetched" if state == "delivered" else refused
    unit.announce("signal_receiver")


def _write(unit: Unit, hook: Webhook, stream: SignalStream, asked: JsonView, whole: bool) -> None:
    if whole or "events_requested" in asked:
        stream.requested = _events(asked.get("events_requested"))
    if whole or "description" in asked:
        description = asked.get("description") or ""
        if not isinstance(description, str):
            raise BadInput("The description is no text.", "Send it as text.")
        stream.description = _clean(description)
    if "delivery" in asked or whole:
        _set_delivery(unit, hook, stream, asked.get("delivery", {"method": core.POLL}))
    unit.db.flush()


def _events(asked: object) -> list[str] | None:
    if asked is None:
        return None
    if not isinstance(asked, list) or len(asked) > MOST_ASKED or not all(isinstance(one, str) for one in asked):
        raise BadInput("events_requested is no list of types.", "Send the types of events that you want.")
    return [_clean(one) for one in asked]


def _set_delivery(unit: Unit, hook: Webhook, stream: SignalStream, asked: object) -> None:
    told = asked if isinstance(asked, Mapping) else {}
    if told.get("method") == core.POLL:
        hook.url, stream.authorization = "", None
        return
    url, header = told.get("endpoint_url"), told.get("authorization_header")
    if told.get("method") != core.PUSH or not isinstance(url, str):
        raise BadInput("The delivery can't be used.", f"Use {core.PUSH} with an endpoint_url, or {core.POLL}.")
    if header is not None and not (isinstance(header, str) and _is_header(header)):
        raise BadInput("The authorization_header can't be sent.", "Send up to 2000 printable letters of ASCII.")
    hook.url = core_webhooks.checked_url(url, unit.service.private_receivers)
    stream.authorization = unit.service.cipher.encrypt(header.encode()) if header else None
    hook.tries, hook.next_try_at, hook.failing_since = 0, None, None
    if not core.delivered(stream.requested):
        unit.db.execute(delete(Delivery).where(Delivery.webhook_id == hook.id, Delivery.state == "waiting"))


def _is_header(value: str) -> bool:
    return len(value) <= MOST_HEADER and value.isascii() and value.isprintable()


def _clean(text: str) -> str:
    return "".join(letter for letter in text if letter.isprintable())[:500]


def _facts(hook: Webhook, stream: SignalStream) -> JsonObject:
    return {"events": core.delivered(stream.requested), "url": core_webhooks.without_query(hook.url)}


def refuse_others(asked: JsonView, ident: UUID) -> None:
    """NotFound when another stream is named than the receiver's own."""
    if "stream_id" in asked and asked["stream_id"] != str(ident):
        raise NotFound("There is no such stream, or it is another receiver's.", "Use the one that you were given.")


def _of(unit: Unit, ident: UUID, lock: bool = False) -> tuple[Webhook, SignalStream]:
    hook = unit.db.get(Webhook, ident, with_for_update=lock)
    stream = unit.db.get(SignalStream, ident)
    if hook is None or stream is None:
        raise NotFound("The receiver was removed.", "Ask the administrator.")
    return hook, stream
