"""Evaluates what is open to outsiders and stores it: what is new, changed, or gone since the last time."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from hashlib import blake2b
from uuid import UUID

import orjson
from sqlalchemy import ColumnElement, insert, select, text, true

from openlatch.core.exposure import records, sentences
from openlatch.core.exposure.answers import Answer, Audience, Calculator
from openlatch.core.exposure.answers import Exposure as Found
from openlatch.core.exposure.chart import Way
from openlatch.core.exposure.comparison import difference
from openlatch.core.exposure.space import TooEntangled
from openlatch.core.ids import new_id
from openlatch.core.vocabulary import Judgement, Proof
from openlatch.json_values import JsonObject, JsonView
from openlatch.service import locks
from openlatch.service.exposure import account_rules, expected, touched
from openlatch.service.exposure.account_rules import AccountRules
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists.columns import among
from openlatch.store.tables import AccessRule, Account, Exposure, Resource

WHOLE = "the whole account"
# Placeholder for a resource's name in a shared sentence.
_NAME = "\ue000"
# Accounts evaluated within a call.
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


def accounts(unit: Unit, idents: Iterable[UUID]) -> None:
    """Evaluate the exposures of these accounts, store what differs, and notify those who answer for them."""
    _accounts(unit, idents, whole=True)


def changed(unit: Unit, idents: Iterable[UUID]) -> None:
    """Evaluate only what changed rules or resources of these accounts touch."""
    _accounts(unit, idents, whole=False)


def _accounts(unit: Unit, idents: Iterable[UUID], whole: bool) -> None:
    differing = []
    for ident in sorted(set(idents)):
        locks.exposures(unit, ident)
        unit.db.flush()
        account = unit.db.get_one(Account, ident)
        only = None if whole else touched.touched(unit, account)
        if _account(unit, account, only):
            differing.append(ident)
    if differing:
        evaluate_flags.evaluate(unit, accounts=differing)
        unit.announce("exposures")


def soon(unit: Unit, idents: Sequence[UUID]) -> None:
    """Evaluate a few accounts at once; many are left to the worker."""
    if len(idents) <= MOST_AT_ONCE:
        accounts(unit, idents)
    else:
        unit.wake("evaluate")


def every_account(service: Service, organisation: UUID) -> None:
    """Evaluate every account with access rules, each in a transaction of its own, since time changes what is open."""
    viewer = Viewer.itself(organisation)
    with service.unit(viewer) as unit:
        ruled = list(unit.db.scalars(select(AccessRule.account_id).distinct().order_by(AccessRule.account_id)))
    for ident in ruled:
        with service.unit(viewer) as unit:
            accounts(unit, [ident])


def _account(unit: Unit, account: Account, only: Collection[UUID] | None) -> bool:
    """Evaluate one account, or only some of its resources; returns whether anything differs."""
    here = true() if only is None else among(Exposure.resource_id, only)
    kept = unit.db.execute(
        select(
            Exposure.id,
            Exposure.resource_id,
            Exposure.right,
            Exposure.is_blocked,
            Exposure.digest,
            Exposure.gone_at.is_(None),
        ).where(Exposure.account_id == account.id, here)
    ).all()
    known = {(resource, right, blocked): (ident, digest, on) for ident, resource, right, blocked, digest, on in kept}
    of_account = account_rules.opened(unit, account, only=only)
    found = dict(_found(of_account))
    against = (
        {ident: of_account.against(ident) for ident in {ident for ident, _, _ in found}} if of_account.ours else {}
    )
    new: list[_Shown] = []
    added: list[JsonObject] = []
    to_write: dict[UUID, JsonObject] = {}
    for key, (told, answer) in found.items():
        values = _values(of_account, key[0], told, answer, against.get(key[0], {}).get(told.right, ()))
        ident, digest, goes_on = known.get(key, (None, None, False))
        if ident is None:
            ident = new_id()
            added.append(
                {
                    "id": ident,
                    "organisation_id": account.organisation_id,
                    "account_id": account.id,
                    "resource_id": key[0],
                    "right": key[1],
                    "is_blocked": key[2],
                    "since": unit.now,
                    **values,
                }
            )
            new.append(_Shown(ident, values["sentence"], values["audience"], key[1], key[2]))
        elif not goes_on or digest != values["digest"]:
            to_write[ident] = values
    over = [ident for key, (ident, _, goes_on) in known.items() if goes_on and key not in found]
    # One Core statement for all: there may be a hundred thousand.
    if added:
        unit.db.execute(insert(Exposure), added)
    differing, gone = [], []
    for row in unit.db.scalars(select(Exposure).where(among(Exposure.id, [*to_write, *over]))):
        if row.id not in to_write:
            row.gone_at = unit.now
            row.version += 1
            gone.append(_Shown.of(row))
        elif row.gone_at is not None:
            _reopen(unit, row, to_write[row.id])
            new.append(_Shown.of(row))
        else:
            if _grew(row.ways, to_write[row.id]["ways"], of_account.asker):
                row.grew_at = unit.now
            _write(row, to_write[row.id])
            differing.append(_Shown.of(row))
    unit.db.flush()
    unit.db.execute(_LAST_USED, {"account": account.id})
    _follow_resources(unit, account, found, only)
    returned = _return_judgements(unit, account, of_account.asker, here)
    expected.mark(unit, [shown.id for shown in (*new, *differing)])
    _tell(unit, account, new, differing, gone)
    touched.remember(unit, of_account)
    return bool(new or differing or gone or returned)


@dataclass(frozen=True, slots=True)
class _Shown:
    """What is reported about an exposure."""

    id: UUID
    sentence: str
    audience: int
    right: str
    is_blocked: bool

    @classmethod
    def of(cls, row: Exposure) -> _Shown:
        return cls(row.id, row.sentence, row.audience, row.right, row.is_blocked)


_Key = tuple[UUID | None, str, bool]


def _found(of_account: AccountRules) -> Iterator[tuple[_Key, tuple[Found, Answer]]]:
    for ident, answer in of_account.answers():
        for is_blocked, exposures in ((False, answer.exposures), (True, answer.blocked)):
            for exposure in exposures:
                yield (ident, exposure.right.value, is_blocked), (exposure, answer)


def _values(
    of_account: AccountRules, ident: UUID | None, found: Found, answer: Answer, against: Sequence[str]
) -> JsonObject:
    """The columns of an exposure that come from its answer."""
    key = (id(found), answer.rules, tuple(against))
    if key not in of_account.words:
        of_account.words[key] = _worded(of_account, found, answer, against)
    base = of_account.words[key]
    values = {**base, "sentence": base["sentence"].replace(_NAME, of_account.names[ident] or WHOLE)}
    told = orjson.dumps(values, option=orjson.OPT_SORT_KEYS)
    return {**values, "digest": UUID(bytes=blake2b(told, digest_size=16).digest())}


def _worded(of_account: AccountRules, found: Found, answer: Answer, against: Sequence[str]) -> JsonObject:
    """The same, except for the resource's name: equal for all resources that rules do not distinguish."""
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
    worded: JsonObject = orjson.loads(orjson.dumps(values))
    return worded


