"""Receiving security events (RFC 8417) that a transmitter pushes (RFC 8935), and acting on them at once."""

from __future__ import annotations

import hmac
from dataclasses import dataclass, replace
from uuid import UUID

from sqlalchemy import Select, func, or_, select
from sqlalchemy.dialects.postgresql import insert

from openlatch.core import signals as core
from openlatch.core.signals import Reaction, Refused, Signal
from openlatch.errors import OpenLatchError
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.identity import sign_ins
from openlatch.service.notifications import notices
from openlatch.service.people import leavers
from openlatch.service.signals import transmitter
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import (
    Handle,
    IdentityProvider,
    Person,
    PersonAddress,
    ProviderSubject,
    ReceivedSignal,
    SignalSource,
    SignIn,
)

ENABLED = f"{core.RISC}account-enabled"


@dataclass(frozen=True, slots=True)
class Source:
    """A source, and by what its tokens are known."""

    organisation: UUID
    ident: UUID
    issuer: str
    audience: str


def receive(service: Service, ident: UUID, shown: str, token: str) -> None:
    """Take a token that a source has pushed, and act on it. Refused with the standard's error when it can't be taken.

    A token that was taken before is taken again without effect: its sender may not have heard the answer.
    """
    with transaction(service.engine, None) as db:
        row = db.get(SignalSource, ident)
        known = None if row is None else (row.organisation_id, row.issuer, row.audience, row.token_hash)
    # An unknown source is answered as one with another token.
    if known is None or not hmac.compare_digest(core.digest(shown), known[3]):
        raise Refused("authentication_failed", "The token that was shown is not this source's.")
    organisation, issuer, audience, _ = known
    take(service, Source(organisation, ident, issuer, audience), token)


def take(service: Service, of: Source, token: str) -> None:
    """Take a token of a source, however it came. Refused with the standard's error when it can't be taken."""
    header, claims = transmitter.checked(of.issuer, token)
    signal = core.told(header, claims, of.issuer, of.audience, service.clock())
    with service.unit(Viewer.itself(of.organisation)) as unit:
        # Before any row: what it makes happen may change who can do what.
        locks.access(unit)
        source = unit.db.get(SignalSource, of.ident, with_for_update=True)
        if source is None:
            raise Refused("access_denied", "The source was removed.")
        source.heard_at = unit.now
        # Its own name stands in the journal beside what it made happen.
        _take(replace(unit, viewer=replace(unit.viewer, name=source.name)), source, signal)


def _take(unit: Unit, source: SignalSource, signal: Signal) -> None:
    if signal.event in (core.VERIFICATION, core.STREAM_UPDATED):
        return
    person = _whom(unit, source, signal)
    reaction = Reaction(core.reactions_of(source.reactions).get(signal.event, Reaction.IGNORE))
    values = {
        "organisation_id": source.organisation_id,
        "source_id": source.id,
        "ident": signal.ident,
        "event": signal.event,
        "person_id": person.id if person else None,
        "at": signal.at,
        "received_at": unit.now,
        "reason": signal.reason,
        "reaction": reaction.value,
    }
    made = unit.db.scalar(insert(ReceivedSignal).values(values).on_conflict_do_nothing().returning(ReceivedSignal.id))
    if made is None:
        return
    row = unit.db.get_one(ReceivedSignal, made)
    row.outcome = "It names nobody in the register."
    if person is not None:
        row.outcome = _react(unit, source, person, signal, reaction)
    unit.record(
        "signal.received",
        "signal_source",
        source.id,
        source.name,
        event=signal.event,
        person=str(person.id) if person else None,
        reaction=reaction.value,
        outcome=row.outcome,
    )


def _whom(unit: Unit, source: SignalSource, signal: Signal) -> Person | None:
    """The person whom an event is about: by an address, by a subject at one of our identity providers, by a login."""
    for subject in signal.subjects:
        found = set(unit.db.scalars(_named(unit, source, subject)))
        if len(found) == 1:
            return unit.db.get(Person, found.pop(), with_for_update=True)
    return None


