"""What would come of a revocation, worked out before anything happens."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from openlatch.core.access.paths import Path, behind, lost, order_of, paths_into
from openlatch.core.register import Account, Grant, Holder, Permission, Register, Term
from openlatch.core.revocations import plan
from openlatch.core.revocations.plan import LiveSession, Login, OpenRule, PlannedStep, Stop, Target, Trim
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import HolderKind


@dataclass(frozen=True, slots=True)
class Change:
    """What becomes of one holder's rights in one account."""

    holder: Holder
    account: UUID
    ends: frozenset[Permission]
    remains: tuple[Path, ...]
    owner_before: bool


@dataclass(frozen=True, slots=True)
class Preview:
    """All that would come of a revocation, shown before anything happens."""

    changes: tuple[Change, ...]
    sessions: tuple[LiveSession, ...]
    apps_that_stop: tuple[Change, ...]
    without_owner: tuple[Account, ...]
    undo_alone: bool
    steps: tuple[PlannedStep, ...]
    stops: tuple[Stop, ...] = ()
    rules: tuple[OpenRule, ...] = ()


def preview(
    register: Register,
    targets: Sequence[Target],
    sessions: Sequence[LiveSession],
    at: datetime,
    logins: Sequence[Login] = (),
    hangs: Sequence[Stop] = (),
    rules: Sequence[OpenRule] = (),
) -> Preview:
    """What ends, what remains by another path, which sessions and apps stop, which rules go, and the steps.

    ``hangs`` is what is known to hang on the holders' logins; what others lose by it is found here.

    ``register`` must hold everything that reaches the targets' accounts, and every account that those reach
    in turn; ``sessions`` are the sessions that would end.
    """
    # What a system still gives to somebody who has left is just what has to end.
    register = register.as_held()
    after = afterwards(register, targets)
    accounts = list(dict.fromkeys(_touched(register, targets)))
    holders = frozenset(who for target in targets for who in behind(register, target.grant.holder, at))
    changes = [c for account in accounts for c in _changes(register, after, account, holders, at)]
    return Preview(
        changes=tuple(changes),
        sessions=tuple(sessions),
        apps_that_stop=tuple(c for c in changes if c.holder.kind is HolderKind.APP and not c.remains),
        without_owner=tuple(register.accounts[a] for a in accounts if register.accounts[a].owner is None),
        # Everything that an adapter takes away it can put back by itself; what is done by hand needs hands.
        undo_alone=all(t.reachable and t.can_return for t in targets) and not rules,
        steps=(
            *plan.taking_rules_away(register, rules),
            *plan.plan(register, targets, sessions, logins),
            *plan.reading_again(register, rules),
        ),
        stops=(*hangs, *_of_others(register, targets, changes)),
        rules=tuple(rules),
    )


def _of_others(register: Register, targets: Sequence[Target], changes: Iterable[Change]) -> Iterator[Stop]:
    """What somebody else can't do any more, since they came in by what ends: payments and publications among it."""
    own = {target.grant.holder for target in targets}
    for change in changes:
        if change.holder in own or not change.ends or change.remains:
            continue
        farthest = max(change.ends, key=lambda permission: (permission.reach, permission.key))
        who, place = register.name_of(change.holder), plan.account_name(register, change.account)
        did = farthest.sentence[0].lower() + farthest.sentence[1:]
        yield Stop("others", f"{who} comes into {place} by this, and can no longer {did} there")


def afterwards(register: Register, targets: Iterable[Target]) -> Register:
    """The register as it will be once these targets are ended or trimmed."""
    ending = []
    for target in targets:
        if target.trim is None:
            ending.append(target.grant.id)
        else:
            register = register.with_terms(target.grant.id, trimmed_terms(target.grant, target.trim))
    return register.without(ending) if ending else register


def trimmed_terms(grant: Grant, trim: Trim) -> tuple[Term, ...]:
    """The terms that a grant has after a trim. A trim never gives more than there was."""
    if trim.terms:
        return trim.terms
    terms = []
    for term in grant.terms:
        level = trim.level if trim.level is not None and trim.level.reach <= term.level.reach else term.level
        terms.append(term._replace(level=level, window=term.window.meet(Window(None, trim.until))))
    return tuple(dict.fromkeys(terms))


def _touched(register: Register, targets: Iterable[Target]) -> Iterable[UUID]:
    """The targets' accounts, and every account that can be reached through them."""
    waiting = [t.grant.account for t in targets]
    seen: set[UUID] = set()
    while waiting:
        account = waiting.pop(0)
        if account not in seen and account in register.accounts:
            seen.add(account)
            yield account
            through = register.by_holder.get(Holder(HolderKind.ACCOUNT, account), ())
            waiting.extend(grant.account for grant in through)


def _changes(
    before: Register, after: Register, account: UUID, holders: Iterable[Holder], at: datetime
) -> Iterable[Change]:
    """What becomes of those who come in by what ends; of nobody else anything does."""
    was, will = (paths_into(register, holders, account, at) for register in (before, after))
    for holder in sorted((who for who in was if was[who]), key=lambda who: order_of(was[who][0])):
        paths, left = was[holder], will[holder]
        if {_trace(p) for p in paths} != {_trace(p) for p in left}:
            yield Change(holder, account, lost(paths, left), tuple(left), any(p.level is None for p in paths))


def _trace(path: Path) -> tuple[tuple[UUID, ...], str, datetime | None]:
    return path.grants, path.level.name if path.level else "", path.window.until
