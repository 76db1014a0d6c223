"""The services that report security events: added, changed, removed; and what they reported."""

from __future__ import annotations

import secrets
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import signals as core
from openlatch.errors import BadInput, Conflict, NotFound, Outdated, SystemDown
from openlatch.service.notifications import notices
from openlatch.service.signals import subscriptions, transmitter
from openlatch.service.unit import Unit
from openlatch.store.tables import Person, ReceivedSignal, SignalSource, System

MOST_SHOWN = 200
PAGE = "/signals"


def rows(unit: Unit) -> schemas.SignalSources:
    """Every service that reports security events."""
    unit.sight.require_administrator()
    found = unit.db.scalars(select(SignalSource).order_by(SignalSource.name)).all()
    return schemas.SignalSources(sources=[_shown(unit, row) for row in found], events=dict(core.EVENTS))


def address_of(unit: Unit, ident: UUID) -> str:
    """Where a source posts its events."""
    return f"{unit.service.address}/signals/receive/{ident}"


def _shown(unit: Unit, row: SignalSource) -> schemas.SignalSourceOf:
    system = unit.db.get(System, row.system_id) if row.system_id else None
    return schemas.SignalSourceOf(
        id=row.id,
        name=row.name,
        issuer=row.issuer,
        audience=row.audience,
        address=address_of(unit, row.id),
        system=schemas.Named(id=system.id, name=system.name) if system else None,
        reactions=dict(core.reactions_of(row.reactions)),
        delivery="by_hand" if not row.stream_id else "poll" if row.poll_address else "push",
        failed=row.failed,
        heard_at=row.heard_at,
        version=row.version,
    )


def add(unit: Unit, wish: schemas.SetSignalSource) -> schemas.SignalSourceMade:
    """Take events from a transmitter. It is asked for its configuration before. Its token is shown only now."""
    unit.sight.require_administrator()
    unit.require_proof("Adding a source of signals")
    token = secrets.token_urlsafe(32)
    row = SignalSource(organisation_id=unit.viewer.organisation, token_hash=core.digest(token))
    _write(unit, row, wish)
    unit.db.add(row)
    unit.db.flush()
    if wish.token:
        # Last: nothing that is refused here leaves a stream there.
        made = subscriptions.make(row.issuer, wish.token, "" if wish.polls else address_of(unit, row.id), token)
        row.stream_id, row.audience, row.poll_address = made.ident, made.audience, made.poll_address
        row.stream_token = unit.service.cipher.encrypt(wish.token.encode())
        unit.db.flush()
    unit.record("signal_source.added", "signal_source", row.id, row.name, issuer=row.issuer, reactions=row.reactions)
    _tell(unit, f"{unit.viewer.name} added {row.name} ({row.issuer}), which may report security events.")
    return schemas.SignalSourceMade(source=_shown(unit, row), token=token)


def change(unit: Unit, ident: UUID, wish: schemas.SetSignalSource, version: int | None) -> schemas.SignalSourceOf:
    """Change what its events make happen, or who it is."""
    row = _locked(unit, ident, "Changing a source of signals")
    if version is not None and row.version != version:
        raise Outdated("The source was changed meanwhile.", "Look at it again.", {"version": str(row.version)})
    _write(unit, row, wish)
    row.version += 1
    unit.db.flush()
    unit.record("signal_source.changed", "signal_source", row.id, row.name, issuer=row.issuer, reactions=row.reactions)
    return _shown(unit, row)


def remove(unit: Unit, ident: UUID) -> str:
    """Take no more events from it, and delete its stream there, if it was made here. Gives what is left to do there.

    What it reported is deleted; what came of that stays.
    """
    row = _locked(unit, ident, "Removing a source of signals")
    left = subscriptions.end(unit, row)
    unit.record("signal_source.removed", "signal_source", row.id, row.name)
    _tell(unit, f"{unit.viewer.name} removed {row.name}, which reported security events.")
    unit.db.delete(row)
    unit.db.flush()
    return left


def _locked(unit: Unit, ident: UUID, why: str) -> SignalSource:
    unit.sight.require_administrator()
    row = unit.db.get(SignalSource, ident, with_for_update=True, populate_existing=True)
    if row is None:
        raise NotFound("There is no such source of signals.")
    unit.require_proof(why)
    return row


def _write(unit: Unit, row: SignalSource, wish: schemas.SetSignalSource) -> None:
    unknown = sorted(set(wish.reactions) - set(core.EVENTS))
    if unknown:
        raise BadInput(
            f"{unknown[0]!r} is no event that counts here.",
            f"Use some of: {', '.join(core.EVENTS)}.",
            {"reactions": "unknown"},
        )
    if wish.system is not None and unit.db.get(System, wish.system) is None:
        raise BadInput("There is no such system.", "Choose another.", {"system": "unknown"})
    with unit.db.no_autoflush:
        taken = select(SignalSource.id).where(SignalSource.name == wish.name)
        if unit.db.scalar(taken if row.id is None else taken.where(SignalSource.id != row.id)) is not None:
            raise Conflict(f"There is a source {wish.name!r} already.", "Use another name.")
    if row.stream_id and wish.issuer.rstrip("/") != row.issuer:
        raise Conflict("Its stream is at another issuer.", "Remove the source, and add it again.")
    try:
        transmitter.metadata(wish.issuer)
    except SystemDown as error:
        raise BadInput(error.detail, "Check the address, or try again.", {"issuer": "bad"}) from error
    row.name, row.issuer, row.system_id = wish.name, wish.issuer.rstrip("/"), wish.system
    if not row.stream_id:
        row.audience = wish.audience.strip() or unit.service.address
    row.reactions = dict(wish.reactions)


def received(unit: Unit) -> schemas.ReceivedSignals:
    """What was reported last, and what came of it."""
    unit.sight.require_administrator()
    found = unit.db.execute(
        select(ReceivedSignal, SignalSource, Person)
        .join(SignalSource, SignalSource.id == ReceivedSignal.source_id)
        .outerjoin(Person, Person.id == ReceivedSignal.person_id)
        .order_by(ReceivedSignal.received_at.desc(), ReceivedSignal.id.desc())
        .limit(MOST_SHOWN)
    )
    return schemas.ReceivedSignals(
        signals=[
            schemas.ReceivedSignalOf(
                id=row.id,
                source=schemas.Named(id=source.id, name=source.name),
                event=row.event,
                words=core.EVENTS.get(row.event, row.event),
                person=schemas.Named(id=person.id, name=person.name) if person else None,
                at=row.at,
                received_at=row.received_at,
                reason=row.reason,
                reaction=row.reaction,
                outcome=row.outcome,
                is_open=person is not None and person.reported_at == row.at and row.reaction == core.Reaction.FLAG,
            )
            for row, source, person in found
        ]
    )


def clear_report(unit: Unit, person: UUID) -> None:
    """Say that what was reported about somebody is dealt with: its flags clear. NotFound when nothing is reported."""
    unit.sight.require_administrator()
    row = unit.db.get(Person, person, with_for_update=True)
    if row is None or row.reported_at is None:
        raise NotFound("Nothing is reported about them.")
    unit.record("person.report_cleared", "person", row.id, row.name, reported=row.reported)
    row.reported_at, row.reported = None, ""
    unit.db.flush()
    unit.wake("evaluate")


def _tell(unit: Unit, sentence: str) -> None:
    notices.tell_and_write(unit, notices.administrators(unit) - {unit.viewer.person}, "sign_in", sentence, PAGE)
