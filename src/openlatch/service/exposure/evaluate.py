"""Works out what is open to outsiders, and keeps it: what is new, has changed, or is gone since the last time."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from hashlib import blake2b
from typing import Any
from uuid import UUID

import orjson
from sqlalchemy import select, text

from openlatch.core.exposure import records, sentences
from openlatch.core.exposure.answers import Answer, Audience, Calculator
from openlatch.core.exposure.answers import Exposure as Found
from openlatch.core.exposure.chart import Way
from openlatch.core.exposure.comparison import difference
from openlatch.core.exposure.paths import Index
from openlatch.core.exposure.rules import Resource as Seen
from openlatch.core.exposure.rules import Right, Rule, WhoKind, covering, is_set_above
from openlatch.core.exposure.space import TooEntangled
from openlatch.core.ids import new_id
from openlatch.core.windows import zone_of
from openlatch.core.words import Proof
from openlatch.service import flags, locks, telling
from openlatch.service.context import Service, Unit, Viewer
from openlatch.service.exposure import access_rules, boundary, expected, guards
from openlatch.store.columns import among
from openlatch.store.tables import AccessRule, Account, Exposure, Resource, System

WHOLE = "the whole account"
# Stands for a resource's name in a sentence that is made once for many.
_NAME = "\ue000"
# Up to so many accounts are worked out while one waits.
MOST_AT_ONCE = 50
_LAST_USED = text(
    """
    update exposures x set last_used_on = u.day
    from (
        select resource_id, "right", max(day) as day from outside_uses where account_id = :account
        group by resource_id, "right"
    ) u
    where x.account_id = :account and x.resource_id is not distinct from u.resource_id and x."right" = u."right"
        and x.last_used_on is distinct from u.day
    """
)


@dataclass(slots=True)
class AccountRules:
    """The rules of one account with everything that their answers depend on.

    ``resources`` are those that exist, by their ids; None stands for the whole account. ``guards`` are the system's;
    ``ours`` are the organisation's, which no system knows: they shut nothing, and what is open against them is told.
    """

    account: Account
    asker: Calculator
    rules: list[Rule]
    guards: list[Rule]
    resources: dict[UUID | None, Seen]
    names: dict[UUID | None, str]
    ours: list[Rule] = field(default_factory=list)
    words: dict[object, dict[str, Any]] = field(default_factory=dict, repr=False)
    _index: Index = field(init=False, repr=False)

    def __post_init__(self) -> None:
        self._index = Index([rule.on for rule in self.rules])

    def answers(self, only: Collection[UUID | None] | None = None) -> Iterator[tuple[UUID | None, Answer]]:
        """What is open on each resource of which anything is; or on some."""
        if not self.rules:
            return
        for ident, seen in self.resources.items():
            if only is not None and ident not in only:
                continue
            answer = self.asker.answer(self._covering(seen), covering(self.guards, seen), seen)
            if answer.exposures or answer.blocked:
                yield ident, answer

    def against(self, ident: UUID | None) -> dict[Right, tuple[str, ...]]:
        """For one resource, the keys of the organisation's guards against which it is open, by right."""
        seen = self.resources[ident]
        ours = covering(self.ours, seen)
        if not ours:
            return {}
        answer = self.asker.answer(self._covering(seen), [*covering(self.guards, seen), *ours], seen)
        keys = {guard.key for guard in ours}
        found = {e.right: tuple(key for key in answer.keys(e.narrowed_by) if key in keys) for e in answer.blocked}
        return {right: against for right, against in found.items() if against}

    def _covering(self, seen: Seen) -> list[Rule]:
        """The rules that cover a resource, found among many."""
        fit = (self.rules[number] for number in self._index.find(seen.path))
        return [rule for rule in fit if is_set_above(rule, seen)]


def opened(unit: Unit, account: Account, told: boundary.Setting | None = None) -> AccountRules:
    """The rules of an account as they stand, with its resources; ``told`` is another boundary to suppose."""
    system = unit.db.get(System, account.system_id) if account.system_id else None
    zone = zone_of(account.time_zone)
    manner = access_rules.manner_of(unit.service, system, zone)
    rows = unit.db.scalars(
        select(AccessRule).where(AccessRule.account_id == account.id).order_by(AccessRule.position, AccessRule.key)
    ).all()
    rules = access_rules.as_rules((r for r in rows if not r.is_guard), manner.permissions, zone)
    above = access_rules.as_rules((r for r in rows if r.is_guard), manner.permissions, zone)
    resources = unit.db.execute(
        select(Resource.id, Resource.name, Resource.path, Resource.attributes, Resource.above, Resource.inherits)
        .where(Resource.account_id == account.id, Resource.archived_at.is_(None))
    ).all()  # fmt: skip
    seen: dict[UUID | None, Seen] = {None: Seen("/", (), {})}
    seen |= {row.id: Seen(row.path, tuple(row.above), row.attributes, row.inherits) for row in resources}
    asker = calculator(unit, account, system, rules + above, told)
    return AccountRules(
        account, asker, rules, above, seen, {None: account.name, **{row.id: row.name for row in resources}},
        guards.of_account(unit, account),
    )  # fmt: skip


