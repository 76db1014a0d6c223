"""Closing exposures: removing the rules that let outsiders in from their systems, each with its proof."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.exposure import account_rules, previews
from openlatch.service.exposure.account_rules import AccountRules
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Account, Exposure


def preview(unit: Unit, exposures: Sequence[UUID]) -> schemas.ClosingPreview:
    """The rules that would be removed, the steps, and what happens to every exposure that they cause."""
    rules = _rules(unit, exposures)
    told = revoke.preview(unit, prepare.Wish(rules=tuple(rule.id for rule in rules)))
    gone: dict[UUID, set[str]] = {}
    for rule in rules:
        gone.setdefault(rule.account_id, set()).add(rule.key)

    def suppose(account: Account) -> AccountRules:
        now = account_rules.opened(unit, account)
        return replace(now, rules=[rule for rule in now.rules if rule.key not in gone[account.id]])

    return schemas.ClosingPreview.model_validate(
        {
            **dict(told),
            "rules": [schemas.RuleToClose(account=rule.account_id, key=rule.key, rule=rule.plain) for rule in rules],
            "exposures": previews.of_accounts(unit, sorted(gone), suppose),
        }
    )


def close(unit: Unit, exposures: Sequence[UUID], reason: str, seen: str = "") -> UUID:
    """Start a revocation that removes the rules; returns its id. Conflict when another preview was ``seen``."""
    rules = _rules(unit, exposures)
    wish = prepare.Wish(rules=tuple(rule.id for rule in rules))
    return revoke.start(unit, wish, reason, fingerprint=seen)


def _rules(unit: Unit, exposures: Sequence[UUID]) -> list[AccessRule]:
    """The rules that cause these exposures, on accounts that the viewer answers for."""
    rows = list(unit.db.scalars(select(Exposure).where(Exposure.id.in_(exposures), unit.sight.exposures())))
    if len(rows) != len(set(exposures)):
        raise NotFound("There is no such exposure, or you may not see it.")
    if any(row.gone_at is not None or row.is_blocked for row in rows):
        raise Conflict("It is not open.", "There is nothing to close.")
    found: dict[UUID, AccessRule] = {}
    for row in rows:
        unit.sight.require_answers_for(row.account_id)
        of_it = select(AccessRule).where(AccessRule.account_id == row.account_id, AccessRule.key.in_(row.admitted_by))
        found.update({rule.id: rule for rule in unit.db.scalars(of_it)})
    if not found:
        raise BadInput("No rule opens it any more.", "Have the system read again.")
    return [found[ident] for ident in sorted(found)]
