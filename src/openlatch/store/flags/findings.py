"""Flags as they are kept: what was found on subjects is compared with those on them, and differences are written."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import blake2b
from typing import NamedTuple
from uuid import UUID

import orjson
from sqlalchemy import update
from sqlalchemy.orm import Session as Db
from sqlalchemy.orm.util import identity_key

from openlatch.core.flags import Finding, Rule
from openlatch.core.ids import new_id
from openlatch.core.vocabulary import FlagState
from openlatch.json_values import JsonObject
from openlatch.store.database import ask, send
from openlatch.store.flags.evaluate_many import Looked
from openlatch.store.flags.sql_expressions import ROOM
from openlatch.store.tables import Flag

Found = Sequence[tuple[Rule, Finding]]


@dataclass(frozen=True, slots=True)
class Changed:
    """A flag that changed: its id, rule, account, sentence and score."""

    id: UUID
    rule: str
    account: UUID | None
    sentence: str
    score: int


@dataclass(slots=True)
class Difference:
    """What writing findings changed. ``worse`` are flags whose severity rose, ``back`` accepted ones open again."""

    raised: list[Changed] = field(default_factory=list)
    worse: list[Changed] = field(default_factory=list)
    back: list[Changed] = field(default_factory=list)
    cleared: list[Changed] = field(default_factory=list)


def words_of(found: Found) -> int:
    """A hash of what findings say, to tell whether anything about them changed."""
    said = "\n".join(f"{rule.key} {finding.score.total} {finding.sentence}" for rule, finding in found)
    return int.from_bytes(blake2b(said.encode(), digest_size=8).digest(), "big", signed=True)


def write(db: Db, organisation: UUID, kind: str, looked: Iterable[tuple[Looked, Found]], now: datetime) -> Difference:
    """Update the flags on these subjects to what was found on them.

    A flag that is found again keeps its state; its facts, sentence and score are updated. Subjects without changes cost
    nothing.
    """
    changed = [
        (subject, found, words)
        for subject, found in looked
        if (words := words_of(found)) != subject.words or subject.found != subject.before
    ]
    difference = Difference()
    if not changed:
        return difference
    held = _held(db, organisation, [subject.id for subject, _, _ in changed])
    fresh: list[JsonObject] = []
    followed: list[JsonObject] = []
    for subject, found, _ in changed:
        for rule, finding in found:
            row = held.pop((rule.key, subject.id), None)
            if row is None:
                fresh.append(_values(subject, rule, finding))
                told = Changed(fresh[-1]["id"], rule.key, subject.account, finding.sentence, finding.score.total)
                difference.raised.append(told)
            elif row.sentence != finding.sentence or row.score != finding.score.total:
                followed.append(_follow(row, finding, now, difference))
    gone = [row.id for row in held.values()]
    difference.cleared += [Changed(row.id, row.rule, row.account_id, row.sentence, row.score) for row in held.values()]
    kept = [
        {
            "subject_id": subject.id,
            "found": [rule.number * ROOM + finding.score.total for rule, finding in found],
            "words": words,
        }
        for subject, found, words in changed
        if found
    ]
    quiet = [subject.id for subject, found, _ in changed if not found]
    named = {"organisation": organisation, "kind": kind, "now": now}
    written = ((_RAISE, fresh), (_FOLLOW, followed), (_KEEP, kept))
    ended = ((_CLEAR, gone), (_FORGET, quiet))
    send(
        db,
        [
            *((statement, {**named, "rows": orjson.dumps(rows).decode()}) for statement, rows in written if rows),
            *((statement, {**named, "ids": ids}) for statement, ids in ended if ids),
        ],
    )
    for ident in [*gone, *(flag["id"] for flag in followed)]:
        known = db.identity_map.get(identity_key(Flag, ident))
        if known is not None:
            db.expire(known)
    return difference


# Rows go over as one JSON array, one or five thousand of them in the same statement.
_FINDING = "severity smallint, score smallint, parts jsonb, facts jsonb, sentence text"
_RAISE = f"""
    insert into flags (id, organisation_id, subject_kind, raised_at, rule, subject_id, account_id, holder_id,
        severity, score, parts, facts, sentence)
    select r.id, %(organisation)s, %(kind)s, %(now)s, r.rule, r.subject_id, r.account_id, r.holder_id,
        r.severity, r.score, r.parts, r.facts, r.sentence
    from jsonb_to_recordset(%(rows)s::jsonb)
        as r(id uuid, rule text, subject_id uuid, account_id uuid, holder_id uuid, {_FINDING})
