"""What has to happen for access to end. The one place that works it out.

A revocation has targets: grants to end or to trim, and sessions to end. ``preview`` says what would come of
it before anything happens; ``plan`` gives the steps, in order; ``after`` moves a step on by what the system
answered. All of it is plain values: the worker carries the steps out, and asks here what comes next.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from openlatch.core.access.paths import Path, behind, lost, order_of, paths_into
from openlatch.core.register import Account, Grant, Holder, Level, Permission, Register, Term
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import HolderKind, StepKind, StepState

FIRST_WAIT = timedelta(seconds=2)
LONGEST_WAIT = timedelta(minutes=15)
OVER = (StepState.DONE, StepState.SKIPPED)


@dataclass(frozen=True, slots=True)
class Trim:
    """What is left after a trim: a lower level, an earlier end, or both; or just some terms, with them in ``words``."""

    level: Level | None = None
    until: datetime | None = None
    terms: tuple[Term, ...] = ()
    words: str = ""


@dataclass(frozen=True, slots=True)
class Move:
    """One thing that a system wants done on the way to an end, in the order in which it insists on it.

    ``does`` finishes the sentence "<holder> in <account>: ..."; it is empty for the end itself.
    """

    kind: StepKind
    detail: dict[str, Any]
    does: str = ""


@dataclass(frozen=True, slots=True)
class Target:
    """A grant to end, or to trim, in an account whose system can or can't be changed by us.

    ``moves`` are how the system gets it done; without any it is one step with the handle. ``sessions_first`` where a
    session that goes on would give itself what is taken away. ``can_return`` whether we could give it back
    by ourselves.
    """

    grant: Grant
    reachable: bool
    handle: dict[str, Any]
    trim: Trim | None = None
    moves: tuple[Move, ...] = ()
    sessions_first: bool = False
    can_return: bool = True


@dataclass(frozen=True, slots=True)
class Login:
    """A login to be locked, or dropped for good, in the system where ``account`` lives."""

    name: str
    holder: Holder
    account: UUID
    system: str
    drop: bool = False


@dataclass(frozen=True, slots=True)
class Stop:
    """What stops, or is left over, when access ends: an object, a job, a key of a machine, or what others do by it."""

    kind: str
    sentence: str


@dataclass(frozen=True, slots=True)
class LiveSession:
    """A session that is going on, with what its system needs to find it again."""

    id: UUID
    account: UUID
    holder: Holder
    reachable: bool
    handle: dict[str, Any]


@dataclass(frozen=True, slots=True)
class OpenRule:
    """An access rule that lets outsiders in, and that is to be taken away; ``moves`` are how its system does that.

    Without moves it is for hands. ``words`` say what it opens.
    """

    id: UUID
    account: UUID
    key: str
    words: str
    moves: tuple[Move, ...] = ()


@dataclass(frozen=True, slots=True)
class Change:
    """What becomes of one holder's rights in one account."""

    holder: Holder
    account: UUID
    ends: frozenset[Permission]
    remains: tuple[Path, ...]
    owner_before: bool


@dataclass(frozen=True, slots=True)
class PlannedStep:
    """A step before it is stored."""

    kind: StepKind
    account: UUID
    sentence: str
    grant: UUID | None = None
    session: UUID | None = None
    detail: dict[str, Any] | None = None


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
            *_taking_away(register, rules),
            *plan(register, targets, sessions, logins),
            *_reading_again(register, rules),
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
        who, place = register.name_of(change.holder), _name(register, change.account)
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


def plan(
    register: Register,
    targets: Sequence[Target],
    sessions: Sequence[LiveSession],
    logins: Sequence[Login] = (),
) -> tuple[PlannedStep, ...]:
    """The steps in the order in which they have to happen.

    A login is locked before anything else, so that nobody signs in again meanwhile, and dropped after everything.
    Rights go before sessions: a session ended first would come straight back with the rights it still has; but where
    a session would renew the rights, it is the other way round. Whoever holds access through a holder goes before
    that holder, so that nothing hangs on what is gone. Reading again comes last, since only the system can say that
    access is gone.
    """
    ending = [_session_step(register, session) for session in sessions]
    first = {target.grant.account for target in targets if target.sessions_first}
    steps = [_lock_step(register, login) for login in logins if not login.drop]
    steps += [step for step in ending if step.account in first]
    for target in _dependants_first(targets):
        if _changes_the_system(target):
            steps += _steps_for(register, target)
    steps += [step for step in ending if step.account not in first]
    steps += [_lock_step(register, login) for login in logins if login.drop]
    changed = [t.grant.account for t in targets if t.reachable and _changes_the_system(t)]
    changed += [session.account for session in sessions if session.reachable]
    changed += [login.account for login in logins]
    steps += [
        PlannedStep(StepKind.READ_AGAIN, account, f"Read {_name(register, account)} again and see that it is gone")
        for account in dict.fromkeys(changed)
    ]
    return tuple(steps)


def _taking_away(register: Register, rules: Iterable[OpenRule]) -> Iterator[PlannedStep]:
    """The steps that take access rules away: by their systems, or by hand."""
    for rule in rules:
        sentence = f"Take the rule “{rule.key}” away in {_name(register, rule.account)}: {rule.words}"
        detail = {"rule": str(rule.id)}
        if not rule.moves:
            yield PlannedStep(
                StepKind.BY_HAND, rule.account, f"{sentence} Do it by hand, and say here what was done", detail=detail
            )
        for move in rule.moves:
            said = f"{sentence} ({move.does})" if move.does else sentence
            yield PlannedStep(move.kind, rule.account, said, detail={**move.detail, **detail})


