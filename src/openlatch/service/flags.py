"""Flags: evaluating the rules over the register, and accepting a flag until a day."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, and_, select

from openlatch.core.latches import Breach
from openlatch.core.rules import (
    GRANT_RULES,
    LATCH_RULE,
    RULES,
    SESSION_RULES,
    AccountFacts,
    Thresholds,
    evaluate_grant,
    evaluate_session,
)
from openlatch.core.words import Reach
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.context import Service, Unit, Viewer
from openlatch.store import flags as store
from openlatch.store.lists import FLAGS
from openlatch.store.tables import Account, Flag, Grant, Session

CHUNK = 20_000
TITLES = {rule.key: rule.title for rule in RULES}
REMEDIES = {rule.key: rule.remedy for rule in RULES}


def evaluate(unit: Unit, grants: Sequence[UUID] = (), sessions: Sequence[UUID] = ()) -> None:
    """Put these grants and sessions before every rule, and write what changed.

    Called with the ids that a change touched, in the change's own transaction.
    """
    if grants:
        _evaluate_grants(unit, Grant.id.in_(grants), Flag.subject_id.in_(grants))
    if sessions:
        _evaluate_sessions(unit, Session.id.in_(sessions), Flag.subject_id.in_(sessions))


def evaluate_all(service: Service, organisation: UUID) -> None:
    """Put everything in an organisation before every rule, since time passing raises flags too.

    Goes through it in chunks, each in a transaction of its own: memory stays small, and nobody who writes waits
    for the whole.
    """
    viewer = Viewer.itself(organisation)
    for table, evaluated in ((Grant, _evaluate_grants), (Session, _evaluate_sessions)):
        after = UUID(int=0)
        while True:
            with service.unit(viewer) as unit:
                ids = unit.db.scalars(select(table.id).where(table.id > after).order_by(table.id).limit(CHUNK)).all()
                if ids:
                    kind = Flag.subject_kind == ("grant" if table is Grant else "session")
                    within = and_(kind, Flag.subject_id > after, Flag.subject_id <= ids[-1])
                    evaluated(unit, and_(table.id > after, table.id <= ids[-1]), within)
            if len(ids) < CHUNK:
                break
            after = ids[-1]


def _evaluate_grants(unit: Unit, which: ColumnElement[bool], flagged: ColumnElement[bool]) -> None:
    found = (
        store.Raised(rule, "grant", facts, finding)
        for facts in store.grant_facts(unit.db, [which])
        for rule, finding in evaluate_grant(GRANT_RULES, facts, Thresholds(), unit.now)
    )
    _write(unit, found, flagged)


def _evaluate_sessions(unit: Unit, which: ColumnElement[bool], flagged: ColumnElement[bool]) -> None:
    found = (
        store.Raised(rule, "session", facts, finding)
        for facts in store.session_facts(unit.db, [which])
        for rule, finding in evaluate_session(SESSION_RULES, facts, Thresholds(), unit.now)
    )
    _write(unit, found, flagged)


def evaluate_latches(
    unit: Unit, found: Mapping[UUID, tuple[Sequence[Breach], Reach]], looked_at: Sequence[UUID] | None
) -> None:
    """Write what breaks the latches of accounts; ``looked_at`` are those that were looked at, None for all."""
    which = Flag.subject_kind == "account"
    if looked_at is not None:
        which = and_(which, Flag.subject_id.in_(looked_at))
    broken = {account: breaches for account, breaches in found.items() if breaches[0]}
    rows = unit.db.execute(select(Account.id, Account.name, Account.sensitivity).where(Account.id.in_(list(broken))))
    raised = (
        store.Raised(LATCH_RULE.key, "account", facts, finding)
        for ident, name, sensitivity in rows
        for facts in [AccountFacts(ident, ident, name, sensitivity, ident, *broken[ident])]
        if (finding := LATCH_RULE.find(facts, Thresholds(), unit.now)) is not None
    )
    _write(unit, raised, which)


def _write(unit: Unit, found: Iterable[store.Raised], flagged: ColumnElement[bool]) -> None:
    """Write the differences, and put them down in the journal."""
    difference = store.write(unit.db, unit.viewer.organisation, found, unit.now, flagged)
    for raised in difference.raised:
        account, why = raised.subject.account_id, raised.finding.sentence
        unit.record("flag.raised", "flag", None, TITLES[raised.rule], account, why=why, rule=raised.rule)
    for ident, rule, account, sentence in difference.cleared:
        unit.record("flag.cleared", "flag", ident, TITLES.get(rule, rule), account, why=sentence, rule=rule)


def accept(unit: Unit, ident: UUID, reason: str, until: datetime) -> dict[str, Any]:
    """Accept an open flag until an instant: it is not shown as open till then.

    For the account's owner and administrators. BadInput without a reason or with an end that has passed; Conflict
    when the flag is not open.
    """
    flag = _locked(unit, ident)
    unit.sight.require_answers_for(flag.account_id)
    if len(reason.strip()) < 3:
        raise BadInput("Accepting a flag needs a reason.", "Say in a few words why.", {"reason": "is missing"})
    if until <= unit.now:
        raise BadInput("That day has passed.", "Choose a day to come.", {"until": "has passed"})
    if flag.state != "open":
        raise Conflict(f"The flag is {flag.state}, not open.", "Look at it again.")
    flag.state, flag.accepted_reason, flag.accepted_until = "accepted", reason.strip(), until
    flag.accepted_by_id = unit.viewer.person
    unit.record(
        "flag.accepted", "flag", flag.id, TITLES[flag.rule], flag.account_id, reason=reason.strip(), until=until
    )
    return shown(unit, ident)


def _locked(unit: Unit, ident: UUID) -> Flag:
    flag = unit.db.get(Flag, ident, with_for_update=True)
    if flag is None or FLAGS.one(unit.db, ident, [unit.sight.flags()]) is None:
        raise NotFound("There is no such flag, or you may not see it.")
    return flag


def shown(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A flag's row. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = FLAGS.one(unit.db, ident, [unit.sight.flags()])
    if row is None:
        raise NotFound("There is no such flag, or you may not see it.")
    return with_title(row)


def with_title(row: dict[str, Any]) -> dict[str, Any]:
    """A flag's row with its rule's title and remedy."""
    return {**row, "title": TITLES.get(row["rule"], row["rule"]), "remedy": REMEDIES.get(row["rule"], "")}