"""
_FOLLOW = f"""
    update flags f set severity = r.severity, score = r.score, parts = r.parts, facts = r.facts,
        sentence = r.sentence, worse_at = r.worse_at, state = r.state
    from jsonb_to_recordset(%(rows)s::jsonb) as r(id uuid, worse_at timestamptz, state text, {_FINDING})
    where f.id = r.id
"""
_CLEAR = "update flags set state = 'cleared', cleared_at = %(now)s where id = any(%(ids)s)"
_KEEP = """
    insert into findings (subject_id, organisation_id, kind, found, words)
    select r.subject_id, %(organisation)s, %(kind)s, r.found, r.words
    from jsonb_to_recordset(%(rows)s::jsonb) as r(subject_id uuid, found int[], words bigint)
    on conflict (subject_id) do update set found = excluded.found, words = excluded.words
"""
_FORGET = "delete from findings where subject_id = any(%(ids)s)"
# Two that look at the same subject at once would both raise the same flag.
_ALONE = "select pg_advisory_xact_lock(hashtext('flags'), hashtext(%(organisation)s::text))"
_HELD = """
    select rule, subject_id, id, sentence, score, severity, account_id, state, accepted_severity, worse_at
    from flags where state <> 'cleared' and subject_id = any(%(subjects)s)
"""


class _Held(NamedTuple):
    rule: str
    subject_id: UUID
    id: UUID
    sentence: str
    score: int
    severity: int
    account_id: UUID | None
    state: str
    accepted_severity: int | None
    worse_at: datetime | None


def _held(db: Db, organisation: UUID, subjects: Sequence[UUID]) -> dict[tuple[str, UUID], _Held]:
    """The flags on these subjects, locked until the transaction ends."""
    _, rows = ask(db, [(_ALONE, {"organisation": organisation}), (_HELD, {"subjects": list(subjects)})])
    return {(row[0], row[1]): _Held(*row) for row in rows}


def _follow(row: _Held, finding: Finding, now: datetime, difference: Difference) -> JsonObject:
    """The new values of a flag that is found again, perhaps worse than before."""
    severity = int(finding.score.severity)
    told = Changed(row.id, row.rule, row.account_id, finding.sentence, finding.score.total)
    worse = severity > row.severity
    back = row.state == FlagState.ACCEPTED and severity > (row.accepted_severity or row.severity)
    if back:
        difference.back.append(told)
    elif worse:
        difference.worse.append(told)
    return {
        **_findings(finding),
        "id": row.id,
        "worse_at": now if worse else row.worse_at,
        "state": "open" if back else row.state,
    }


def open_again(db: Db, now: datetime) -> list[Changed]:
    """Accepted flags whose time is over are open again."""
    over = update(Flag).where(Flag.state == FlagState.ACCEPTED, Flag.accepted_until <= now).values(state=FlagState.OPEN)
    rows = db.execute(over.returning(Flag.id, Flag.rule, Flag.account_id, Flag.sentence, Flag.score))
    return [Changed(*row) for row in rows]


def _values(subject: Looked, rule: Rule, finding: Finding) -> JsonObject:
    return {
        "id": new_id(),
        "rule": rule.key,
        "subject_id": subject.id,
        "account_id": subject.account,
        "holder_id": subject.holder,
        **_findings(finding),
    }


def _findings(finding: Finding) -> JsonObject:
    return {
        "severity": int(finding.score.severity),
        "score": finding.score.total,
        "parts": finding.score.parts,
        "facts": finding.facts,
        "sentence": finding.sentence,
    }
