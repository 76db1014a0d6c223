"""Erasing what identifies somebody who left: a stable pseudonym replaces it, and the journal still verifies.

Evidence of reviews stays as it is: it is signed, and kept as long as reviews have to be proved. It has to be signed
first; once the journal no longer names somebody, decisions could not be checked against it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import timedelta
from uuid import UUID

import orjson
from sqlalchemy import Text, delete, func, or_, select, text, update
from sqlalchemy.dialects.postgresql import JSONB
from structlog import get_logger

from openlatch import schemas
from openlatch.core.journal import chain
from openlatch.core.journal.erasure import Erased, in_json
from openlatch.core.vocabulary import Standing
from openlatch.errors import Conflict, NotFound
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.identity import sign_ins
from openlatch.service.journal import archive
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.lists.register import LIVE
from openlatch.store.sql_types import AnyTable
from openlatch.store.tables import (
    Base,
    Calendar,
    Delivery,
    EvidenceBundle,
    Grant,
    Handle,
    Invitation,
    Item,
    JournalEntry,
    Mail,
    Mark,
    Notice,
    Organisation,
    PartnerLink,
    Person,
    PersonAddress,
    ReceivedSignal,
    Round,
    ScimRecord,
    Session,
    SignIn,
)

# Not replaced as text: sealed, signed, encrypted, written by triggers, or without words.
_APART = frozenset(
    {
        "journal",
        "versions",
        "archived_parts",
        "archive_erasures",
        "evidence_bundles",
        "items",
        "rounds",
        "questions",
        "tree_heads",
        "findings",
        "terms",
        "uses",
        "rosters",
        "organisations",
        "idempotency_keys",
        "web_sessions",
        "api_tokens",
        "sign_ins",
    }
)
_LOG = get_logger()
_SHORTEST = 3
_NAMED_AT_ONCE = 400
MOST_AT_ONCE = 50


def preview(unit: Unit, ident: UUID) -> schemas.Erased:
    """What erasing somebody would remove, counted; Conflict when they can't be erased now. Nothing happens."""
    with attempt(unit, keep=False) as within:
        return erase(within, ident)


def erase(unit: Unit, ident: UUID) -> schemas.Erased:
    """Erase what identifies somebody who left. Irreversible. Returns what was done, and what is kept and why."""
    unit.sight.require_administrator()
    unit.require_proof("Erasing somebody")
    return _erase(unit, ident)


def _erase(unit: Unit, ident: UUID) -> schemas.Erased:
    # What is being moved into the archive is there, or still in the database, and not in between.
    locks.archive(unit)
    person = unit.db.get(Person, ident, with_for_update=True, populate_existing=True)
    if person is None:
        raise NotFound("There is no such person.")
    _refuse(unit, person)
    words = _words(unit, person)
    somebody = Erased(ident, tuple(words))
    called = somebody.called
    _refuse_unsigned(unit, person, words)
    counts: dict[str, int] = {"sessions": _forget_devices(unit, ident)}
    _forget_sign_in(unit, ident)
    _forget_names(unit, person, called)
    counts["records"] = sum(_replace(unit, table, _OURS, words, called) for table in _tables())
    counts["records"] += _replace(unit, PartnerLink.__table__, _OUR_LINKS, words, called)
    unit.db.flush()
    entries = list(_take_out_of_journal(unit, somebody))
    counts["journal"] = len(entries)
    for old in words:
        for was in {old, in_json(old)}:
            for place in ("versions", "reviews"):
                unit.db.execute(text(f"select erase_from_{place}(:old, :new)"), {"old": was, "new": called})
    unit.db.expire_all()
    for start in range(0, max(len(entries), 1), _NAMED_AT_ONCE):
        unit.record(chain.ERASED, "person", ident, called, entries=entries[start : start + _NAMED_AT_ONCE])
    evaluate_flags.forget(unit)
    kept = _kept(unit, ident)
    if files := archive.ask_to_erase(unit, ident, words):
        kept.append(f"The archive: the worker writes its {files} file{'s' * (files != 1)} anew without their name.")
    return schemas.Erased(person=schemas.Named(id=ident, name=called), erased=counts, kept=kept)


