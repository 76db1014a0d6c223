"""All data about a person in one file: who they are, what they have, what they did."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from uuid import UUID

from sqlalchemy import or_, select
from sqlalchemy.orm import InstrumentedAttribute

from openlatch import schemas
from openlatch.errors import NotAllowed, NotFound
from openlatch.json_values import JsonObject, JsonValue
from openlatch.service.canonical_json import jsonable
from openlatch.service.journal import entries
from openlatch.service.unit import Unit
from openlatch.store.archive import Which
from openlatch.store.lists import offers, register, reviews
from openlatch.store.lists.engine import Listing
from openlatch.store.sql_types import AnyTable
from openlatch.store.tables import AccessRequest as Request
from openlatch.store.tables import (
    ApiToken,
    Delivery,
    Flag,
    Grant,
    Handle,
    Item,
    JournalEntry,
    Mark,
    Membership,
    Notice,
    Offer,
    Passkey,
    Person,
    PersonAddress,
    ProviderSubject,
    ReceivedSignal,
    ScimRecord,
    Session,
    SignIn,
    Team,
    Visit,
    WebSession,
)
from openlatch.store.tables.base import Base

FORMAT = "openlatch-held-data"
# Left out: credentials, and internal columns.
_NOT_TOLD = frozenset(
    {
        "organisation_id",
        "password_hash",
        "credential_id",
        "public_key",
        "factor_secret",
        "factor_step",
        "token_hash",
        "provider_token",
        "recorded_at",
    }
)


def of_person(unit: Unit, ident: UUID) -> schemas.HeldData:
    """Everything about somebody. For themselves and for administrators; NotFound for anybody else."""
    # Check permission first, so that the answer does not depend on whom it is about.
    may = unit.sight.everything or ident == unit.viewer.person
    person = unit.db.get(Person, ident) if may else None
    if person is None:
        raise NotFound("There is no such person, or what is held about them is not for you.")
    if unit.viewer.inside is not None:
        raise NotAllowed("This is not about the account in which you act.", "Switch out of it first.")
    unit.record("person.data_taken", "person", person.id, person.name)
    return schemas.HeldData.model_validate(
        {"format": FORMAT, "version": 1, "taken_at": unit.now, **dict(_parts(unit, person))}
    )


def _parts(unit: Unit, person: Person) -> Iterator[tuple[str, JsonValue]]:
    yield "person", _row(person)
    for name, table, column in (
        ("addresses", PersonAddress, PersonAddress.person_id),
        ("logins", Handle, Handle.person_id),
        ("marks", Mark, Mark.person_id),
        ("directory", ScimRecord, ScimRecord.person_id),
        ("signals", ReceivedSignal, ReceivedSignal.person_id),
        ("signals_sent", Delivery, Delivery.person_id),
    ):
        yield name, _rows(unit, table, column, person.id)
    sign_ins = unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id)).all()
    yield "sign_ins", [_row(row) for row in sign_ins]
    ids = [row.id for row in sign_ins]
    yield (
        "sessions_here",
        [_row(row) for row in unit.db.scalars(select(WebSession).where(WebSession.sign_in_id.in_(ids)))],
    )
    subjects = select(ProviderSubject).where(ProviderSubject.sign_in_id.in_(ids))
    yield "identity_providers", [_row(row) for row in unit.db.scalars(subjects)]
    yield "passkeys", [_row(row) for row in unit.db.scalars(select(Passkey).where(Passkey.sign_in_id.in_(ids)))]
    yield "api_tokens", [_row(row) for row in unit.db.scalars(select(ApiToken).where(ApiToken.sign_in_id.in_(ids)))]
    teams = unit.db.execute(
        select(Team.name, Membership.since, Membership.until)
        .join(Membership, Membership.team_id == Team.id)
        .where(Membership.person_id == person.id)
        .order_by(Team.name)
    )
    yield "teams", [dict(row) for row in teams.mappings()]
    held = select(Grant.id).where(Grant.person_id == person.id)
    mine: tuple[tuple[str, Listing, Any], ...] = (
        ("grants", register.GRANTS, Grant.person_id == person.id),
        ("sessions", register.SESSIONS, Session.person_id == person.id),
        ("flags", register.FLAGS, or_(Flag.holder_id == person.id, Flag.assigned_to_id == person.id)),
        ("offers", offers.OFFERS, or_(Offer.person_id == person.id, Offer.sender_id == person.id)),
        ("requests", offers.REQUESTS, Request.person_id == person.id),
        ("visits", offers.VISITS, Visit.person_id == person.id),
        ("notices", offers.NOTICES, Notice.person_id == person.id),
        ("review_items", reviews.ITEMS, or_(Item.grant_id.in_(held), Item.decided_by_id == person.id)),
    )
    for name, listing, which in mine:
        yield name, listing.all(unit.db, "", [listing.of(person.organisation_id), which])
    about = or_(JournalEntry.actor_id == person.id, JournalEntry.subject_id == person.id)
    archived = entries.archived(unit.service, unit.db, Which(person=person.id))
    told = register.JOURNAL.all(unit.db, "", [register.JOURNAL.of(person.organisation_id), about])
    yield "journal", [*map(_told, archived), *told]


def _told(entry: JsonObject) -> JsonObject:
    """An entry of the archive as those of the database are listed."""
    subject = {name: entry["subject"][name] for name in ("kind", "id", "name")}
    listed = {name: entry[name] for name in ("position", "at", "action", "facts", "hash", "previous")}
    row = schemas.JournalRow.model_validate(
        {
            "id": entry["position"],
            **listed,
            "actor": entry["actor"] if entry["actor"]["id"] else None,
            "subject": subject if subject["id"] else None,
            "account_id": entry["subject"]["account"],
            "on_behalf_of": entry["facts"].get("on_behalf_of", {}).get("name"),
        }
    )
    return row.model_dump()


def _rows(unit: Unit, table: AnyTable, column: InstrumentedAttribute[Any], person: UUID) -> list[JsonObject]:
    return [_row(row) for row in unit.db.scalars(select(table).where(column == person).order_by(table.id))]


def _row(row: Base) -> JsonObject:
    return {
        column.key: jsonable(getattr(row, column.key))
        for column in row.__mapper__.column_attrs
        if column.key not in _NOT_TOLD and "hash" not in column.key
    }
