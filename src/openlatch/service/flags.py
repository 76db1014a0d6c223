"""Flags: evaluating the rules over the register, and accepting a flag until a day."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from openlatch.core.rules import GRANT_RULES, RULES, SESSION_RULES, Thresholds, evaluate_grant, evaluate_session
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.context import Service, Unit, Viewer
from openlatch.store import flags as store
from openlatch.store.lists import FLAGS
from openlatch.store.tables import Flag, Grant, Session

TITLES = {rule.key: rule.title for rule in RULES}
REMEDIES = {rule.key: rule.remedy for rule in RULES}


def evaluate(
    unit: Unit, grants: Sequence[UUID] | None = None, sessions: Sequence[UUID] | None = None
) -> store.Difference:
    """Put grants and sessions before every rule and write what changed. None means all of them.

    Called with the ids that a change touched, in the change's own transaction; and over everything by the
    worker, since time passing raises flags too.
    """
    everything = grants is None and sessions is None
    subjects = None if everything else [*(grants or ()), *(sessions or ())]
    found = _find(unit, grants, sessions, everything)
    difference = store.write(unit.db, unit.viewer.organisation, found, unit.now, subjects)
    for raised in difference.raised:
        name = TITLES[raised.rule]
        unit.record(
            "flag.raised", "flag", None, name, raised.subject.account_id, why=raised.finding.sentence, rule=raised.rule
        )
    for ident, rule, _, account, sentence in difference.cleared:
        unit.record("flag.cleared", "flag", ident, TITLES.get(rule, rule), account, why=sentence, rule=rule)
    return difference


def _find(
    unit: Unit, grants: Sequence[UUID] | None, sessions: Sequence[UUID] | None, everything: bool
) -> Iterator[store.Raised]:
    thresholds = Thresholds()
    if everything or grants:
        where = () if grants is None else (Grant.id.in_(grants),)
        for facts in store.grant_facts(unit.db, where):
            for rule, finding in evaluate_grant(GRANT_RULES, facts, thresholds, unit.now):
                yield store.Raised(rule, "grant", facts, finding)
    if everything or sessions:
        where = () if sessions is None else (Session.id.in_(sessions),)
        for seen in store.session_facts(unit.db, where):
            for rule, finding in evaluate_session(SESSION_RULES, seen, thresholds, unit.now):
                yield store.Raised(rule, "session", seen, finding)


def evaluate_all(service: Service, organisation: UUID) -> None:
    """Evaluate every rule over everything in one organisation."""
    with service.unit(Viewer.itself(organisation)) as unit:
        evaluate(unit)


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