def _write(row: Exposure, values: Mapping[str, object]) -> None:
    for name, value in values.items():
        setattr(row, name, value)
    row.version += 1


def _reopen(unit: Unit, row: Exposure, values: Mapping[str, object]) -> None:
    """What was gone is open again: its judgement and the proof of its end no longer hold."""
    row.since, row.gone_at, row.grew_at = unit.now, None, None
    if row.proof in (Proof.CONFIRMED, Proof.STATED):
        row.proof, row.proved_at = Proof.CONTRADICTED, unit.now
        row.proof_words = "It is open again."
    row.judgement, row.judged_by_id, row.judged_at, row.judged_reason = "unjudged", None, None, ""
    row.judged_ways = row.judged_sensitivity = row.intended_until = row.expected_by_id = None
    _write(row, values)


def ways_of(kept: Sequence[JsonView]) -> list[Way]:
    """Stored ways in, as values."""
    return [records.read_way(each["way"]) for each in kept]


def _grew(before: Sequence[Mapping[str, object]], after: Sequence[Mapping[str, object]], asker: Calculator) -> bool:
    """Whether somebody gets in who did not before; what can't be compared counts as grown."""
    if not before or not after:
        return bool(not after)
    try:
        return bool(difference(ways_of(after), ways_of(before), asker))
    except TooEntangled:
        return True


def _return_judgements(unit: Unit, account: Account, asker: Calculator, here: ColumnElement[bool]) -> bool:
    """Reset judgements as intended when an exposure reaches farther, is more sensitive, or its time is over.

    Returns whether any was reset.
    """
    is_any = False
    intended = select(Exposure).where(
        Exposure.account_id == account.id, Exposure.gone_at.is_(None), Exposure.judgement == Judgement.INTENDED, here
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


def _follow_resources(
    unit: Unit, account: Account, found: Mapping[_Key, tuple[Found, Answer]], only: Collection[UUID] | None
) -> None:
    """Mark a resource as public while anyone gets in now, by whatever right, even after signing in or by a link."""
    public = {
        ident
        for (ident, _, is_blocked), (told, _) in found.items()
        if ident is not None and not is_blocked and told.is_open and told.audience is not Audience.NAMED
    }
    for row in unit.db.scalars(
        select(Resource).where(
            Resource.account_id == account.id,
            true() if only is None else among(Resource.id, only),
            Resource.public != among(Resource.id, public),
        )
    ):
        row.public = row.id in public
    unit.db.flush()


def _tell(
    unit: Unit, account: Account, new: Sequence[_Shown], differing: Sequence[_Shown], gone: Sequence[_Shown]
) -> None:
    for action, rows in (("found", new), ("changed", differing), ("gone", gone)):
        happened = [(f"exposure.{action}", row.id, row.sentence, account.id) for row in rows]
        unit.record_many("exposure", happened)
    open_now = [row for row in new if not row.is_blocked]
    if not open_now:
        return
    first = max(open_now, key=lambda row: (row.audience, row.right))
    more = f" And {len(open_now) - 1} more in {account.name}." if len(open_now) > 1 else ""
    notices.tell_and_write(
        unit, notices.answerers(unit, account.id), "exposure", f"{first.sentence}{more}", "/exposures"
    )
