"""What receivers are told: entries of the journal become deliveries, and the next of them is found.

Somebody waits for each of them, so what belongs together is asked in one round trip, by statements that the server
has planned.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

import orjson
from sqlalchemy.orm import Session as Db

from openlatch.core.ids import new_id
from openlatch.json_values import JsonList, JsonObject
from openlatch.store.database import Question, ask

# So many entries are looked at, before others have their turn.
MADE_AT_ONCE = 500


class Stream(NamedTuple):
    """What a receiver of security events has set: types (None for all), the header that it wants to be shown
    (encrypted), and of whom it wants to hear nothing. ``is_open`` while it wants to hear at all.
    """

    audience: str
    authorization: bytes | None
    requested: JsonList | None
    left_out: JsonList
    is_open: bool


class Receiver(NamedTuple):
    """A receiver as its row has it. Secrets are encrypted; times are in UTC."""

    id: UUID
    organisation_id: UUID
    name: str
    url: str
    actions: JsonList
    secret: bytes
    secret_before: bytes | None
    secret_before_until: datetime | None
    secret_number: int
    paused_at: datetime | None
    next_try_at: datetime | None
    stream: Stream | None


class Entry(NamedTuple):
    """What of an entry of the journal decides what is delivered of it; facts and hashes are large, and decide nothing.

    ``at`` is in UTC. ``person_id`` is whom it is about, where that is one person: they themselves, or whoever has the
    grant or the sign-in.
    """

    position: int
    at: datetime
    action: str
    actor_id: UUID | None
    account_id: UUID | None
    subject_kind: str
    subject_id: UUID | None
    account_name: str | None
    person_id: UUID | None


class Made(NamedTuple):
    """A delivery that an entry becomes. Those about one subject are sent in order."""

    position: int
    subject_id: UUID | None
    part: int = 0
    person_id: UUID | None = None
    event: JsonObject | None = None
    created_at: datetime | None = None


class Due(NamedTuple):
    """A delivery that waits, with the present address of the person whom it is about. Times are in UTC."""

    id: UUID
    organisation_id: UUID
    webhook_id: UUID
    position: int | None
    person_id: UUID | None
    address: str | None
    event: JsonObject | None
    created_at: datetime


_RECEIVER = """
    select webhooks.id, webhooks.organisation_id, name, url, actions, secret, secret_before, secret_before_until,
        secret_number, paused_at, next_try_at, signal_streams.id is not null, audience, "authorization", requested,
        left_out, set_up_at is not null and not is_disabled
    from {webhooks} as webhooks left join signal_streams using (id) where webhooks.id = %(ident)s
"""
_CLAIMED = """
    with claimed as (
        update webhooks set busy_until = %(until)s
        where id = %(ident)s and url <> '' and paused_at is null and (busy_until is null or busy_until < %(now)s)
        returning *
    )
"""
_CLAIM = _CLAIMED + _RECEIVER.format(webhooks="claimed")
_RELEASE = "update webhooks set busy_until = null where id = %(ident)s and busy_until = %(until)s returning true"
_FURTHER = """
    select journal.position, journal.at, journal.action, journal.actor_id, journal.account_id, journal.subject_kind,
        journal.subject_id, accounts.name,
        case journal.subject_kind when 'person' then journal.subject_id
            else coalesce(grants.person_id, sign_ins.person_id) end
    from journal
    left join accounts on accounts.id = journal.account_id
    left join grants on journal.subject_kind = 'grant' and grants.id = journal.subject_id
    left join sign_ins on journal.subject_kind = 'sign_in' and sign_ins.id = journal.subject_id
    where journal.position > (select position from webhooks where id = %(ident)s)
    order by journal.position limit %(most)s
"""
_MAKE = """
    with moved as (update webhooks set position = %(position)s where id = %(ident)s),
    made as (
        insert into deliveries
            (id, organisation_id, webhook_id, position, part, subject_id, person_id, event, created_at)
        select id, %(organisation)s, %(ident)s, position, part, subject_id, person_id, event,
            coalesce(created_at, now())
        from jsonb_to_recordset(%(made)s::jsonb) as made (id uuid, position bigint, part integer, subject_id uuid,
            person_id uuid, event jsonb, created_at timestamptz)
        on conflict do nothing returning true
    )
    select count(*) from made
