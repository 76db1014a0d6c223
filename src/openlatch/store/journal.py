"""Writing and reading the journal. The chain itself is ``core.journal.chain``'s."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing
from datetime import UTC, datetime
from uuid import UUID

import orjson
from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session as Db

from openlatch.core.journal import chain as core
from openlatch.core.vocabulary import HolderKind
from openlatch.json_values import JsonObject, SqlTuple
from openlatch.store.database import Driver, driver_of
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account, App, Grant, JournalEntry, JournalHead, Person, SignIn, Team

# Row-level security allows no COPY into the journal itself, so many entries go through a temporary table.
FEW = 100
KEY_BYTES = 16
_EXPORTED = (
    "position",
    "at",
    "actor_id",
    "actor_name",
    "action",
    "subject_kind",
    "subject_id",
    "subject_name",
    "account_id",
    "facts",
    "previous",
    "hash",
    "seal_key",
    "told",
)


def stamp(at: datetime) -> str:
    """An instant in the journal's format: RFC 3339 in UTC, always with microseconds."""
    return at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def draft(
    organisation: UUID,
    at: datetime,
    actor: tuple[UUID | None, str],
    action: str,
    subject: tuple[str, UUID | None, str],
    account: UUID | None,
    facts: Mapping[str, object],
) -> JsonObject:
    """An entry without a place in the chain."""
    return {
        "organisation": str(organisation),
        "at": stamp(at),
        "actor": {"id": _text(actor[0]), "name": actor[1]},
        "action": action,
        "subject": {"kind": subject[0], "id": _text(subject[1]), "name": subject[2], "account": _text(account)},
        # What goes into the hash is what will come back from the database: plain JSON values.
        "facts": orjson.loads(orjson.dumps(facts)) if facts else {},
        "key": os.urandom(KEY_BYTES).hex(),
    }


def _text(ident: UUID | None) -> str | None:
    return str(ident) if ident else None


def _uuid(text: str | None) -> UUID | None:
    return UUID(text) if text else None


_LOCK_HEAD = "select position, hash from journal_heads where organisation_id = %(organisation)s for update"
_WRITTEN = ", ".join(("organisation_id", *_EXPORTED[:-1]))
_ENTRY = f"insert into journal ({_WRITTEN}) values ({', '.join(['%s'] * 10)}, %s::jsonb, %s, %s, %s)"  # noqa: S608
_MOVE_HEAD = """
    with moved as (
        update journal_heads set position = %(position)s, hash = %(hash)s where organisation_id = %(organisation)s
    )
    select pg_notify(%(channel)s, %(note)s)
"""


# One entry, with its place and hash found by the database itself: most changes leave just one, and this way it goes
# over in one trip. Moving the head on locks it and gives the hash before. ``core.journal.chain.seal`` says the same,
# and verifying finds it out if it did not. Without a head there is no position, which the journal refuses.
_SEAL_ONE = f"""
    with moved as (
        update journal_heads set position = position + 1, previous = hash, hash = sha256(convert_to(
            %(before)s || (position + 1) || %(between)s || encode(hash, 'hex') || %(after)s, 'UTF8'))
        where organisation_id = %(organisation)s returning position, previous, hash
    ), entered as (
        insert into journal ({_WRITTEN})
        select %(organisation)s, position, %(at)s, %(actor_id)s, %(actor_name)s, %(action)s, %(subject_kind)s,
            %(subject_id)s, %(subject_name)s, %(account_id)s, %(facts)s::jsonb, previous, hash, %(key)s
        from (select) always left join moved on true
    )
    select pg_notify(%(channel)s, replace(%(note)s, '"position": 0', '"position": ' || position)) from moved
"""  # noqa: S608  constants


def append(
    db: Db,
    organisation: UUID,
    drafts: Iterable[JsonObject],
    many: bool,
    channel: str,
    note: Callable[[int], str],
) -> None:
    """Add entries to the end of the chain, and notify ``channel``. Committing is for whoever began the transaction.

    ``many`` of them (more than ``FEW``) go by COPY, one at a time from the iterable. The lock on the organisation's
    head is held until the transaction ends, so this comes last in it.
    """
    raw = driver_of(db)
    named = {"organisation": organisation}
    if not many:
        drafts = list(drafts)
        if len(drafts) == 1:
            _append_one(raw, organisation, drafts[0], {"channel": channel, "note": note(0)})
            return
    head = raw.execute(_LOCK_HEAD, named).fetchone()
    assert head is not None
    position, last_hash = head
    chained = core.chain(drafts, position, last_hash.hex())
    rows: list[SqlTuple] = []
    if many:
        last = _append_many(db, organisation, chained)
        position, last_hash = (last["position"], bytes.fromhex(last["hash"])) if last else (position, last_hash)
    else:
        rows = [_row(organisation, entry) for entry in chained]
    with raw.pipeline():
        for row in rows:
            raw.execute(_ENTRY, (*row[:10], orjson.dumps(row[10]).decode(), *row[11:]), prepare=True)
            position, last_hash = row[1], row[12]
        values = {**named, "position": position, "hash": last_hash, "channel": channel, "note": note(position)}
        raw.execute(_MOVE_HEAD, values, prepare=True)


