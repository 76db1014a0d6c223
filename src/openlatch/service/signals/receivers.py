"""Receivers of security events, as administrators see them: added, paused, removed, and what they were sent."""

from __future__ import annotations

import secrets
from uuid import UUID

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core import sent_signals as core
from openlatch.core import signals as core_signals
from openlatch.core.checks import require_name
from openlatch.core.signals import STREAM_UPDATED, VERIFICATION
from openlatch.core.webhooks import without_query
from openlatch.errors import Conflict, NotFound
from openlatch.service.notifications import notices
from openlatch.service.signals import sent_events, sources
from openlatch.service.signals.sent_events import SECURITY_EVENTS
from openlatch.service.unit import Unit
from openlatch.service.webhooks import manage
from openlatch.store import journal
from openlatch.store.tables import SignalStream, Webhook

MOST = 50


def status_of(stream: SignalStream, hook: Webhook) -> core.Status:
    """What happens with its events."""
    if stream.is_disabled:
        return core.Status.DISABLED
    return core.Status.ENABLED if hook.paused_at is None else core.Status.PAUSED


def rows(unit: Unit) -> schemas.SignalReceivers:
    """Every receiver, with how many events wait and were given up."""
    unit.sight.require_administrator()
    wanted = select(Webhook, SignalStream, manage.counted("waiting"), manage.counted("given_up"))
    found = unit.db.execute(wanted.join(SignalStream, SignalStream.id == Webhook.id).order_by(Webhook.name))
    return schemas.SignalReceivers(receivers=[_shown(*row) for row in found])


def _shown(hook: Webhook, stream: SignalStream, waiting: int, given_up: int) -> schemas.SignalReceiverOf:
    return schemas.SignalReceiverOf(
        id=hook.id,
        name=hook.name,
        audience=stream.audience,
        description=stream.description,
        status=status_of(stream, hook).value if stream.set_up_at else "not_set_up",
        reason=stream.reason,
        delivery="none" if stream.set_up_at is None else "push" if hook.url else "poll",
        address=without_query(hook.url),
        events=core.delivered(stream.requested) if stream.set_up_at else [],
        left_out=len(stream.left_out),
        heard_at=stream.heard_at,
        failing_since=hook.failing_since,
        waiting=waiting,
        given_up=given_up,
    )


def one(unit: Unit, ident: UUID) -> schemas.SignalReceiverOf:
    """One receiver. NotFound when there is none."""
    for row in rows(unit).receivers:
        if row.id == ident:
            return row
    raise NotFound("There is no such receiver of signals.")


def add(unit: Unit, wish: schemas.AddSignalReceiver) -> schemas.SignalReceiverMade:
    """Let a service make a stream of security events here. The token that it shows is shown only now."""
    unit.sight.require_administrator()
    unit.require_proof("Adding a receiver of signals")
    if (unit.db.scalar(select(func.count(SignalStream.id))) or 0) >= MOST:
        raise Conflict(f"There are {MOST} receivers of signals already.", "Remove one that nobody needs.")
    position, _ = journal.head(unit.db)
    # It has no secret: what it is sent is signed by our key.
    hook = Webhook(organisation_id=unit.viewer.organisation, kind=SECURITY_EVENTS.name, url="", secret=b"")
    hook.name = require_name(wish.name, "The receiver has no name.", "Give one that tells what it is.")
    hook.position = position
    manage.refuse_taken(unit, hook, hook.name)
    unit.db.add(hook)
    unit.db.flush()
    token = secrets.token_urlsafe(32)
    audience = wish.audience.strip() or f"{unit.service.address}/signals/receivers/{hook.id}"
    stream = SignalStream(id=hook.id, organisation_id=hook.organisation_id, audience=audience)
    stream.token_hash = core_signals.digest(token)
    unit.db.add(stream)
    unit.db.flush()
    unit.record("signal_receiver.added", "signal_receiver", hook.id, hook.name, audience=audience)
    _tell(unit, f"{unit.viewer.name} lets {hook.name} receive security events about people.")
    unit.db.refresh(stream)
    configuration = f"{unit.service.address}/.well-known/ssf-configuration"
    return schemas.SignalReceiverMade(receiver=_shown(hook, stream, 0, 0), token=token, configuration=configuration)


