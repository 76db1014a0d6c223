"""Drafts of rules: a document for an account, what it would open and close, and setting it in the system."""

from __future__ import annotations

from collections.abc import Mapping
from uuid import UUID

from sqlalchemy import ColumnElement, func, select, true

from openlatch import schemas
from openlatch.core.exposure import document
from openlatch.core.exposure.form import FORM
from openlatch.core.ids import new_id
from openlatch.core.vocabulary import DraftState
from openlatch.errors import BadInput, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.canonical_json import fingerprint, jsonable
from openlatch.service.exposure import access_rules, draft_changes
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Account, Resource, RuleDraft, System

# Resources up to which a draft is evaluated within a call; above that by the worker.
MOST_AT_ONCE = 5_000
MOST_LONG = 2_000_000
MOST_LISTED = 100


def current(unit: Unit, account: UUID) -> schemas.RulesOfAccount:
    """The present rules of an account as a document, with what its system supports."""
    row = _answered_for(unit, account)
    system = unit.db.get(System, row.system_id) if row.system_id else None
    told = access_rules.told_by(unit.service, system)
    rows = rules_of(unit, account)
    plain = {
        "form": FORM,
        "rules": [_in_order(r.plain) for r in rows if not r.is_guard],
        "guards": [_in_order(r.plain) for r in rows if r.is_guard],
    }
    return schemas.RulesOfAccount(
        account=schemas.Named(id=row.id, name=row.name),
        document=plain,
        combining=told.combining.value,
        permissions={key: right.value for key, right in told.permissions.items()},
    )


_MEMBERS = ("rule", "guard", "name", "because", "admit", "refuse", "but", "to", "on", "set_on", "while")


def _in_order(plain: Mapping[str, object]) -> JsonObject:
    """A rule with its members in reading order."""
    return {name: plain[name] for name in (*_MEMBERS, *plain) if name in plain}


def rules_of(unit: Unit, account: UUID) -> list[AccessRule]:
    """The rules and guards of an account, in their order."""
    wanted = select(AccessRule).where(AccessRule.account_id == account)
    return list(unit.db.scalars(wanted.order_by(AccessRule.position, AccessRule.key)))


def state_of_rules(unit: Unit, account: UUID) -> str:
    """A fingerprint of an account's rules and guards."""
    return fingerprint([rule.plain for rule in rules_of(unit, account)])


def is_small(unit: Unit, account: UUID) -> bool:
    """Whether drafts for an account can be evaluated within a call."""
    return (unit.db.scalar(select(func.count(Resource.id)).where(Resource.account_id == account)) or 0) <= MOST_AT_ONCE


def check(unit: Unit, account: UUID, text: str) -> list[schemas.RuleProblem]:
    """The problems of a document for an account, each with its line; empty for a good one."""
    row = _answered_for(unit, account)
    try:
        draft_changes.read_for(unit, row, text)
    except document.Unreadable as error:
        return [schemas.RuleProblem(pointer=p.pointer, line=p.line, message=p.message) for p in error.problems]
    return []


def make(unit: Unit, account: UUID, text: str, permissions: Mapping[str, str] | None = None) -> schemas.RuleDraftRow:
    """Make a draft of an account's rules, evaluated at once if the account is small."""
    row = _answered_for(unit, account)
    if len(text) > MOST_LONG:
        raise BadInput(
            f"A document has at most {MOST_LONG} letters.", "Take it apart by accounts.", {"document": "too long"}
        )
    made = RuleDraft(
        id=new_id(),
        organisation_id=unit.viewer.organisation,
        account_id=account,
        made_by=unit.viewer.name,
        document=text,
        result={"permissions": dict(permissions or {})},
    )
    unit.db.add(made)
    unit.db.flush()
    unit.record("rule_draft.made", "rule_draft", made.id, row.name, account)
    if is_small(unit, account):
        work_out(unit, made)
    else:
        unit.wake("work_out_draft", draft=made.id)
    return shown(unit, made)


def work_out(unit: Unit, made: RuleDraft) -> None:
    """Evaluate what a draft would open and close, or store why it can't be read."""
    account = unit.db.get_one(Account, made.account_id)
    permissions = dict(made.result.get("permissions", {}))
    try:
        told = draft_changes.told(unit, account, made.document, permissions)
    except document.Unreadable as error:
        made.state = DraftState.REFUSED
        problems = [{"pointer": p.pointer, "line": p.line, "message": p.message} for p in error.problems]
        made.result = {"permissions": permissions, "problems": problems}
    else:
        made.state = DraftState.READY
        made.result = jsonable({"permissions": permissions, "of": state_of_rules(unit, account.id), **dict(told)})
    made.worked_out_at = unit.now
    unit.db.flush()
    unit.announce("rule_drafts")


def _answered_for(unit: Unit, account: UUID) -> Account:
    row = unit.db.scalar(select(Account).where(Account.id == account, unit.sight.accounts()))
    if row is None:
        raise NotFound("There is no such account, or you may not see it.")
    unit.sight.require_answers_for(account)
    return row


def listed(unit: Unit) -> list[schemas.RuleDraftRow]:
    """The latest drafts of accounts that the viewer owns, or of all, without their documents."""
    wanted = select(RuleDraft).join(Account, Account.id == RuleDraft.account_id)
    rows = unit.db.scalars(wanted.where(_mine(unit)).order_by(RuleDraft.id.desc()).limit(MOST_LISTED)).all()
    return [shown(unit, row).model_copy(update={"document": "", "lines": []}) for row in rows]


def one(unit: Unit, ident: UUID) -> schemas.RuleDraftRow:
    """A draft, with what it would open and close once that is worked out."""
    return shown(unit, opened(unit, ident))


def opened(unit: Unit, ident: UUID) -> RuleDraft:
    """A draft of an account that the viewer answers for."""
    row = unit.db.scalar(
        select(RuleDraft).join(Account, Account.id == RuleDraft.account_id).where(RuleDraft.id == ident, _mine(unit))
    )
    if row is None:
        raise NotFound("There is no such draft.")
    return row


def _mine(unit: Unit) -> ColumnElement[bool]:
    return true() if unit.sight.everything else Account.id.in_(unit.sight.owned)


def shown(unit: Unit, row: RuleDraft) -> schemas.RuleDraftRow:
    """A draft as an answer."""
    account = unit.db.get_one(Account, row.account_id)
    result = row.result
    return schemas.RuleDraftRow(
        id=row.id,
        account=schemas.Named(id=account.id, name=account.name),
        made_by=row.made_by,
        made_at=row.created_at,
        state=row.state,
        document=row.document,
        problems=result.get("problems", []),
        counts=result.get("counts"),
        lines=result.get("lines", []),
        more=result.get("more", 0),
        worked_out_at=row.worked_out_at,
        applied_at=row.applied_at,
        applied_by=row.applied_by,
        reason=row.reason,
        failure=result.get("failure", ""),
    )
