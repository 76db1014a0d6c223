"""The calls about security events that other services report."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.service.signals import sources
from openlatch.service.unit import Unit

SOURCE = "/signal-sources/<uuid:ident>"


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


@api.add("DELETE", SOURCE, "Take no more events from it", schemas.Done)
def remove_signal_source(unit: Unit, ident: UUID) -> schemas.Done:
    """What it reported is deleted; what came of that stays."""
    sources.remove(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", "/signals", "What was reported last, and what came of it", schemas.ReceivedSignals)
def list_received_signals(unit: Unit) -> schemas.ReceivedSignals:
    """Up to 200. For administrators."""
    return sources.received(unit)


@api.add("POST", "/people/<uuid:ident>/clear-report", "Say that a report about somebody is dealt with", schemas.Done)
def clear_report(unit: Unit, ident: UUID) -> schemas.Done:
    """Its flags clear."""
    sources.clear_report(unit, ident)
    return schemas.Done(done=True)