def _reading_again(register: Register, rules: Iterable[OpenRule]) -> Iterator[PlannedStep]:
    for account in dict.fromkeys(rule.account for rule in rules if rule.moves):
        sentence = f"Read {_name(register, account)} again and see that it is closed"
        yield PlannedStep(StepKind.READ_AGAIN, account, sentence)


def _changes_the_system(target: Target) -> bool:
    """A shorter time alone is kept by the register, which ends the grant when the time comes."""
    return target.trim is None or target.trim.level is not None or bool(target.trim.terms)


def _name(register: Register, account: UUID) -> str:
    return register.accounts[account].name if account in register.accounts else "the account"


def _dependants_first(targets: Sequence[Target]) -> list[Target]:
    """Grants on an account before grants that this account holds elsewhere."""
    on_account: dict[UUID, list[Target]] = {}
    for target in targets:
        on_account.setdefault(target.grant.account, []).append(target)

    def depth(target: Target, seen: frozenset[UUID] = frozenset()) -> int:
        holder = target.grant.holder
        if holder.kind is not HolderKind.ACCOUNT or holder.id not in on_account or holder.id in seen:
            return 0
        return 1 + max((depth(other, seen | {holder.id}) for other in on_account[holder.id]), default=0)

    return sorted(targets, key=depth)


def _steps_for(register: Register, target: Target) -> list[PlannedStep]:
    last = _step_for(register, target)
    if not target.reachable or not target.moves:
        return [last]
    grant = target.grant
    who = f"{register.name_of(grant.holder)} in {_name(register, grant.account)}"
    return [
        PlannedStep(
            move.kind,
            grant.account,
            f"{who}: {move.does}" if move.does else last.sentence,
            grant.id,
            detail={**move.detail, **({"level": target.trim.level.name} if target.trim and target.trim.level else {})},
        )
        for move in target.moves
    ]


def _step_for(register: Register, target: Target) -> PlannedStep:
    grant, holder = target.grant, register.name_of(target.grant.holder)
    place = _name(register, grant.account)
    lower = target.trim.level if target.trim else None
    action = f"Reduce {holder} to “{lower.name}” in {place}" if lower else f"Remove {holder} from {place}"
    if target.trim is not None and target.trim.terms:
        action = f"Reduce {holder} in {place} to {target.trim.words}"
    detail = {**target.handle, **({"level": lower.name} if lower else {})}
    if not target.reachable:
        sentence = f"{action} by hand, and say here what was done"
        return PlannedStep(StepKind.BY_HAND, grant.account, sentence, grant=grant.id, detail=detail)
    kind = StepKind.REDUCE if lower else StepKind.REMOVE
    return PlannedStep(kind, grant.account, action, grant=grant.id, detail=detail)


def _lock_step(register: Register, login: Login) -> PlannedStep:
    whose = f"{register.name_of(login.holder)}'s login {login.name} in {login.system}"
    kind, does = (StepKind.DROP, f"Drop {whose} for good") if login.drop else (StepKind.LOCK, f"Lock {whose}")
    return PlannedStep(kind, login.account, does, detail={"login": login.name})


def _session_step(register: Register, session: LiveSession) -> PlannedStep:
    sentence = f"End a session of {register.name_of(session.holder)} in {_name(register, session.account)}"
    if not session.reachable:
        return PlannedStep(
            StepKind.BY_HAND,
            session.account,
            f"{sentence} by hand, and say here what was done",
            session=session.id,
            detail=session.handle,
        )
    return PlannedStep(StepKind.END_SESSIONS, session.account, sentence, session=session.id, detail=session.handle)


# Carrying out.


@dataclass(frozen=True, slots=True)
class Progress:
    """Where a step is: its state, how often it was tried, what was last answered, when to try again."""

    state: StepState
    tries: int = 0
    answer: str = ""
    next_try: datetime | None = None


def wait_after(tries: int) -> timedelta:
    """How long to wait after that many tries: doubling, up to a quarter of an hour."""
    doublings = min(max(tries - 1, 0), 20)
    return min(FIRST_WAIT * (1 << doublings), LONGEST_WAIT)


def is_due(next_try: datetime | None, now: datetime) -> bool:
    """Whether a wait is over.

    One that is longer than any that is ever set was set by a clock that has been put back since: it is over, too.
    """
    return next_try is None or not now < next_try <= now + LONGEST_WAIT


def succeeded(progress: Progress, answer: str) -> Progress:
    """The step after the system did it, or showed that it was done already."""
    return Progress(StepState.DONE, progress.tries, answer, None)


def failed(progress: Progress, answer: str, now: datetime) -> Progress:
    """The step after a try that did not go through: it waits, longer each time, and is never given up."""
    return Progress(StepState.WAITING, progress.tries, answer, now + wait_after(progress.tries))


def contradicted(progress: Progress, answer: str, now: datetime) -> Progress:
    """A step that was done, after a read showed that the system did not keep to it: open again."""
    return Progress(StepState.WAITING, progress.tries, f"Contradicted by a read: {answer}", now + wait_after(1))


def next_due(steps: Sequence[tuple[StepKind, UUID | None, Progress]], now: datetime) -> int | None:
    """The index of the step to carry out now, or None when all are done or the next ones have to wait.

    Each step comes with its system. Steps of one system run in order, so one that waits holds up those behind
    it there; other systems go on. A step that waits for hands holds up nothing.
    """
    held_up: set[UUID | None] = set()
    for index, (_, system, progress) in enumerate(steps):
        if progress.state in (*OVER, StepState.BY_HAND) or system in held_up:
            continue
        if progress.state is StepState.WAITING and not is_due(progress.next_try, now):
            held_up.add(system)
            continue
        return index
    return None


def is_finished(progress: Iterable[Progress]) -> bool:
    """Whether every step is done, or skipped by somebody who said why."""
    return all(p.state in OVER for p in progress)