def _append_one(raw: Driver, organisation: UUID, draft: JsonObject, told: dict[str, str]) -> None:
    before, between, after = core.around_its_place(draft)
    actor, subject = draft["actor"], draft["subject"]
    values = {
        "organisation": organisation,
        "before": before,
        "between": between,
        "after": after,
        "at": datetime.fromisoformat(draft["at"]),
        "actor_id": _uuid(actor["id"]),
        "actor_name": actor["name"],
        "action": draft["action"],
        "subject_kind": subject["kind"],
        "subject_id": _uuid(subject["id"]),
        "subject_name": subject["name"],
        "account_id": _uuid(subject["account"]),
        "facts": orjson.dumps(draft["facts"]).decode(),
        "key": bytes.fromhex(draft["key"]),
        **told,
    }
    raw.execute(_SEAL_ONE, values, prepare=True)


def _append_many(db: Db, organisation: UUID, chained: Iterator[dict[str, object]]) -> JsonObject | None:
    last: JsonObject | None = None
    raw = driver_of(db)
    raw.execute("create temporary table sealed (like journal) on commit drop")
    with raw.cursor() as cursor, cursor.copy(f"copy sealed ({_WRITTEN}) from stdin") as copy:
        for last in chained:
            copy.write_row((*(row := _row(organisation, last))[:10], orjson.dumps(row[10]).decode(), *row[11:]))
    raw.execute(f"insert into journal ({_WRITTEN}) select {_WRITTEN} from sealed")  # noqa: S608  constants
    return last


def _row(organisation: UUID, entry: JsonObject) -> SqlTuple:
    actor, subject = entry["actor"], entry["subject"]
    return (
        organisation,
        entry["position"],
        datetime.fromisoformat(entry["at"]),
        _uuid(actor["id"]),
        actor["name"],
        entry["action"],
        subject["kind"],
        _uuid(subject["id"]),
        subject["name"],
        _uuid(subject["account"]),
        entry["facts"],
        bytes.fromhex(entry["previous"]),
        bytes.fromhex(entry["hash"]),
        bytes.fromhex(entry["key"]),
    )


def export(
    db: Db, organisation: UUID, where: ColumnElement[bool] | None = None, limit: int | None = None
) -> Iterator[JsonObject]:
    """Every entry in order, or those that match, up to ``limit``, as sealed. Streamed."""
    # Columns, not objects: there are millions.
    wanted = select(*(getattr(JournalEntry, name) for name in _EXPORTED)).order_by(JournalEntry.position)
    if where is not None:
        wanted = wanted.where(where)
    wanted = wanted.limit(limit)
    written = str(organisation)
    with closing(db.execute(wanted.execution_options(yield_per=5_000))) as rows:
        yield from (_entry(written, row) for row in rows)


def _entry(written: str, row: AnyRow) -> JsonObject:
    position, at, actor, actor_name, action, kind, subject, name, account, facts, previous, hashed, key, told = row
    return {
        "organisation": written,
        "position": position,
        "at": stamp(at),
        "actor": {"id": _text(actor), "name": actor_name},
        "action": action,
        "subject": {"kind": kind, "id": _text(subject), "name": name, "account": _text(account)},
        "facts": facts,
        "previous": previous.hex(),
        "hash": hashed.hex(),
        **({"key": key.hex()} if key is not None else {}),
        **({"told": told.hex()} if told is not None else {}),
    }


def holders(db: Db, grants: Iterable[UUID]) -> dict[UUID, JsonObject]:
    """Whose each of some grants is: kind, id and present name."""
    name = func.coalesce(Person.name, Team.name, App.name, Account.name)
    wanted = (
        select(Grant.id, Grant.holder_kind, Grant.holder_id, name)
        .outerjoin(Person, Person.id == Grant.person_id)
        .outerjoin(Team, Team.id == Grant.team_id)
        .outerjoin(App, App.id == Grant.app_id)
        .outerjoin(Account, Account.id == Grant.holder_account_id)
        .where(Grant.id.in_(list(grants)))
    )
    return {row[0]: {"kind": row[1], "id": str(row[2]), "name": row[3]} for row in db.execute(wanted)}


def people_of(db: Db, sign_ins: Iterable[UUID]) -> dict[UUID, JsonObject]:
    """Whose each of some sign-ins is, of those that there are: kind, id and present name."""
    wanted = select(SignIn.id, Person.id, Person.name).join(Person, Person.id == SignIn.person_id)
    found = db.execute(wanted.where(SignIn.id.in_(list(sign_ins))))
    return {row[0]: {"kind": HolderKind.PERSON.value, "id": str(row[1]), "name": row[2]} for row in found}


def head(db: Db) -> tuple[int, str]:
    """The position and hash of the last entry; position 0 when there is none."""
    row = db.scalars(select(JournalHead)).first()
    return (row.position, row.hash.hex()) if row else (0, core.START)