def _refuse(unit: Unit, person: Person) -> None:
    if person.erased_at is not None:
        raise Conflict("They are erased already.", "There is nothing left to erase.")
    if person.standing != Standing.LEFT:
        raise Conflict(f"{person.name} has not left.", "Let them leave first.")
    live = select(func.count(Grant.id)).where(Grant.person_id == person.id, Grant.state.in_(LIVE))
    if count := unit.db.scalar(live) or 0:
        raise Conflict(f"{person.name} still has {count} grant{'s' * (count != 1)}.", "See to it that they have ended.")


def _refuse_unsigned(unit: Unit, person: Person, words: Iterable[str]) -> None:
    """Conflict while a review that names somebody has no signed evidence yet."""
    signed = select(EvidenceBundle.round_id)
    names = or_(*(func.strpos(Item.facts.cast(Text), in_json(one)) > 0 for one in (*words, str(person.id))))
    acted = or_(Item.decided_by_id == person.id, Item.reviewer_id == person.id, Item.seconded_by_id == person.id)
    open_ones = select(Round).join(Item, Item.round_id == Round.id).where(Round.id.not_in(signed), or_(names, acted))
    row = unit.db.scalars(open_ones.order_by(Round.opened_at).limit(1)).first()
    if row is not None and row.ended_at is None:
        raise Conflict(f"The review “{row.name}” tells of {person.name}, and has not ended.", "Close it first.")
    if row is not None:
        unit.service.wake("sign_evidence", {"organisation": str(row.organisation_id), "round": str(row.id)}, None)
        raise Conflict(f"The evidence of the review “{row.name}” is being signed.", "Try again in a minute.")


def _words(unit: Unit, person: Person) -> list[str]:
    """The words that name somebody in texts: their addresses, and their name unless somebody else has it."""
    others = select(func.count(Person.id)).where(Person.name == person.name, Person.id != person.id)
    name = [] if unit.db.scalar(others) else [person.name]
    addresses = unit.db.scalars(select(PersonAddress.address).where(PersonAddress.person_id == person.id)).all()
    found = [*name, *([person.address] if person.address else []), *addresses]
    # The longest first: an address may contain the name.
    return sorted({one for one in found if len(one) >= _SHORTEST}, key=lambda one: -len(one))


def _forget_devices(unit: Unit, ident: UUID) -> int:
    of_them = update(Session).where(Session.person_id == ident)
    rows = unit.db.execute(of_them.values(device="", address="", place="", country=None, latitude=None, longitude=None))
    return int(rows.rowcount)  # type: ignore[attr-defined]


def _forget_sign_in(unit: Unit, ident: UUID) -> None:
    row = unit.db.scalars(select(SignIn).where(SignIn.person_id == ident)).first()
    if row is not None:
        sign_ins.remove(unit, row)
    for table in (Invitation, Calendar, Notice):
        unit.db.execute(delete(table).where(table.person_id == ident))


def _forget_names(unit: Unit, person: Person, called: str) -> None:
    addresses = [
        a
        for a in (
            person.address,
            *unit.db.scalars(select(PersonAddress.address).where(PersonAddress.person_id == person.id)),
        )
        if a
    ]
    unit.db.execute(delete(Mail).where(Mail.recipient.in_(addresses)))
    for table in (PersonAddress, Mark, ScimRecord, ReceivedSignal, Delivery):
        unit.db.execute(delete(table).where(table.person_id == person.id))
    logins = unit.db.scalars(select(Handle).where(Handle.person_id == person.id)).all()
    for number, login in enumerate(logins, 1):
        login.name, login.marks, login.hangs = f"{called} {number}", {}, []
    unit.db.execute(update(Grant).where(Grant.person_id == person.id).values(handle={}))
    person.name, person.address, person.job, person.key = called, None, "", f"erased-{person.id}"
    person.address_confirmed_at, person.erased_at = None, unit.now
    person.reported_at, person.reported = None, ""
    unit.db.flush()


def _tables() -> Iterator[AnyTable]:
    for table in Base.metadata.sorted_tables:
        if "organisation_id" in table.columns and table.name not in _APART:
            yield table


# Rows that an organisation may change: of links those that it offered, and any that has ended.
_OURS = "organisation_id = :organisation"
_OUR_LINKS = "(partner_id = :organisation or client_id = :organisation and ended_at is not null)"


