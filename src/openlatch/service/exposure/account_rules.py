"""The rules of an account with everything that its exposures depend on."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from uuid import UUID

from sqlalchemy import ColumnElement, func, or_, select, true

from openlatch.core.exposure.answers import Answer, Calculator
from openlatch.core.exposure.paths import Index
from openlatch.core.exposure.rules import Resource as Seen
from openlatch.core.exposure.rules import Right, Rule, WhoKind, covering, is_set_above, places_around
from openlatch.core.time_windows import zone_of
from openlatch.json_values import JsonObject
from openlatch.service.exposure import access_rules, boundary, guards
from openlatch.service.unit import Unit
from openlatch.store.lists.columns import among
from openlatch.store.tables import AccessRule, Account, EvaluatedRule, Resource, System


@dataclass(slots=True)
class AccountRules:
    """The rules of one account with everything that its exposures depend on.

    ``resources`` are the existing ones by id; None stands for the whole account. ``guards`` are the system's; ``ours``
    are the organisation's, which no system knows: they close nothing, and what is open against them is reported.
    """

    account: Account
    asker: Calculator
    rules: list[Rule]
    guards: list[Rule]
    resources: dict[UUID | None, Seen]
    names: dict[UUID | None, str]
    ours: list[Rule] = field(default_factory=list)
    words: dict[object, JsonObject] = field(default_factory=dict, repr=False)
    _index: Index = field(init=False, repr=False)

    def __post_init__(self) -> None:
        self._index = Index([rule.on for rule in self.rules])

    def answers(self, only: Collection[UUID | None] | None = None) -> Iterator[tuple[UUID | None, Answer]]:
        """What is open on each resource that is open at all; or on some."""
        if not self.rules:
            return
        for ident, seen in self.resources.items():
            if only is not None and ident not in only:
                continue
            answer = self.asker.answer(self._covering(seen), covering(self.guards, seen), seen)
            if answer.exposures or answer.blocked:
                yield ident, answer

    def against(self, ident: UUID | None) -> dict[Right, tuple[str, ...]]:
        """For one resource, the keys of the organisation's guards that are violated, by right."""
        seen = self.resources[ident]
        ours = covering(self.ours, seen)
        if not ours:
            return {}
        answer = self.asker.answer(self._covering(seen), [*covering(self.guards, seen), *ours], seen)
        keys = {guard.key for guard in ours}
        found = {e.right: tuple(key for key in answer.keys(e.narrowed_by) if key in keys) for e in answer.blocked}
        return {right: against for right, against in found.items() if against}

    def _covering(self, seen: Seen) -> list[Rule]:
        """The condition that a rule may cover one of some resources: guards, rules about places around one, and new
        rules.
        """
        fit = (self.rules[number] for number in self._index.find(seen.path))
        return [rule for rule in fit if is_set_above(rule, seen)]


def opened(
    unit: Unit, account: Account, told: boundary.Setting | None = None, only: Collection[UUID] | None = None
) -> AccountRules:
    """The current rules of an account with its resources; ``told`` supposes another boundary.

    With ``only``, just some resources and the rules that cover them.
    """
    system = unit.db.get(System, account.system_id) if account.system_id else None
    zone = zone_of(account.time_zone)
    manner = access_rules.manner_of(unit.service, system, zone)
    some = true() if only is None else among(Resource.id, only)
    resources = unit.db.execute(
        select(Resource.id, Resource.name, Resource.path, Resource.attributes, Resource.above, Resource.inherits).where(
            Resource.account_id == account.id, Resource.archived_at.is_(None), some
        )
    ).all()
    seen: dict[UUID | None, Seen] = {None: Seen("/", (), {})} if only is None else {}
    seen |= {row.id: Seen(row.path, tuple(row.above), row.attributes, row.inherits) for row in resources}
    rows = unit.db.scalars(
        select(AccessRule)
        .outerjoin(
            EvaluatedRule, (EvaluatedRule.account_id == AccessRule.account_id) & (EvaluatedRule.key == AccessRule.key)
        )
        .where(AccessRule.account_id == account.id, true() if only is None else _covering(seen.values()))
        .order_by(AccessRule.position, AccessRule.key)
    ).all()
    rules = access_rules.as_rules((r for r in rows if not r.is_guard), manner.permissions, zone)
    above = access_rules.as_rules((r for r in rows if r.is_guard), manner.permissions, zone)
    asker = calculator(unit, account, system, rules + above, told)
    return AccountRules(
        account,
        asker,
        rules,
        above,
        seen,
        {None: account.name, **{row.id: row.name for row in resources}},
        guards.of_account(unit, account),
    )


def _covering(resources: Iterable[Seen]) -> ColumnElement[bool]:
    """That a rule may cover one of some resources: guards, rules about places around one, and those that are new."""
    around = {place for each in resources for place in places_around(each)}
    return or_(AccessRule.is_guard, EvaluatedRule.places.overlap(list(around)), is_new())


def is_new() -> ColumnElement[bool]:
    """The condition that a rule was not evaluated in its present form; unknown for rules written by this
    transaction.
    """
    return or_(EvaluatedRule.recorded_at.is_distinct_from(AccessRule.recorded_at), AccessRule.recorded_at >= func.now())


def calculator(
    unit: Unit, account: Account, system: System | None, rules: Iterable[Rule], told: boundary.Setting | None = None
) -> Calculator:
    """The calculator of answers for an account with these rules."""
    zone = zone_of(account.time_zone)
    kind = access_rules.told_by(unit.service, system)
    inside = boundary.of_system(unit, told or boundary.setting(unit), account.system_id, kind)
    names = frozenset(who.name for rule in rules for who in rule.terms.who if who.kind is WhoKind.HOLDER)
    known = boundary.known_holders(unit, account.system_id, names)
    return Calculator(access_rules.manner_of(unit.service, system, zone), inside, unit.now, known)
