"""The steps of a revocation, in the order in which they have to happen. The one place that works them out.

A revocation has targets: grants to end or to trim, sessions to end, access rules to take away.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from openlatch.core.register import Grant, Holder, Level, Register, Term
from openlatch.core.vocabulary import HolderKind, StepKind
from openlatch.json_values import JsonObject


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
    detail: JsonObject
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
    handle: JsonObject
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
class LockedLogin:
    """A login that was locked, with the name of whose it is; ``detail`` is what the system was told."""

    name: str
    holder: str
    account: UUID
    system: str
    detail: JsonObject


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
    handle: JsonObject


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
class PlannedStep:
    """A step before it is stored."""

    kind: StepKind
    account: UUID
    sentence: str
    grant: UUID | None = None
    session: UUID | None = None
    detail: JsonObject | None = None


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
        PlannedStep(
            StepKind.READ_AGAIN, account, f"Read {account_name(register, account)} again and see that it is gone"
        )
        for account in dict.fromkeys(changed)
    ]
    return tuple(steps)


def taking_rules_away(register: Register, rules: Iterable[OpenRule]) -> Iterator[PlannedStep]:
    """The steps that remove access rules: by their systems, or by hand."""
    for rule in rules:
        sentence = f"Take the rule “{rule.key}” away in {account_name(register, rule.account)}: {rule.words}"
        detail = {"rule": str(rule.id)}
        if not rule.moves:
            yield PlannedStep(
                StepKind.BY_HAND, rule.account, f"{sentence} Do it by hand, and say here what was done", detail=detail
            )
        for move in rule.moves:
            said = f"{sentence} ({move.does})" if move.does else sentence
            yield PlannedStep(move.kind, rule.account, said, detail={**move.detail, **detail})


def reading_again(register: Register, rules: Iterable[OpenRule]) -> Iterator[PlannedStep]:
    """The steps that read accounts again, to see that what rules opened is closed."""
    for account in dict.fromkeys(rule.account for rule in rules if rule.moves):
        sentence = f"Read {account_name(register, account)} again and see that it is closed"
        yield PlannedStep(StepKind.READ_AGAIN, account, sentence)


def _changes_the_system(target: Target) -> bool:
    """A shorter time alone is kept by the register, which ends the grant when the time comes."""
    return target.trim is None or target.trim.level is not None or bool(target.trim.terms)


def account_name(register: Register, account: UUID) -> str:
    """The name of an account, for sentences."""
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
    who = f"{register.name_of(grant.holder)} in {account_name(register, grant.account)}"
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
    place = account_name(register, grant.account)
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
    whose = _login_in_words(register.name_of(login.holder), login.name, login.system)
    kind, does = (StepKind.DROP, f"Drop {whose} for good") if login.drop else (StepKind.LOCK, f"Lock {whose}")
    return PlannedStep(kind, login.account, does, detail={"login": login.name})


def _login_in_words(holder: str, login: str, system: str) -> str:
    return f"{holder}'s login {login} in {system}"


def unlocking(locked: Sequence[LockedLogin]) -> tuple[PlannedStep, ...]:
    """The steps that unlock logins again, and the readings that show it."""
    steps = [
        PlannedStep(
            StepKind.UNLOCK,
            login.account,
            f"Unlock {_login_in_words(login.holder, login.name, login.system)}",
            detail=login.detail,
        )
        for login in locked
    ]
    one_each = {login.account: login.system for login in locked}
    steps += [
        PlannedStep(StepKind.READ_AGAIN, account, f"Read {system} again and see that the login is unlocked", detail={})
        for account, system in one_each.items()
    ]
    return tuple(steps)


def _session_step(register: Register, session: LiveSession) -> PlannedStep:
    sentence = f"End a session of {register.name_of(session.holder)} in {account_name(register, session.account)}"
    if not session.reachable:
        return PlannedStep(
            StepKind.BY_HAND,
            session.account,
            f"{sentence} by hand, and say here what was done",
            session=session.id,
            detail=session.handle,
        )
    return PlannedStep(StepKind.END_SESSIONS, session.account, sentence, session=session.id, detail=session.handle)
