"""Access rules of accounts: storing what a reading shows, and converting rows to values."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, or_, select, text

from openlatch.adapters import RuleManner
from openlatch.core.exposure import document
from openlatch.core.exposure.conditions import Unknown
from openlatch.core.exposure.form import FORM
from openlatch.core.exposure.rules import ANYONE, Combining, Effect, Manner, Right, Rule, Terms
from openlatch.core.revocations.proof import Evidence
from openlatch.core.vocabulary import Proof
from openlatch.service.unit import Service, Unit
from openlatch.store.tables import AccessRule, Exposure, RevocationTarget, System

# For accounts that no adapter reads.
BY_HAND = RuleManner(Combining.REFUSE_WINS, {right.value: right for right in Right}, logins_known=False)

# What a reading shows of an account is told again as a whole, unless it is unchanged; where it was read only in part,
# nothing that it does not show is taken for gone.
_READ = """
    create temporary table rules_read on commit drop as
    select distinct on (a.id, r.key) a.id as account_id, r.key, r.n, r.is_guard, r.plain, r.handle
    from reading_rules r join accounts a on a.system_id = :system and a.handle = r.account
    order by a.id, r.key, r.n
"""
_NEW = """
    insert into access_rules (id, organisation_id, account_id, key, position, is_guard, plain, handle)
    select gen_random_uuid(), :organisation, r.account_id, r.key, r.n, r.is_guard, r.plain, r.handle
    from rules_read r
    on conflict (account_id, key) do update set position = excluded.position, is_guard = excluded.is_guard,
        plain = excluded.plain, handle = excluded.handle, by_hand = false
    where (access_rules.is_guard, access_rules.plain, access_rules.handle, access_rules.by_hand)
        is distinct from (excluded.is_guard, excluded.plain, excluded.handle, false)
        or :in_order and access_rules.position <> excluded.position
    returning account_id, key, xmax = 0
"""
_GONE = """
    delete from access_rules g using accounts a
    where a.id = g.account_id and a.system_id = :system and not g.by_hand
        and a.handle in (select handle from reading_accounts)
        and a.handle not in (select account from reading_unchanged)
        and not exists (select from reading_partial q where q.account in ('', a.handle))
        and not exists (select from rules_read r where r.account_id = g.account_id and r.key = g.key)
    returning g.account_id
"""
# Resources as rules see them.
_SEEN = """
    update resources p set path = coalesce(nullif(r.path, ''), p.path), attributes = r.attributes, above = r.above,
        inherits = r.inherits, kind = r.kind
    from reading_parts r join accounts a on a.handle = r.account
    where a.system_id = :system and p.account_id = a.id and p.key = r.handle
        and (p.path, p.attributes, p.above, p.inherits)
            is distinct from (coalesce(nullif(r.path, ''), p.path), r.attributes, r.above, r.inherits)
    returning p.account_id
"""
_FRESH = """
    select distinct p.account_id from resources p join accounts a on a.id = p.account_id
    where a.system_id = :system and p.created_at >= :now
        and exists (select from access_rules g where g.account_id = a.id)
"""
_USED = """
    insert into outside_uses (id, organisation_id, account_id, resource_id, "right", day, who, address)
    select distinct on (a.id, p.id, u.used_right, u.day, u.who, u.address)
        gen_random_uuid(), :organisation, a.id, p.id, u.used_right, u.day, u.who, u.address
    from reading_used_outside u join accounts a on a.system_id = :system and a.handle = u.account
    left join resources p on p.account_id = a.id and p.key = u.part
    where u.part = '' or p.id is not null
    on conflict do nothing returning account_id
"""


@dataclass(frozen=True, slots=True)
class Followed:
    """What a reading changed: the accounts where rules differ, and the new rules by account."""

    accounts: frozenset[UUID]
    new: Mapping[UUID, tuple[str, ...]]


def follow(unit: Unit, system: System) -> Followed:
    """Update the access rules of a system's accounts from a reading."""
    # Where the first applicable rule decides, a new order is a change.
    in_order = told_by(unit.service, system).combining is Combining.FIRST_MATCH
    named = {"system": system.id, "organisation": unit.viewer.organisation, "now": unit.now, "in_order": in_order}
    unit.db.execute(text(_READ), named)
    new: dict[UUID, tuple[str, ...]] = {}
    found: set[UUID] = set()
    for account, key, is_new in unit.db.execute(text(_NEW), named).all():
        found.add(account)
        if is_new:
            new[account] = (*new.get(account, ()), key)
    for statement in (_GONE, _SEEN, _FRESH, _USED):
        found.update(unit.db.scalars(text(statement), named))
    return Followed(frozenset(found), new)


