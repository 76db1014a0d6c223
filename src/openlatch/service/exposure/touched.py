"""Which resources of an account are touched by what changed since exposures were last evaluated."""

from __future__ import annotations

from collections.abc import Collection
from uuid import UUID

import orjson
from sqlalchemy import Select, select, text

from openlatch.core.exposure.rules import group_in, places_of
from openlatch.core.time_windows import zone_of
from openlatch.service.exposure import access_rules
from openlatch.service.exposure.account_rules import AccountRules, is_new
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Account, EvaluatedAccount, EvaluatedRule, System

# With more places than this the whole account is evaluated.
MOST = 10_000
_EVERYTHING = "/"
# Rows that others changed since, or that this transaction did. What others have not committed yet, they work out
# themselves, after this one.
_CHANGED = """
    select id from resources where account_id = :account and recorded_at > :since
    union select id from resources where account_id = :account and recorded_at >= now()
"""
# The zero comes right after the slash, in the order of bytes.
_BELOW = """
    select r.id from unnest(cast(:paths as text[])) p join resources r
        on r.account_id = :account and (r.path = p or (r.path ~>=~ (p || '/') and r.path ~<~ (p || '0')))
"""
_IN_GROUPS = "select id from resources where account_id = :account and above ?| cast(:groups as text[])"


def touched(unit: Unit, account: Account) -> set[UUID] | None:
    """The resources for which something may have changed; None for all of them and the account as a whole."""
    since = unit.db.scalar(select(EvaluatedAccount.recorded_at).where(EvaluatedAccount.account_id == account.id))
    if since is None:
        return None
    places = _places(unit, account)
    there = at(unit, account, places) if places is not None else None
    if there is None:
        return None
    changed = unit.db.scalars(text(f"{_CHANGED} limit {MOST + 1}"), {"account": account.id, "since": since}).all()
    return there.union(changed) if len(changed) <= MOST else None


def at(unit: Unit, account: Account, places: Collection[str]) -> set[UUID] | None:
    """The resources at or below some places; None for all of them, or too many to look up one by one."""
    if _EVERYTHING in places:
        return None
    groups = [group for group in map(group_in, places) if group is not None]
    paths = [place for place in places if group_in(place) is None]
    found: set[UUID] = set()
    for statement in (*([_BELOW] if paths else ()), *([_IN_GROUPS] if groups else ())):
        given = {"account": account.id, "paths": paths, "groups": groups}
        found.update(unit.db.scalars(text(f"{statement} limit {MOST + 1}"), given))
        if len(found) > MOST:
            return None
    return found


def _places(unit: Unit, account: Account) -> set[str] | None:
    """The places of rules that are new, changed or gone, before and after; None when a guard is among them."""
    new = unit.db.scalars(_changed_rules(account.id)).all()
    if any(rule.is_guard for rule in new):
        return None
    zone = zone_of(account.time_zone)
    system = unit.db.get(System, account.system_id) if account.system_id else None
    manner = access_rules.manner_of(unit.service, system, zone)
    rules = access_rules.as_rules(new, manner.permissions, zone)
    found = {place for rule in rules for place in places_of(rule)}
    before = (
        select(EvaluatedRule.places)
        .outerjoin(
            AccessRule, (AccessRule.account_id == EvaluatedRule.account_id) & (AccessRule.key == EvaluatedRule.key)
        )
        .where(
            EvaluatedRule.account_id == account.id, AccessRule.recorded_at.is_distinct_from(EvaluatedRule.recorded_at)
        )
    )
    for places in unit.db.scalars(before):
        found.update(places)
    return found


def _changed_rules(account: UUID) -> Select[AccessRule]:
    return (
        select(AccessRule)
        .outerjoin(
            EvaluatedRule, (EvaluatedRule.account_id == AccessRule.account_id) & (EvaluatedRule.key == AccessRule.key)
        )
        .where(AccessRule.account_id == account, is_new())
        .order_by(AccessRule.position, AccessRule.key)
    )


_RULES = """
    insert into evaluated_rules (id, organisation_id, account_id, key, recorded_at, places)
    select gen_random_uuid(), r.organisation_id, r.account_id, r.key, r.recorded_at, t.places
    from jsonb_to_recordset(cast(:told as jsonb)) as t(key text, places text[])
        join access_rules r on r.account_id = :account and r.key = t.key
    on conflict (account_id, key) do update set recorded_at = excluded.recorded_at, places = excluded.places
    where (evaluated_rules.recorded_at, evaluated_rules.places) is distinct from (excluded.recorded_at, excluded.places)
"""
_GONE = """
    delete from evaluated_rules e where e.account_id = :account
        and not exists (select from access_rules r where r.account_id = e.account_id and r.key = e.key)
"""
_ACCOUNT = """
    insert into evaluated_accounts (id, organisation_id, account_id, recorded_at)
    select gen_random_uuid(), organisation_id, id, now() from accounts where id = :account
    on conflict (account_id) do update set recorded_at = excluded.recorded_at
"""


def remember(unit: Unit, of_account: AccountRules) -> None:
    """Mark these rules as evaluated, with everything recorded by now."""
    every = (*of_account.rules, *of_account.guards)
    told = orjson.dumps([{"key": rule.key, "places": sorted(places_of(rule))} for rule in every]).decode()
    for statement in (_RULES, _GONE, _ACCOUNT):
        unit.db.execute(text(statement), {"account": of_account.account.id, "told": told})
