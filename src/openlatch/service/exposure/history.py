"""What was open to outsiders on a past day, computed like what is open now."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.exposure import sentences
from openlatch.core.exposure.rules import Resource as Seen
from openlatch.core.time_windows import zone_of
from openlatch.errors import BadInput, NotFound
from openlatch.service.exposure import access_rules, account_rules
from openlatch.service.exposure.account_rules import AccountRules
from openlatch.service.unit import Unit
from openlatch.store.access import as_of
from openlatch.store.tables import Account, System


def at_instant(unit: Unit, account: UUID, at: datetime, believed: datetime | None = None) -> schemas.PastExposures:
    """What was open on an account at an instant, as known at another, or now.

    The boundary is today's. BadInput for a future instant.
    """
    row = unit.db.scalar(select(Account).where(Account.id == account, unit.sight.accounts()))
    if row is None:
        raise NotFound("There is no such account, or you may not see it.")
    unit.sight.require_answers_for(account)
    known = believed or unit.now
    if at > unit.now or known > unit.now:
        raise BadInput("That is to come.", "Ask about an instant that has been.", {"at": "to come"})
    then = _opened(unit, row, as_of.Moment(at, known))
    zone = then.asker.manner.zone
    found = [
        schemas.ExposureHistory(
            resource=None if ident is None else schemas.Named(id=ident, name=then.names[ident]),
            right=exposure.right.value,
            audience=exposure.audience.word,
            sentence=sentences.sentence(exposure, then.names[ident], zone),
            rules=list(answer.keys(exposure.admitted_by)),
        )
        for ident, answer in then.answers()
        for exposure in answer.exposures
        if exposure.is_open
    ]
    return schemas.PastExposures(
        account=schemas.Named(id=row.id, name=row.name), at=at, believed=known, exposures=found
    )


def _opened(unit: Unit, account: Account, moment: as_of.Moment) -> AccountRules:
    system = unit.db.get(System, account.system_id) if account.system_id else None
    zone = zone_of(account.time_zone)
    manner = access_rules.manner_of(unit.service, system, zone)
    rows, resources = as_of.rules_of_account(unit.db, unit.service.archive, account.id, moment)
    ordered = sorted(rows, key=lambda r: (r["position"], r["key"]))
    rules, guards = (
        [
            access_rules.as_rule(r["plain"], guard, r["position"], manner.permissions, zone)
            for r in ordered
            if r["is_guard"] is guard
        ]
        for guard in (False, True)
    )
    asker = replace(account_rules.calculator(unit, account, system, rules + guards), since=moment.at)
    seen: dict[UUID | None, Seen] = {None: Seen("/")}
    names: dict[UUID | None, str] = {None: account.name}
    for row in resources:
        ident = UUID(row["id"])
        seen[ident] = Seen(row["path"], tuple(row["above"]), row["attributes"], row["inherits"])
        names[ident] = row["name"]
    return AccountRules(account, asker, rules, guards, seen, names)