def _replace(unit: Unit, table: AnyTable, ours: str, words: Iterable[str], called: str) -> int:
    """Replace words by a pseudonym in all text columns of a table; returns the number of rows."""
    changed = 0
    for column in table.columns:
        if column.computed is not None or not isinstance(column.type, Text | JSONB):
            continue
        is_json = isinstance(column.type, JSONB)
        held = f'"{column.name}"::text' if is_json else f'"{column.name}"'
        for word in words:
            old = in_json(word) if is_json else word
            statement = text(
                f'update "{table.name}" set "{column.name}" = replace({held}, :old, :new)'  # noqa: S608  our columns
                f"{'::jsonb' if is_json else ''} where {ours} and strpos({held}, :old) > 0"
            )
            given = {"old": old, "new": called, "organisation": unit.viewer.organisation}
            changed += int(unit.db.execute(statement, given).rowcount)  # type: ignore[attr-defined]
    return changed


def _take_out_of_journal(unit: Unit, somebody: Erased) -> Iterator[tuple[int, str]]:
    """Erase what entries of the database say about somebody; returns the position and hash of each."""
    about = [JournalEntry.actor_id == somebody.ident, JournalEntry.subject_id == somebody.ident]
    for word in somebody.words:
        about += [
            func.strpos(JournalEntry.actor_name, word) > 0,
            func.strpos(JournalEntry.subject_name, word) > 0,
            func.strpos(JournalEntry.facts.cast(Text), in_json(word)) > 0,
        ]
    entries = list(journal.export(unit.db, _organisation(unit), or_(*about)))
    erasing = text("select erase_from_journal(:place, :actor, :subject, cast(:what as jsonb), :digest)")
    for entry in filter(somebody.is_told_in, entries):
        left = somebody.without(entry)
        told = {
            "place": entry["position"],
            "actor": left["actor"]["name"],
            "subject": left["subject"]["name"],
            "what": orjson.dumps(left["facts"]).decode(),
            "digest": bytes.fromhex(left["told"]),
        }
        unit.db.execute(erasing, told)
        yield entry["position"], entry["hash"]


def _organisation(unit: Unit) -> UUID:
    organisation = unit.viewer.organisation
    assert organisation is not None
    return organisation


def _kept(unit: Unit, ident: UUID) -> list[str]:
    """What still names them, and why."""
    held = select(Grant.id).where(Grant.person_id == ident)
    rounds = unit.db.scalars(
        select(Round.name)
        .join(Item, Item.round_id == Round.id)
        .where(or_(Item.grant_id.in_(held), Item.decided_by_id == ident))
        .distinct()
        .order_by(Round.name)
    ).all()
    return [f"The review “{name}”: its evidence is signed, and names them." for name in rounds]


# Retention.


def months_kept(unit: Unit) -> int | None:
    """For how many months after leaving personal data are kept; None for ever."""
    kept = unit.db.get_one(Organisation, unit.viewer.organisation).settings.get("keep_left_months")
    return int(kept) if kept else None


def due(unit: Unit) -> list[UUID]:
    """Those who left so long ago that they are to be erased, and can be."""
    months = months_kept(unit)
    if months is None:
        return []
    live = select(Grant.id).where(Grant.person_id == Person.id, Grant.state.in_(LIVE))
    over = unit.now - timedelta(days=months * 365 // 12)
    wanted = select(Person.id).where(
        Person.standing == Standing.LEFT,
        Person.erased_at.is_(None),
        Person.leaves_at <= over,
        Person.merged_into_id.is_(None),
        ~live.exists(),
    )
    return list(unit.db.scalars(wanted.order_by(Person.id).limit(MOST_AT_ONCE)))


def erase_due(service: Service, viewer: Viewer) -> int:
    """Erase those whose retention is over, each in a transaction of its own; returns how many. Called by the worker."""
    with service.unit(viewer) as unit:
        people = due(unit)
    count = 0
    for ident in people:
        try:
            with service.unit(viewer) as unit:
                _erase(unit, ident)
            count += 1
        except Conflict as why:
            # Tried again later.
            _LOG.info("not erased yet", person=str(ident), why=why.detail)
    return count
