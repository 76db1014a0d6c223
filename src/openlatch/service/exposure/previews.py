"""What a change of rules, guards or the boundary would open and close, before anything is written."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from uuid import UUID
from zoneinfo import ZoneInfo

from openlatch import schemas
from openlatch.core.exposure import sentences
from openlatch.core.exposure.answers import Answer
from openlatch.core.exposure.answers import Exposure as Found
from openlatch.core.exposure.comparison import Change, Difference, compare
from openlatch.core.exposure.paths import Index
from openlatch.core.exposure.rules import Combining, Right
from openlatch.core.exposure.space import TooEntangled
from openlatch.service.exposure import account_rules, evaluate
from openlatch.service.exposure.account_rules import AccountRules
from openlatch.service.unit import Unit
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account

# Lines shown; all changes are counted.
MOST_SHOWN = 500
_WORST = {Change.NEW: 0, Change.CHANGED: 1, Change.GONE: 2, Change.UNCHANGED: 3}


@dataclass(frozen=True, slots=True)
class More:
    """How many more exposures stay as they are; they are counted and not listed."""

    times: int


def of_accounts(
    unit: Unit, accounts: Iterable[UUID], suppose: Callable[[Account], AccountRules]
) -> schemas.ExposureChanges:
    """What would happen to the exposures of some accounts after the change that ``suppose`` makes."""
    rows = (unit.db.get_one(Account, ident) for ident in accounts)
    return summary(
        line for account in rows for line in differences(account_rules.opened(unit, account), suppose(account))
    )


def summary(found: Iterable[schemas.ExposureChange | More]) -> schemas.ExposureChanges:
    """Lines of some accounts, the gravest first, with the numbers of each change and of forbidden ones."""
    lines: list[schemas.ExposureChange] = []
    counts = dict.fromkeys(Change, 0)
    forbidden = 0
    for line in found:
        if isinstance(line, More):
            counts[Change.UNCHANGED] += line.times
            continue
        counts[Change(line.change)] += 1
        forbidden += line.forbidden
        if line.change != "unchanged" or line.forbidden or len(lines) < MOST_SHOWN:
            lines.append(line)
    lines.sort(key=lambda line: (_WORST[Change(line.change)], not line.forbidden, not line.grew, line.sentence))
    return schemas.ExposureChanges(
        counts={change.value: count for change, count in counts.items()},
        forbidden=forbidden,
        lines=lines[:MOST_SHOWN],
        more=max(0, len(lines) - MOST_SHOWN),
    )


def differences(
    before: AccountRules, after: AccountRules, most: int = MOST_SHOWN
) -> Iterator[schemas.ExposureChange | More]:
    """One line for each resource and right that is open before or after.

    Of lines that no changed rule concerns, the first ``most`` are included, and all that a guard forbids; the rest are
    counted.
    """
    was = dict(before.answers())
    touched = _touched(before, after)
    will = (
        dict(after.answers())
        if touched is None
        else {**{i: a for i, a in was.items() if i not in touched}, **dict(after.answers(touched))}
    )
    forbidden = {ident: after.against(ident) for ident in will} if after.ours else {}
    paths = {seen.path: ident for ident, seen in before.resources.items()}
    left = 0
    for ident in dict.fromkeys((*was, *will)):
        if touched is not None and ident not in touched and not forbidden.get(ident):
            if most <= 0:
                left += len(will[ident].exposures)
                continue
            most -= 1
        # None is the whole account, which is never a planned resource.
        same = ident if ident in before.resources else paths.get(after.resources[ident].path)
        is_planned = same is None and ident is not None
        old, new = None if is_planned else was.get(same), will.get(ident)
        for right in Right:
            pair = old.of(right) if old else None, new.of(right) if new else None
            if pair != (None, None):
                yield _line(before, after, ident, right, pair, (old, new), right in forbidden.get(ident, {}))
    if left:
        yield More(left)


def _touched(before: AccountRules, after: AccountRules) -> set[UUID | None] | None:
    """The resources that a changed rule concerns, and new ones; None where any may be touched."""
    if (
        (before.asker.manner, before.asker.boundary) != (after.asker.manner, after.asker.boundary)
        or before.guards != after.guards
        or (before.asker.manner.combining is Combining.FIRST_MATCH and _order(before) != _order(after))
    ):
        return None
    was, will = ({rule.key: replace(rule, order=0) for rule in each.rules} for each in (before, after))
    differing = [
        rule for one, other in ((was, will), (will, was)) for key, rule in one.items() if other.get(key) != rule
    ]
    index = Index([rule.on for rule in differing])
    new = after.resources.keys() - before.resources.keys()
    return {ident for ident, seen in after.resources.items() if ident in new or index.find(seen.path)}


def _order(of_account: AccountRules) -> list[str]:
    return [rule.key for rule in of_account.rules]


def _line(
    before: AccountRules,
    after: AccountRules,
    ident: UUID | None,
    right: Right,
    pair: tuple[Found | None, Found | None],
    answers: tuple[Answer | None, Answer | None],
    is_forbidden: bool,
) -> schemas.ExposureChange:
    old, new = pair
    told = _compared(old, new, after)
    shown, answer = (new, answers[1]) if new is not None else (old, answers[0])
    assert shown is not None
    assert answer is not None
    zone = after.asker.manner.zone
    name = after.names.get(ident) or before.names.get(ident) or evaluate.WHOLE
    return schemas.ExposureChange(
        change=told.change.value,
        grew=told.grew,
        account=schemas.Named(id=after.account.id, name=after.account.name),
        resource=None if ident is None else schemas.Named(id=ident, name=name),
        right=right.value,
        audience=shown.audience.word,
        sentence=sentences.sentence(shown, name, zone),
        before=None if old is None else sentences.sentence(old, name, zone),
        gained=_words(told.gained, zone),
        lost=_words(told.lost, zone),
        rules=list(answer.keys(shown.admitted_by)),
        narrowed_by=list(answer.keys(shown.narrowed_by)),
        not_understood=list(shown.unknown),
        forbidden=is_forbidden,
    )


def _compared(old: Found | None, new: Found | None, after: AccountRules) -> Difference:
    try:
        return compare(old, new, after.asker)
    except TooEntangled:
        return Difference(Change.CHANGED)


def _words(ways: Sequence[AnyRow], zone: ZoneInfo) -> list[str]:
    return [sentences.way_in_words(way, zone).rstrip(",") for way in ways]


def with_permissions(of_account: AccountRules, permissions: Mapping[str, Right]) -> AccountRules:
    """The same account with other rights for its system's permissions."""
    manner = of_account.asker.manner
    supposed = replace(manner, permissions={**manner.permissions, **permissions})
    asker = replace(of_account.asker, manner=supposed, _answers={})
    return replace(of_account, asker=asker)