def calculator(
    unit: Unit, account: Account, system: System | None, rules: Iterable[Rule], told: boundary.Setting | None = None
) -> Calculator:
    """What works out answers for an account whose rules are these, from now on."""
    zone = zone_of(account.time_zone)
    kind = access_rules.told_by(unit.service, system)
    inside = boundary.of_system(unit, told or boundary.setting(unit), account.system_id, kind)
    names = frozenset(who.name for rule in rules for who in rule.terms.who if who.kind is WhoKind.HOLDER)
    known = boundary.known_holders(unit, account.system_id, names)
    return Calculator(access_rules.manner_of(unit.service, system, zone), inside, unit.now, known)


def accounts(unit: Unit, idents: Iterable[UUID]) -> None:
    """Work out anew what is open on these accounts, keep what differs, and tell those who answer for them."""
    touched = []
    for ident in sorted(set(idents)):
        account = unit.db.get_one(Account, ident)
        if _account(unit, account):
            touched.append(ident)
    if touched:
        flags.evaluate(unit, accounts=touched)
        unit.announce("exposures")


def soon(unit: Unit, idents: Sequence[UUID]) -> None:
    """Work out a few accounts at once; many are the worker's."""
    if len(idents) <= MOST_AT_ONCE:
        accounts(unit, idents)
    else:
        unit.wake("evaluate")


def every_account(service: Service, organisation: UUID) -> None:
    """Work out every account with access rules, each in a transaction of its own: time changes what is open, too."""
    viewer = Viewer.itself(organisation)
    with service.unit(viewer) as unit:
        ruled = list(unit.db.scalars(select(AccessRule.account_id).distinct().order_by(AccessRule.account_id)))
    for ident in ruled:
        with service.unit(viewer) as unit:
            accounts(unit, [ident])


def _account(unit: Unit, account: Account) -> bool:
    """Work out one account; whether anything differs."""
    locks.exposures(unit, account.id)
    kept = unit.db.execute(
        select(Exposure.id, Exposure.resource_id, Exposure.right, Exposure.is_blocked, Exposure.digest,
               Exposure.gone_at.is_(None)).where(Exposure.account_id == account.id)
    ).all()  # fmt: skip
    known = {(resource, right, blocked): (ident, digest, on) for ident, resource, right, blocked, digest, on in kept}
    of_account = opened(unit, account)
    found = dict(_found(of_account))
    against = (
        {ident: of_account.against(ident) for ident in {ident for ident, _, _ in found}} if of_account.ours else {}
    )
    new: list[Exposure] = []
    to_write: dict[UUID, dict[str, Any]] = {}
    for key, (told, answer) in found.items():
        values = _values(of_account, key[0], told, answer, against.get(key[0], {}).get(told.right, ()))
        ident, digest, goes_on = known.get(key, (None, None, False))
        if ident is None:
            row = Exposure(
                id=new_id(), organisation_id=account.organisation_id, account_id=account.id, resource_id=key[0],
                right=key[1], is_blocked=key[2], since=unit.now, **values,
            )  # fmt: skip
            unit.db.add(row)
            new.append(row)
        elif not goes_on or digest != values["digest"]:
            to_write[ident] = values
    over = [ident for key, (ident, _, goes_on) in known.items() if goes_on and key not in found]
    changed, gone = [], []
    for row in unit.db.scalars(select(Exposure).where(among(Exposure.id, [*to_write, *over]))):
        if row.id not in to_write:
            row.gone_at = unit.now
            row.version += 1
            gone.append(row)
        elif row.gone_at is not None:
            _reopen(unit, row, to_write[row.id])
            new.append(row)
        else:
            if _grew(row.ways, to_write[row.id]["ways"], of_account.asker):
                row.grew_at = unit.now
            _write(row, to_write[row.id])
            changed.append(row)
    unit.db.flush()
    unit.db.execute(_LAST_USED, {"account": account.id})
    _follow_resources(unit, of_account, found)
    returned = _return_judgements(unit, account, of_account.asker)
    expected.mark(unit, [*new, *changed])
    _tell(unit, account, new, changed, gone)
    return bool(new or changed or gone or returned)


_Key = tuple[UUID | None, str, bool]


def _found(of_account: AccountRules) -> Iterator[tuple[_Key, tuple[Found, Answer]]]:
    for ident, answer in of_account.answers():
        for is_blocked, exposures in ((False, answer.exposures), (True, answer.blocked)):
            for exposure in exposures:
                yield (ident, exposure.right.value, is_blocked), (exposure, answer)


