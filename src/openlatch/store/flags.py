"""Flags as they are kept: what was found on subjects is compared with those on them, and differences are written."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import blake2b
from typing import Any, cast
from uuid import UUID

from sqlalchemy import Table, bindparam, delete, insert, select, text, update
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.orm import Session as Db

from openlatch.core.ids import new_id
from openlatch.core.rules import Finding, Rule
from openlatch.store.ruling.looking import Looked
from openlatch.store.ruling.terms import ROOM
from openlatch.store.tables import Finding as FindingRow
from openlatch.store.tables import Flag

Found = Sequence[tuple[Rule, Finding]]


@dataclass(frozen=True, slots=True)
class Changed:
    """A flag that changed: its id, rule, account and sentence."""

    id: UUID
    rule: str
    account: UUID | None
    sentence: str


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
    """Bring the flags on these subjects in line with what was found on them.

    A flag that is found again keeps its state; its facts, sentence and score follow. Subjects about which nothing
    changed cost nothing.
    """
    changed = [
        (subject, found, words)
        for subject, found in looked
        if (words := words_of(found)) != subject.words or subject.found != subject.before
    ]
    difference = Difference()
    if not changed:
        return difference
    # Two that look at the same subject at once would both raise the same flag.
    db.execute(text("select pg_advisory_xact_lock(hashtext('flags'), hashtext(:id))"), {"id": str(organisation)})
    held = _held(db, [subject.id for subject, _, _ in changed])
    fresh: list[dict[str, Any]] = []
    followed: list[dict[str, Any]] = []
    gone: list[UUID] = []
    for subject, found, _ in changed:
        for rule, finding in found:
            row = held.pop((rule.key, subject.id), None)
            if row is None:
                fresh.append(_values(organisation, kind, subject, rule, finding, now))
                told = Changed(fresh[-1]["id"], rule.key, subject.account, finding.sentence)
                difference.raised.append(told)
            elif row.sentence != finding.sentence or row.score != finding.score.total:
                followed.append(_follow(row, finding, now, difference))
    for row in held.values():
        gone.append(row.id)
        difference.cleared.append(Changed(row.id, row.rule, row.account_id, row.sentence))
    if fresh:
        db.execute(insert(Flag), fresh)
    if followed:
        _update(db, followed)
    if gone:
        db.execute(update(Flag).where(Flag.id.in_(gone)).values(state="cleared", cleared_at=now))
    _keep(db, organisation, kind, changed)
    return difference


def _held(db: Db, ids: Sequence[UUID]) -> dict[tuple[str, UUID], Any]:
    columns = select(
        Flag.rule, Flag.subject_id, Flag.id, Flag.sentence, Flag.score, Flag.severity, Flag.account_id, Flag.state,
        Flag.accepted_severity, Flag.worse_at,
    ).where(Flag.state != "cleared", Flag.subject_id.in_(ids))  # fmt: skip
    return {(row.rule, row.subject_id): row for row in db.execute(columns)}


def _follow(row: Any, finding: Finding, now: datetime, difference: Difference) -> dict[str, Any]:
    """The new values of a flag that is found again, perhaps worse than before."""
    severity = int(finding.score.severity)
    told = Changed(row.id, row.rule, row.account_id, finding.sentence)
    worse = severity > row.severity
    back = row.state == "accepted" and severity > (row.accepted_severity or row.severity)
    if back:
        difference.back.append(told)
    elif worse:
        difference.worse.append(told)
    return {
        **_findings(finding),
        "flag": row.id,
        "worse_at": now if worse else row.worse_at,
        "state": "open" if back else row.state,
    }


def _update(db: Db, followed: list[dict[str, Any]]) -> None:
    # By a table, not by an entity: many rows in one go.
    table = cast(Table, Flag.__table__)
    names = [name for name in followed[0] if name != "flag"]
    values = {name: bindparam(f"new_{name}", type_=table.c[name].type) for name in names}
    statement = update(table).where(table.c.id == bindparam("flag")).values(values)
    rows = [{"flag": r["flag"], **{f"new_{n}": r[n] for n in names}} for r in followed]
    db.connection().execute(statement, rows)


def _keep(db: Db, organisation: UUID, kind: str, changed: Sequence[tuple[Looked, Found, int]]) -> None:
    """Put down what was found, for the next time."""
    rows = [
        {
            "subject_id": subject.id,
            "organisation_id": organisation,
            "kind": kind,
            "found": [rule.number * ROOM + finding.score.total for rule, finding in found],
            "words": words,
        }
        for subject, found, words in changed
        if found
    ]
    if rows:
        statement = upsert(FindingRow)
        new = {"found": statement.excluded.found, "words": statement.excluded.words}
        db.execute(statement.on_conflict_do_update(index_elements=["subject_id"], set_=new), rows)
    quiet = [subject.id for subject, found, _ in changed if not found]
    if quiet:
        db.execute(delete(FindingRow).where(FindingRow.subject_id.in_(quiet)))


def open_again(db: Db, now: datetime) -> list[Changed]:
    """Accepted flags whose time is over are open again."""
    over = update(Flag).where(Flag.state == "accepted", Flag.accepted_until <= now).values(state="open")
    rows = db.execute(over.returning(Flag.id, Flag.rule, Flag.account_id, Flag.sentence))
    return [Changed(*row) for row in rows]


def _values(
    organisation: UUID, kind: str, subject: Looked, rule: Rule, finding: Finding, now: datetime
) -> dict[str, Any]:
    return {
        "id": new_id(),
        "organisation_id": organisation,
        "rule": rule.key,
        "subject_kind": kind,
        "subject_id": subject.id,
        "account_id": subject.account,
        "holder_id": subject.holder,
        "raised_at": now,
        **_findings(finding),
    }


def _findings(finding: Finding) -> dict[str, Any]:
    return {
        "severity": int(finding.score.severity),
        "score": finding.score.total,
        "parts": finding.score.parts,
        "facts": finding.facts,
        "sentence": finding.sentence,
    }
