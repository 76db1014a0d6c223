"""The calls about security events that other services report."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.service.signals import receivers, sources
from openlatch.service.unit import Unit

SOURCE = "/signal-sources/<uuid:ident>"
RECEIVER = "/signal-receivers/<uuid:ident>"


@api.add("GET", "/signal-sources", "The services that report security events", schemas.SignalSources)
def list_signal_sources(unit: Unit) -> schemas.SignalSources:
    """With the types of events that count. For administrators."""
    return sources.rows(unit)


@api.add(
    "POST",
    "/signal-sources",
    "Take security events from a transmitter",
    schemas.SignalSourceMade,
    body=schemas.SetSignalSource,
    status=201,
)
def add_signal_source(unit: Unit, body: schemas.SetSignalSource) -> schemas.SignalSourceMade:
    """Its token is shown only now."""
    return sources.add(unit, body)


@api.add("PUT", SOURCE, "Change what its events make happen", schemas.SignalSourceOf, body=schemas.SetSignalSource)
def change_signal_source(unit: Unit, ident: UUID, body: schemas.SetSignalSource) -> schemas.SignalSourceOf:
    """Or who it is."""
    return sources.change(unit, ident, body, if_match())


@api.add("DELETE", SOURCE, "Take no more events from it", schemas.SignalSourceRemoved)
def remove_signal_source(unit: Unit, ident: UUID) -> schemas.SignalSourceRemoved:
    """What it reported is deleted; what came of that stays."""
    return schemas.SignalSourceRemoved(done=True, left=sources.remove(unit, ident))


@api.add("GET", "/signals", "What was reported last, and what came of it", schemas.ReceivedSignals)
def list_received_signals(unit: Unit) -> schemas.ReceivedSignals:
    """Up to 200. For administrators."""
    return sources.received(unit)


@api.add("POST", "/people/<uuid:ident>/clear-report", "Say that a report about somebody is dealt with", schemas.Done)
def clear_report(unit: Unit, ident: UUID) -> schemas.Done:
    """Its flags clear."""
    sources.clear_report(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", "/signal-receivers", "The services that receive security events from here", schemas.SignalReceivers)
def list_signal_receivers(unit: Unit) -> schemas.SignalReceivers:
    """For administrators."""
    return receivers.rows(unit)


@api.add(
    "POST",
    "/signal-receivers",
    "Let a service make a stream of security events",
    schemas.SignalReceiverMade,
    body=schemas.AddSignalReceiver,
    status=201,
    secret=True,
)
def add_signal_receiver(unit: Unit, body: schemas.AddSignalReceiver) -> schemas.SignalReceiverMade:
    """Its token is shown only now."""
    return receivers.add(unit, body)


@api.add("DELETE", RECEIVER, "Send it nothing more", schemas.Done)
def remove_signal_receiver(unit: Unit, ident: UUID) -> schemas.Done:
    """Its token is refused from now on."""
    receivers.remove(unit, ident)
    return schemas.Done(done=True)


@api.add("PUT", f"{RECEIVER}/paused", "Pause a stream", schemas.SignalReceiverOf, body=schemas.HoldSignalReceiver)
def pause_signal_receiver(unit: Unit, ident: UUID, body: schemas.HoldSignalReceiver) -> schemas.SignalReceiverOf:
    """Its receiver can't resume it. What happens meanwhile is sent when it goes on."""
    return receivers.set_held(unit, ident, True, body.reason)


@api.add("DELETE", f"{RECEIVER}/paused", "Let a paused stream go on", schemas.SignalReceiverOf)
def resume_signal_receiver(unit: Unit, ident: UUID) -> schemas.SignalReceiverOf:
    """Where it was paused."""
    return receivers.set_held(unit, ident, False, "")


@api.add("POST", f"{RECEIVER}/verify", "Send an event that tells only that the stream works", schemas.Done, status=202)
def verify_signal_receiver(unit: Unit, ident: UUID) -> schemas.Done:
    """It is signed as the others."""
    receivers.verify(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", f"{RECEIVER}/events", "What a receiver was sent", schemas.SentSignals, query=schemas.ListSentSignals)
def list_sent_signals(unit: Unit, ident: UUID, query: schemas.ListSentSignals) -> schemas.SentSignals:
    """The latest first, up to 200."""
    return schemas.SentSignals(events=receivers.events(unit, ident, query.state or ""))


@api.add("POST", f"{RECEIVER}/send-again", "Send events that were given up again", schemas.SentAgain)
def send_signals_again(unit: Unit, ident: UUID) -> schemas.SentAgain:
    """Each with the id that it had."""
    return schemas.SentAgain(count=receivers.send_again(unit, ident))
