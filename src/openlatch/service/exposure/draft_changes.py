"""What a draft of an account's rules would open and close."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import replace
from uuid import UUID

from sqlalchemy import func, or_, select

from openlatch import schemas
from openlatch.core.exposure import document
from openlatch.core.exposure.answers import Audience
from openlatch.core.exposure.rules import Combining, Right, places_around, places_of
from openlatch.core.exposure.rules import Resource as Seen
from openlatch.core.ids import new_id
from openlatch.core.time_windows import zone_of
from openlatch.service.exposure import access_rules, account_rules, evaluate, previews, touched
from openlatch.service.exposure.account_rules import AccountRules
from openlatch.service.unit import Unit
from openlatch.store.lists.columns import among, not_among
from openlatch.store.tables import AccessRule, Account, EvaluatedRule, Exposure, Resource, System


def told(
    unit: Unit, account: Account, text: str, permissions: Mapping[str, str] | None = None
) -> schemas.ExposureChanges:
    """What a document would open and close, counted and line by line. Unreadable, with the problems, for a bad
    document.

    ``permissions`` supposes other rights for the system's permissions.
    """
    return previews.summary(lines(unit, account, text, permissions))


def lines(
    unit: Unit, account: Account, text: str, permissions: Mapping[str, str] | None = None
) -> Iterator[schemas.ExposureChange | previews.More]:
    """One line for each resource and right that is open before or after.

    Resources that are not touched are reported as last evaluated.
    """
    read = read_for(unit, account, text)
    only = None if permissions else _touched(unit, account, read, text)
    before = account_rules.opened(unit, account, only=only)
    after = _supposed(unit, before, read, permissions or {})
    yield from previews.differences(before, after)
    if only is not None:
        yield from _others(unit, account, only)


def read_for(unit: Unit, account: Account, text: str) -> document.Document:
    """A document as it counts for an account. Unreadable with its problems."""
    system = unit.db.get(System, account.system_id) if account.system_id else None
    told_by = access_rules.told_by(unit.service, system)
    return document.read(text, told_by.permissions, zone_of(account.time_zone))


def _supposed(unit: Unit, now: AccountRules, read: document.Document, permissions: Mapping[str, str]) -> AccountRules:
    """An account as it would be with a document's rules, and the resources that the document plans."""
    system = unit.db.get(System, now.account.system_id) if now.account.system_id else None
    planned: dict[UUID | None, Seen] = {new_id(): each for each in read.resources}
    resources = {**now.resources, **planned}
    around = {place for each in resources.values() for place in places_around(each)}
    rules = [rule for rule in read.rules if not around.isdisjoint(places_of(rule))]
    after = replace(
        now,
        asker=account_rules.calculator(unit, now.account, system, (*rules, *read.guards)),
        rules=rules,
        guards=list(read.guards),
        resources=resources,
        names={**now.names, **{ident: each.path for ident, each in planned.items()}},
    )
    return previews.with_permissions(after, {key: Right(right) for key, right in permissions.items()})


def _touched(unit: Unit, account: Account, read: document.Document, text: str) -> set[UUID] | None:
    """The resources that a document may change; None when that may be any, or is unknown."""
    if touched.touched(unit, account) != set():
        return None
    # With the same JSON parser as the document.
    plain = json.loads(text)
    wanted = {each["rule"]: each for each in plain.get("rules", [])}
    guards = {each["guard"]: each for each in plain.get("guards", [])}
    rows = unit.db.execute(
        select(AccessRule.key, AccessRule.plain, AccessRule.is_guard)
        .where(AccessRule.account_id == account.id)
        .order_by(AccessRule.position, AccessRule.key)
    ).all()
    now = {row.key: row.plain for row in rows if not row.is_guard}
    system = unit.db.get(System, account.system_id) if account.system_id else None
    by_order = access_rules.told_by(unit.service, system).combining is Combining.FIRST_MATCH
    if {row.key: row.plain for row in rows if row.is_guard} != guards or (by_order and list(now) != list(wanted)):
        return None
    differing = {key for key in now.keys() | wanted.keys() if now.get(key) != wanted.get(key)}
    places = {place for rule in read.rules if rule.key in differing for place in places_of(rule)}
    before = select(EvaluatedRule.places).where(
        EvaluatedRule.account_id == account.id, among(EvaluatedRule.key, differing)
    )
    places.update(place for each in unit.db.scalars(before) for place in each)
    places.update(each.path for each in read.resources)
    return touched.at(unit, account, places)


def _others(unit: Unit, account: Account, touched_ones: set[UUID]) -> Iterator[schemas.ExposureChange | previews.More]:
    """What is open on all other resources: lines that a guard forbids, some others, and how many more."""
    here = (
        Exposure.account_id == account.id,
        Exposure.gone_at.is_(None),
        ~Exposure.is_blocked,
        or_(Exposure.resource_id.is_(None), not_among(Exposure.resource_id, touched_ones)),
    )
    is_forbidden = func.jsonb_array_length(Exposure.against) > 0
    wanted = (
        select(Exposure, Resource.name)
        .outerjoin(Resource, Resource.id == Exposure.resource_id)
        .where(*here)
        .order_by(is_forbidden.desc(), Exposure.id)
    )
    most = max(previews.MOST_SHOWN, unit.db.scalar(select(func.count()).where(*here, is_forbidden)) or 0)
    shown = 0
    for row, name in unit.db.execute(wanted.limit(most)):
        shown += 1
        yield schemas.ExposureChange(
            change="unchanged",
            grew=False,
            account=schemas.Named(id=account.id, name=account.name),
            resource=None
            if row.resource_id is None
            else schemas.Named(id=row.resource_id, name=name or evaluate.WHOLE),
            right=row.right,
            audience=Audience(row.audience).word,
            sentence=row.sentence,
            before=row.sentence,
            gained=[],
            lost=[],
            rules=list(row.admitted_by),
            narrowed_by=list(row.narrowed_by),
            not_understood=list(row.unknown),
            forbidden=bool(row.against),
        )
    left = (unit.db.scalar(select(func.count()).where(*here)) or 0) - shown
    if left:
        yield previews.More(left)