"""
# The receiver first, as everywhere.
_IS_UP = """
    update webhooks set tries = 0, next_try_at = null, failing_since = null where id = %(ident)s returning true
"""
_TAKEN = """
    update deliveries set state = 'delivered', tries = tries + 1, answer = %(answer)s, ended_at = %(now)s,
        next_try_at = null
    where id = %(delivery)s returning true
"""
_DUE = """
    select deliveries.id, deliveries.organisation_id, webhook_id, position, person_id, people.address, event,
        deliveries.created_at
    from deliveries left join people on people.id = person_id
    where webhook_id = %(ident)s and state = 'waiting'
"""
# Each subject is told of in order: nothing goes out before what happened to it earlier.
_NEXT = f"""
    {_DUE} and (next_try_at is null or next_try_at <= %(now)s) and not exists (
        select from deliveries as earlier
        where earlier.webhook_id = %(ident)s and earlier.state = 'waiting'
            and earlier.subject_id = deliveries.subject_id
            and (earlier.position, earlier.part) < (deliveries.position, deliveries.part)
    )
    order by position nulls first, deliveries.id limit 1
"""
_WAITING = f"{_DUE} order by position nulls first, part, deliveries.id limit %(most)s"


def claim(db: Db, ident: UUID, now: datetime, until: datetime) -> tuple[Receiver | None, list[Entry]]:
    """Take a receiver, which is nobody else's then until ``until``, with the entries that it was not told of.

    None when it is another process's at ``now``, paused, or fetches what is for it.
    """
    named = {"ident": ident, "now": now, "until": until}
    receivers, entries = ask(db, [(_CLAIM, named), _further(ident)])
    return _receiver(receivers), [Entry(*row) for row in entries]


def further(db: Db, ident: UUID) -> tuple[Receiver | None, list[Entry]]:
    """A receiver, with the entries that it was not told of."""
    receivers, entries = ask(db, [_one(ident), _further(ident)])
    return _receiver(receivers), [Entry(*row) for row in entries]


def release(db: Db, ident: UUID, until: datetime) -> None:
    """Let others have a receiver that was taken until ``until``."""
    ask(db, [(_RELEASE, {"ident": ident, "until": until})])


def make(db: Db, receiver: Receiver, made: Iterable[Made], position: int, now: datetime) -> Due | None:
    """Store the deliveries that entries have become, up to one of a position; returns the next one that is due.

    What there is already is left as it is.
    """
    rows = orjson.dumps([{"id": new_id(), **one._asdict()} for one in made]).decode()
    named = {"ident": receiver.id, "organisation": receiver.organisation_id, "position": position, "made": rows}
    _, due = ask(db, [(_MAKE, named), (_NEXT, {"ident": receiver.id, "now": now})])
    return _first(due)


def taken(db: Db, ident: UUID, delivery: UUID, answer: str, now: datetime) -> None:
    """Note that a receiver has taken a delivery, and so is not down."""
    named = {"delivery": delivery, "answer": answer, "now": now}
    ask(db, [(_IS_UP, {"ident": ident}), (_TAKEN, named)])


def next_due(db: Db, ident: UUID, now: datetime) -> tuple[Receiver | None, Due | None]:
    """A receiver, and the oldest delivery to it that may be sent now."""
    receivers, due = ask(db, [_one(ident), (_NEXT, {"ident": ident, "now": now})])
    return _receiver(receivers), _first(due)


def waiting(db: Db, ident: UUID, most: int) -> list[Due]:
    """The oldest deliveries to a receiver that were not taken yet."""
    (found,) = ask(db, [(_WAITING, {"ident": ident, "most": most})])
    return [Due(*row) for row in found]


def _one(ident: UUID) -> Question:
    return _RECEIVER.format(webhooks="webhooks"), {"ident": ident}


def _further(ident: UUID) -> Question:
    return _FURTHER, {"ident": ident, "most": MADE_AT_ONCE}


def _receiver(rows: Sequence[JsonList]) -> Receiver | None:
    for *own, has_stream, audience, authorization, requested, left_out, is_open in rows:
        stream = Stream(audience, authorization, requested, left_out, is_open) if has_stream else None
        return Receiver._make([*own, stream])
    return None


def _first(rows: Sequence[JsonList]) -> Due | None:
    return Due(*rows[0]) if rows else None