def _values(
    of_account: AccountRules, ident: UUID | None, found: Found, answer: Answer, against: Sequence[str]
) -> dict[str, Any]:
    """The columns of an exposure that come from its answer."""
    key = (id(found), answer.rules, tuple(against))
    if key not in of_account.words:
        of_account.words[key] = _worded(of_account, found, answer, against)
    base = of_account.words[key]
    values = {**base, "sentence": base["sentence"].replace(_NAME, of_account.names[ident] or WHOLE)}
    told = orjson.dumps(values, option=orjson.OPT_SORT_KEYS)
    return {**values, "digest": UUID(bytes=blake2b(told, digest_size=16).digest())}


def _worded(of_account: AccountRules, found: Found, answer: Answer, against: Sequence[str]) -> dict[str, Any]:
    """The same, but for the name of the resource: it is alike for all that rules do not tell apart."""
    zone = of_account.asker.manner.zone
    values = {
        "audience": int(found.audience),
        "is_open": found.is_open,
        "is_entangled": found.entangled,
        "ways": [
            {
                "way": records.write_way(o.way),
                "says": sentences.way_in_words(o.way, zone),
                "rules": answer.keys(o.rules),
            }
            for o in found.openings
        ],
        "admitted_by": list(answer.keys(found.admitted_by)),
        "narrowed_by": list(answer.keys(found.narrowed_by)),
        "unknown": list(found.unknown),
        "against": list(against),
        "sentence": sentences.sentence(found, _NAME, zone),
    }
    worded: dict[str, Any] = orjson.loads(orjson.dumps(values))
    return worded


def _write(row: Exposure, values: Mapping[str, Any]) -> None:
    for name, value in values.items():
        setattr(row, name, value)
    row.version += 1


def _reopen(unit: Unit, row: Exposure, values: Mapping[str, Any]) -> None:
    """What was gone is there again: it is judged anew, and what was said of its end does not hold."""
    row.since, row.gone_at, row.grew_at = unit.now, None, None
    if row.proof in (Proof.CONFIRMED, Proof.STATED):
        row.proof, row.proved_at = Proof.CONTRADICTED, unit.now
        row.proof_words = "It is open again."
    row.judgement, row.judged_by_id, row.judged_at, row.judged_reason = "unjudged", None, None, ""
    row.judged_ways = row.judged_sensitivity = row.intended_until = row.expected_by_id = None
    _write(row, values)


def ways_of(kept: Sequence[Mapping[str, Any]]) -> list[Way]:
    """Ways in as they were kept."""
    return [records.read_way(each["way"]) for each in kept]


def _grew(before: Sequence[Mapping[str, Any]], after: Sequence[Mapping[str, Any]], asker: Calculator) -> bool:
    """Whether somebody gets in who did not; what can't be compared counts as grown."""
    if not before or not after:
        return bool(not after)
    try:
        return bool(difference(ways_of(after), ways_of(before), asker))
    except TooEntangled:
        return True


def _return_judgements(unit: Unit, account: Account, asker: Calculator) -> bool:
    """What was judged as intended comes back when it reaches farther, matters more, or its time is over.

    Gives whether anything did.
    """
    is_any = False
    intended = select(Exposure).where(
        Exposure.account_id == account.id, Exposure.gone_at.is_(None), Exposure.judgement == "intended"
    )
    for row in unit.db.scalars(intended):
        why = ""
        if row.intended_until is not None and row.intended_until <= unit.now:
            why = "its time is over"
        elif account.sensitivity > (row.judged_sensitivity or 0):
            why = "the account is more sensitive now"
        elif _grew(row.judged_ways or [], row.ways, asker):
            why = "it reaches farther now"
        if why:
            row.judgement, is_any = "unjudged", True
            row.version += 1
            unit.record("exposure.judgement_returned", "exposure", row.id, row.sentence, row.account_id, why=why)
    return is_any


def _follow_resources(unit: Unit, of_account: AccountRules, found: Mapping[_Key, tuple[Found, Answer]]) -> None:
    """A resource is public while anyone gets in now, perhaps after signing in or by a link, by whatever right."""
    public = {
        ident
        for (ident, _, is_blocked), (told, _) in found.items()
        if ident is not None and not is_blocked and told.is_open and told.audience is not Audience.NAMED
    }
    for row in unit.db.scalars(
        select(Resource).where(
            Resource.account_id == of_account.account.id, Resource.public != among(Resource.id, public)
        )
    ):
        row.public = row.id in public
    unit.db.flush()


def _tell(
    unit: Unit, account: Account, new: Sequence[Exposure], changed: Sequence[Exposure], gone: Sequence[Exposure]
) -> None:
    for action, rows in (("found", new), ("changed", changed), ("gone", gone)):
        happened = [(f"exposure.{action}", row.id, row.sentence, account.id) for row in rows]
        unit.record_many("exposure", happened)
    open_now = [row for row in new if not row.is_blocked]
    if not open_now:
        return
    first = max(open_now, key=lambda row: (row.audience, row.right))
    more = f" And {len(open_now) - 1} more in {account.name}." if len(open_now) > 1 else ""
    telling.tell_and_write(
        unit, telling.answerers(unit, account.id), "exposure", f"{first.sentence}{more}", "/exposures"
    )