def _named(unit: Unit, source: SignalSource, subject: core.Subject) -> Select[UUID]:
    here = select(Person.id).where(Person.merged_into_id.is_(None))
    if subject.kind == "email":
        name = subject.name.lower()
        other = select(PersonAddress.person_id).where(func.lower(PersonAddress.address) == name)
        return here.where(or_(func.lower(Person.address) == name, Person.id.in_(other)))
    login = select(Handle.person_id).where(Handle.system_id == source.system_id, Handle.name == subject.name)
    if subject.kind == "iss_sub":
        theirs = (
            select(SignIn.person_id)
            .join(ProviderSubject, ProviderSubject.sign_in_id == SignIn.id)
            .join(IdentityProvider, IdentityProvider.id == ProviderSubject.provider_id)
            .where(ProviderSubject.subject == subject.name, IdentityProvider.issuer == subject.issuer.rstrip("/"))
        )
        return here.where(or_(Person.id.in_(theirs), Person.id.in_(login)))
    return here.where(Person.id.in_(login))


def _react(unit: Unit, source: SignalSource, person: Person, signal: Signal, reaction: Reaction) -> str:
    said = f"{source.name} reports about {person.name}: {core.EVENTS.get(signal.event, signal.event)}."
    if signal.event == ENABLED and _is_answered(unit, source, person, signal):
        person.reported_at, person.reported = None, ""
        unit.wake("evaluate")
        said += " Its earlier report is cleared."
    if reaction is Reaction.IGNORE:
        return "Recorded."
    outcome = "Administrators were notified."
    if reaction is Reaction.FLAG:
        outcome = _flag(unit, source, person, signal)
    elif reaction is Reaction.END_SESSIONS:
        outcome = _end_sessions(unit, person)
    elif reaction is Reaction.END_ACCESS:
        outcome = _end_access(unit, person, said)
    sentence = said if reaction is Reaction.NOTIFY else f"{said} {outcome}"
    notices.tell_and_write(unit, notices.administrators(unit), "sign_in", sentence, f"/people/{person.id}")
    return outcome


def _flag(unit: Unit, source: SignalSource, person: Person, signal: Signal) -> str:
    """Flag what they hold, unless a later event says that it is over: events can come in another order."""
    of_them = (ReceivedSignal.source_id == source.id, ReceivedSignal.person_id == person.id)
    later = select(ReceivedSignal.id).where(*of_them, ReceivedSignal.event == ENABLED, ReceivedSignal.at > signal.at)
    if unit.db.scalar(later.limit(1)) is not None:
        return "Their account was enabled again since."
    if person.reported_at is None or person.reported_at <= signal.at:
        person.reported_at, person.reported = signal.at, f"{source.name}: {core.EVENTS[signal.event]}"
    unit.db.flush()
    unit.wake("evaluate")
    return "Everything that they hold is flagged."


def _is_answered(unit: Unit, source: SignalSource, person: Person, signal: Signal) -> bool:
    """Whether what is reported about somebody was reported by the same source, and before this."""
    earlier = select(ReceivedSignal.id).where(
        ReceivedSignal.source_id == source.id,
        ReceivedSignal.person_id == person.id,
        ReceivedSignal.at == person.reported_at,
        ReceivedSignal.at <= signal.at,
        ReceivedSignal.reaction == Reaction.FLAG,
    )
    return person.reported_at is not None and unit.db.scalar(earlier.limit(1)) is not None


def _end_sessions(unit: Unit, person: Person) -> str:
    row = unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id).with_for_update()).one_or_none()
    if row is None:
        return "They have no sign-in here."
    sign_ins.close_all(unit, row)
    unit.record("sign_in.sessions_ended", "sign_in", row.id, person.name)
    return "Their sessions and tokens here were ended."


def _end_access(unit: Unit, person: Person, why: str) -> str:
    try:
        with attempt(unit) as within:
            leavers.start(within, leavers.Plan(person=person.id), why)
    except OpenLatchError as error:
        return f"Their access could not be ended at once: {error.detail}"
    return "All their access is being ended."
