"""The facts that rules look at, and the flags that came of them. Only differences are written."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, func, insert, literal, select, update
from sqlalchemy.orm import Session as Db
from sqlalchemy.orm import aliased

from openlatch.core.ids import new_id
from openlatch.core.rules import AccountFacts, Finding, GrantFacts, SessionFacts
from openlatch.core.words import GrantState, HolderKind, Reach, Standing
from openlatch.store import lists
from openlatch.store.tables import Account, App, Flag, Grant, Person, Session, System, Team

giver = aliased(Person)
_REACH = {int(r): r for r in Reach}


def grant_facts(db: Db, where: Sequence[ColumnElement[bool]] = ()) -> Iterator[GrantFacts]:
    """The facts of every live grant that fits, streamed."""
    term = lists.terms
    statement = (
        select(
            Grant.id,
            Account.id,
            Account.name,
            Account.sensitivity,
            Grant.holder_kind,
            Grant.holder_id,
            lists.holder_name,
            lists.holder_inside,
            func.coalesce(Person.standing, "current"),
            Person.leaves_at,
            Grant.state,
            term.c.level,
            term.c.reach,
            Grant.given_at,
            giver.name,
            giver.leaves_at,
            term.c.until,
            Grant.last_used_at,
            Grant.recorded,
            System.name,
            Grant.left_undecided_at,
            giver.standing,
        )
        .join(Account, Account.id == Grant.account_id)
        .join(System, System.id == Account.system_id)
        .join(term, literal(True))
        .outerjoin(Person, Person.id == Grant.person_id)
        .outerjoin(Team, Team.id == Grant.team_id)
        .outerjoin(App, App.id == Grant.app_id)
        .outerjoin(lists.holder_account, lists.holder_account.id == Grant.holder_account_id)
        .outerjoin(giver, giver.id == Grant.given_by_id)
        .where(Grant.state.in_(lists.LIVE), *where)
        .execution_options(yield_per=5000)
    )
    for row in db.execute(statement):
        values = list(row)
        giver_standing = values.pop()
        values[4] = HolderKind(values[4])
        values[8] = Standing(values[8])
        values[10] = GrantState(values[10])
        values[11] = values[11] or "nothing"
        values[12] = _REACH[values[12] or 1]
        if giver_standing == Standing.CURRENT:
            values[15] = None
        yield GrantFacts._make(values)


def session_facts(db: Db, where: Sequence[ColumnElement[bool]] = ()) -> Iterator[SessionFacts]:
    """The facts of every session that is going on and fits, streamed."""
    statement = (
        select(
            Session.id,
            Account.id,
            Account.name,
            Account.sensitivity,
            Session.holder_kind,
            Session.holder_id,
            func.coalesce(Person.name, App.name),
            func.coalesce(Person.inside, True),
            Session.started_at,
            Session.last_seen_at,
            Session.device,
        )
        .join(Account, Account.id == Session.account_id)
        .outerjoin(Person, Person.id == Session.person_id)
        .outerjoin(App, App.id == Session.app_id)
        .where(Session.ended_at.is_(None), *where)
        .execution_options(yield_per=5000)
    )
    for row in db.execute(statement):
        yield SessionFacts._make((*row[:4], HolderKind(row[4]), *row[5:]))


@dataclass(frozen=True, slots=True)
class Raised:
    """A finding with what it was found on."""

    rule: str
    subject_kind: str
    subject: GrantFacts | SessionFacts | AccountFacts
    finding: Finding

    @property
    def key(self) -> tuple[str, UUID]:
        """What makes two findings the same flag."""
        return self.rule, self.subject.id


@dataclass(slots=True)
class Difference:
    """What writing findings changed."""

    raised: list[Raised]
    cleared: list[tuple[UUID, str, UUID, str]]
    updated: int = 0


def write(
    db: Db, organisation: UUID, found: Iterable[Raised], now: datetime, flagged: ColumnElement[bool]
) -> Difference:
    """Bring the live flags that ``flagged`` picks in line with what was found on their subjects.

    A flag that is found again keeps its state; its facts, sentence and score follow. An accepted one opens
    again when its time is over.
    """
    columns = select(Flag.rule, Flag.subject_id, Flag.id, Flag.sentence, Flag.score, Flag.account_id).where(
        Flag.state != "cleared", flagged
    )
    held = {(row[0], row[1]): row for row in db.execute(columns)}
    difference = Difference([], [])
    fresh: list[dict[str, Any]] = []
    for raised in found:
        row = held.pop(raised.key, None)
        if row is None:
            fresh.append(_values(organisation, raised, now))
            difference.raised.append(raised)
        elif row.sentence != raised.finding.sentence or row.score != raised.finding.score.total:
            db.execute(update(Flag).where(Flag.id == row.id).values(**_findings(raised.finding)))
            difference.updated += 1
    if fresh:
        db.execute(insert(Flag), fresh)
    if held:
        gone = [row.id for row in held.values()]
        db.execute(update(Flag).where(Flag.id.in_(gone)).values(state="cleared", cleared_at=now))
        difference.cleared = [(r.id, r.rule, r.account_id, r.sentence) for r in held.values()]
    reopened = update(Flag).where(Flag.state == "accepted", Flag.accepted_until <= now, flagged)
    db.execute(reopened.values(state="open"))
    return difference


def _values(organisation: UUID, raised: Raised, now: datetime) -> dict[str, Any]:
    return {
        "id": new_id(),
        "organisation_id": organisation,
        "rule": raised.rule,
        "subject_kind": raised.subject_kind,
        "subject_id": raised.subject.id,
        "account_id": raised.subject.account_id,
        "holder_id": raised.subject.holder_id,
        "raised_at": now,
        **_findings(raised.finding),
    }


def _findings(finding: Finding) -> dict[str, Any]:
    score = finding.score
    return {
        "severity": int(score.severity),
        "score": score.total,
        "parts": {
            "reach": score.reach,
            "sensitivity": score.sensitivity,
            "outside": score.outside,
            "staleness": score.staleness,
        },
        "facts": finding.facts,
        "sentence": finding.sentence,
    }