def manner_of(service: Service, system: System | None, zone: ZoneInfo) -> Manner:
    """How a system combines the rules of an account, in this time zone."""
    told = told_by(service, system)
    return Manner(told.combining, told.permissions, zone)


def told_by(service: Service, system: System | None) -> RuleManner:
    """What a system's adapter says about its rules; for systems without one, rules as recorded by hand."""
    maker = service.adapters.get(system.kind) if system is not None else None
    if system is None or maker is None:
        return BY_HAND
    # An adapter's abilities are known without the secret.
    return maker(system.settings, "").can.rules or BY_HAND


def as_rules(rows: Iterable[AccessRule], permissions: Mapping[str, Right], zone: ZoneInfo) -> list[Rule]:
    """Rules, or guards, as values, in order: all at once if all can be parsed, else one by one."""
    listed = list(rows)
    if listed:
        kind = "guards" if listed[0].is_guard else "rules"
        found = document.parsed({"form": FORM, kind: [row.plain for row in listed]}, permissions, zone)
        if isinstance(found, document.Document):
            told = found.guards if listed[0].is_guard else found.rules
            return [replace(rule, order=row.position) for rule, row in zip(told, listed, strict=True)]
    return [as_rule(row.plain, row.is_guard, row.position, permissions, zone) for row in listed]


def as_rule(
    plain: Mapping[str, object], is_guard: bool, position: int, permissions: Mapping[str, Right], zone: ZoneInfo
) -> Rule:
    """One rule as a value. A rule that can't be parsed counts as open to anyone, under a condition that is not
    understood.
    """
    found = document.parsed({"form": FORM, "guards" if is_guard else "rules": [plain]}, permissions, zone)
    if isinstance(found, document.Document):
        (rule,) = found.guards if is_guard else found.rules
        return Rule(rule.key, rule.terms, rule.on, rule.place, rule.of, position, rule.name, rule.reason)
    key = str(plain.get("guard" if is_guard else "rule", ""))
    told = Unknown(f"the rule “{key}”, which can't be read")
    effect = Effect.REFUSE if is_guard else Effect.ADMIT
    return Rule(key, Terms(effect, frozenset({ANYONE}), frozenset(permissions), told), order=position)


def close(unit: Unit, target: RevocationTarget, known: Evidence) -> None:
    """Remove a rule once its system or a person says that it is gone; without proof it stays in the register.

    The reading that proves it may have removed the rule already.
    """
    key = str((target.was or {})["rule"])
    is_closed = known.proof in (Proof.CONFIRMED, Proof.STATED)
    action = "access_rule.closed" if is_closed else "access_rule.not_closed"
    unit.record(
        action,
        "access_rule",
        target.rule_id,
        key,
        target.account_id,
        proof=known.proof,
        proved_by=known.by,
        words=known.words,
    )
    row = unit.db.get(AccessRule, target.rule_id) if is_closed else None
    if row is not None:
        unit.db.delete(row)
    unit.db.flush()


def prove(unit: Unit, target: RevocationTarget, known: Evidence) -> None:
    """Store with the exposures that ended with a rule how that is known."""
    key = str((target.was or {})["rule"])
    gone = select(Exposure).where(
        Exposure.account_id == target.account_id, Exposure.admitted_by.contains([key]), Exposure.gone_at.is_not(None)
    )
    for exposure in unit.db.scalars(gone):
        exposure.proof, exposure.proved_at, exposure.proved_by = known.proof, known.at, known.by
        exposure.proof_words = known.words


def opens(part: UUID) -> ColumnElement[bool]:
    """The condition that an exposure concerns this resource, or this account as a whole."""
    return or_(Exposure.resource_id == part, (Exposure.account_id == part) & Exposure.resource_id.is_(None))


def opening(unit: Unit, part: UUID) -> list[UUID]:
    """The rules by which outsiders get into a resource, or an account as a whole, now or later."""
    rows = unit.db.execute(
        select(Exposure.account_id, Exposure.admitted_by).where(
            opens(part), Exposure.gone_at.is_(None), ~Exposure.is_blocked
        )
    ).all()
    keys = {key for _, admitted in rows for key in admitted}
    accounts = {account for account, _ in rows}
    wanted = select(AccessRule.id).where(AccessRule.account_id.in_(accounts), AccessRule.key.in_(keys))
    return list(unit.db.scalars(wanted))
