"""Guards of the organisation: that no outsider, except those named, may see or change an account, a kind, a resource.

No system knows them. They close nothing; what is open against them is reported and flagged.
"""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import Select, or_, select

from openlatch import schemas
from openlatch.core.exposure import document
from openlatch.core.exposure.rules import ANYONE, INSIDE, Effect, Place, Rule, Terms
from openlatch.errors import BadInput, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.exposure import system_guards
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Account, ExposureGuard, Resource


def of_account(unit: Unit, account: Account) -> list[Rule]:
    """The guards that apply to an account, as rules that refuse."""
    rows = unit.db.execute(
        select(ExposureGuard, Resource.path)
        .outerjoin(Resource, Resource.id == ExposureGuard.resource_id)
        .where(
            or_(
                ExposureGuard.account_id == account.id,
                ExposureGuard.account_kind == account.kind,
                Resource.account_id == account.id,
                (
                    ExposureGuard.account_id.is_(None)
                    & ExposureGuard.account_kind.is_(None)
                    & ExposureGuard.resource_id.is_(None)
                ),
            )
        )
        .order_by(ExposureGuard.id)
    ).all()
    return [as_rule(row, path) for row, path in rows]


def as_rule(row: ExposureGuard, path: str | None = None) -> Rule:
    """A guard as a rule that refuses everyone except people inside and those whom it names."""
    but = frozenset(document.who_of(each) for each in row.but)
    terms = Terms(Effect.REFUSE, frozenset({ANYONE}), frozenset(row.rights), but=but | {INSIDE})
    place, of = (Place.RESOURCE, path) if path else (Place.SYSTEM, "")
    return Rule(f"guard.{row.id}", terms, place=place, of=of or "", reason=row.reason)


def listed(unit: Unit) -> list[schemas.GuardRow]:
    """The guards on accounts that the viewer may see."""
    rows = unit.db.execute(_seen(unit)).all()
    told = system_guards.of_guards(unit) if unit.sight.everything else {}
    return [schemas.GuardRow.model_validate({**_shown(*row), "systems": told.get(row[0].id, [])}) for row in rows]


def _shown(row: ExposureGuard, account: Account | None, resource: Resource | None) -> JsonObject:
    return {
        "id": row.id,
        "account_kind": row.account_kind,
        "account": None if account is None else {"id": account.id, "name": account.name},
        "resource": None if resource is None else {"id": resource.id, "name": resource.name},
        "rights": row.rights,
        "but": row.but,
        "reason": row.reason,
        "made_by": row.made_by,
        "sentence": sentence(row, account, resource),
    }


def sentence(row: ExposureGuard, account: Account | None, resource: Resource | None) -> str:
    """What a guard forbids, in words."""
    where = (
        f"“{resource.name}” in {account.name}"
        if resource is not None and account is not None
        else account.name
        if account is not None
        else f"any {row.account_kind}"
        if row.account_kind
        else "anything"
    )
    does = " or ".join(row.rights)
    but = ", ".join(next(iter(each.values())) for each in row.but)
    return f"No outsider {f'but {but} ' if but else ''}may {does} {where}."


def draft(
    unit: Unit,
    rights: Sequence[str],
    but: Sequence[object],
    reason: str,
    account: UUID | None = None,
    account_kind: str | None = None,
    resource: UUID | None = None,
) -> ExposureGuard:
    """A guard that is not stored. BadInput for an empty one, NotFound for what may not be seen."""
    if sum(each is not None for each in (account, account_kind, resource)) > 1:
        raise BadInput("A guard stands on one thing.", "Name an account, a kind, or a resource; or none of them.")
    if resource is not None:
        part = unit.db.scalar(select(Resource).where(Resource.id == resource, unit.sight.resources()))
        if part is None:
            raise NotFound("There is no such resource, or you may not see it.")
        unit.sight.require_answers_for(part.account_id)
    elif account is not None:
        if unit.db.scalar(select(Account.id).where(Account.id == account, unit.sight.accounts())) is None:
            raise NotFound("There is no such account, or you may not see it.")
        unit.sight.require_answers_for(account)
    else:
        unit.sight.require_administrator()
    return ExposureGuard(
        organisation_id=unit.viewer.organisation,
        account_id=account,
        account_kind=account_kind,
        resource_id=resource,
        refuses="anyone",
        rights=sorted(set(rights)),
        but=list(but),
        reason=reason.strip(),
        made_by=unit.viewer.name,
    )


def concerned(unit: Unit, guard: ExposureGuard) -> list[UUID]:
    """The accounts with rules to which a guard applies."""
    wanted = select(Account.id).where(
        Account.archived_at.is_(None), Account.id.in_(select(AccessRule.account_id).distinct())
    )
    if guard.account_id is not None:
        wanted = wanted.where(Account.id == guard.account_id)
    elif guard.account_kind is not None:
        wanted = wanted.where(Account.kind == guard.account_kind)
    elif guard.resource_id is not None:
        wanted = wanted.where(
            Account.id == select(Resource.account_id).where(Resource.id == guard.resource_id).scalar_subquery()
        )
    return list(unit.db.scalars(wanted.order_by(Account.id)))


def opened(unit: Unit, ident: UUID) -> ExposureGuard:
    """A guard that the viewer may lift. NotFound for one on something that they may not see."""
    found = unit.db.execute(_seen(unit).where(ExposureGuard.id == ident)).first()
    if found is None:
        raise NotFound("There is no such guard.")
    guard, account, _ = found
    if account is None:
        unit.sight.require_administrator()
    else:
        unit.sight.require_answers_for(account.id)
    return guard


def _seen(unit: Unit) -> Select[ExposureGuard, Account, Resource]:
    """Guards with what they apply to, of what the viewer may see."""
    return (
        select(ExposureGuard, Account, Resource)
        .outerjoin(Resource, Resource.id == ExposureGuard.resource_id)
        .outerjoin(Account, or_(Account.id == ExposureGuard.account_id, Account.id == Resource.account_id))
        .where(or_(Account.id.is_(None), unit.sight.accounts()))
        .order_by(ExposureGuard.id)
    )