def remove(unit: Unit, ident: UUID) -> None:
    """Send nothing more to it, and refuse its token."""
    hook, _ = locked(unit, ident, "Removing a receiver of signals")
    end_stream(unit, hook)
    unit.db.delete(hook)
    unit.db.flush()
    unit.record("signal_receiver.removed", "signal_receiver", ident, hook.name)
    _tell(unit, f"{unit.viewer.name} removed {hook.name}, which received security events.")


def end_stream(unit: Unit, hook: Webhook) -> None:
    """Delete what waits for a receiver, and what was sent."""
    manage.forget(unit, hook)


def set_held(unit: Unit, ident: UUID, is_held: bool, reason: str) -> schemas.SignalReceiverOf:
    """Pause a stream so that its receiver can't resume it, or let it go on: what happened meanwhile is sent then.

    Its receiver is told of it by an event, before the stream stops.
    """
    hook, stream = locked(unit, ident, "Pausing a receiver of signals" if is_held else "Resuming a receiver of signals")
    if stream.is_held == is_held:
        return one(unit, ident)
    stream.is_held, stream.reason = is_held, reason.strip()
    hook.paused_at = unit.now if is_held else None
    hook.tries, hook.next_try_at = 0, None
    told = {"status": status_of(stream, hook).value, **({"reason": stream.reason} if stream.reason else {})}
    unit.db.add(sent_events.own_event(stream, STREAM_UPDATED, told, unit.now))
    unit.db.flush()
    how = "paused" if is_held else "resumed"
    unit.record(f"signal_receiver.{how}", "signal_receiver", hook.id, hook.name, reason=stream.reason)
    wake(unit, hook)
    return one(unit, ident)


def verify(unit: Unit, ident: UUID) -> None:
    """Send an event that tells only that the stream works."""
    hook, stream = locked(unit, ident, "Testing a receiver of signals")
    if stream.set_up_at is None or status_of(stream, hook) is not core.Status.ENABLED:
        raise Conflict("The receiver has no stream that is enabled.", "It has to make one, or be resumed, first.")
    unit.db.add(sent_events.own_event(stream, VERIFICATION, {}, unit.now))
    hook.next_try_at = None
    unit.db.flush()
    unit.announce("signal_receiver")
    wake(unit, hook)


def events(unit: Unit, ident: UUID, state: str) -> list[schemas.SentSignalOf]:
    """The latest events for a receiver, or those in a state, the latest first."""
    unit.sight.require_administrator()
    one(unit, ident)
    return [
        schemas.SentSignalOf(
            id=row.id,
            event=str((row.event or {}).get("type", "")),
            person=schemas.Named(id=person.id, name=person.name) if person else None,
            state=row.state,  # type: ignore[arg-type]
            tries=row.tries,
            answer=row.answer,
            made_at=row.created_at,
            ended_at=row.ended_at,
        )
        for row, person in manage.sent_about(unit, ident, state)
    ]


def send_again(unit: Unit, ident: UUID) -> int:
    """Send the events that were given up again; returns how many."""
    hook, _ = locked(unit, ident, "Sending again")
    count = manage.wait_again(unit, hook, [])
    if count:
        unit.record("signal_receiver.sent_again", "signal_receiver", hook.id, hook.name, count=count)
        wake(unit, hook)
    return count


def locked(unit: Unit, ident: UUID, why: str) -> tuple[Webhook, SignalStream]:
    """A receiver, for an administrator who has proved that it is them. NotFound when there is none."""
    unit.sight.require_administrator()
    unit.require_proof(why)
    hook = unit.db.get(Webhook, ident, with_for_update=True)
    stream = unit.db.get(SignalStream, ident)
    if hook is None or stream is None:
        raise NotFound("There is no such receiver of signals.")
    return hook, stream


def wake(unit: Unit, hook: Webhook) -> None:
    """Have what waits sent at once, where it is pushed."""
    if hook.url:
        unit.wake("send_signals", receiver=hook.id)


def _tell(unit: Unit, sentence: str) -> None:
    others = list(notices.administrators(unit) - {unit.viewer.person})
    notices.tell_and_write(unit, others, "sign_in", sentence, sources.PAGE)
