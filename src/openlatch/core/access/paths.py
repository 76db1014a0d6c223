"""Who can do what, when, and by which path. The only place that computes it.

A person's rights in an account at an instant are the union over all paths: ownership, grants of their own, grants of
teams (also nested ones), and grants of accounts (whoever acts in A acts in B when A holds a grant on B). A path's
window is the intersection of its hops' windows. Suspended grants, terms outside their window and people who have left
give nothing. A path passes each holder once, so cycles end. Whoever reaches only a part of an account acts in that
part, and does not act as the account elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple
from uuid import UUID

from openlatch.core.register import Account, Grant, Holder, Level, Membership, Part, Permission, Register, Term
from openlatch.core.time_windows import ALWAYS, WeeklyHours, Window, open_at
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing


class HopKind(StrEnum):
    """What one step of a path is."""

    OWNS = "owns"
    BELONGS = "belongs"
    HOLDS = "holds"


# Tuples, and not data classes: there are as many as there are paths, and a tuple is made in a third of the time.
class Hop(NamedTuple):
    """One step of a path: who, how, to what."""

    kind: HopKind
    holder: Holder
    to: UUID
    window: Window
    words: str
    grant: UUID | None = None


class Path(NamedTuple):
    """One way from a holder to an account, with what it gives at its end."""

    holder: Holder
    account: UUID
    hops: tuple[Hop, ...]
    level: Level | None
    window: Window
    hours: tuple[WeeklyHours, ...] = ()
    revoking: bool = False
    part: Part | None = None

    @property
    def reach(self) -> Reach:
        """How far it goes. An owner decides who else gets in."""
        return Reach.STEWARD if self.level is None else self.level.reach

    @property
    def permissions(self) -> frozenset[Permission]:
        """What it lets one do. Ownership is not a set of permissions and gives an empty one."""
        return frozenset() if self.level is None else self.level.permissions

    @property
    def grants(self) -> tuple[UUID, ...]:
        """The grants that it runs over, in order."""
        return tuple(hop.grant for hop in self.hops if hop.grant is not None)

    @property
    def words(self) -> str:
        """The path as a sentence."""
        return ", ".join(hop.words for hop in self.hops)


class _Trail(NamedTuple):
    """The part of a path from a holder up to some account or team, while it is being followed."""

    hops: tuple[Hop, ...] = ()
    window: Window = ALWAYS
    hours: tuple[WeeklyHours, ...] = ()
    revoking: bool = False


def everything_reached(register: Register, holder: Holder, at: datetime) -> list[Path]:
    """Every path from one holder to any account at an instant, shortest first."""
    person = register.people.get(holder.id) if holder.kind is HolderKind.PERSON else None
    if person is not None and person.is_gone(at):
        return []
    found = list(_onward(register, holder, holder, at, _Trail(), frozenset({holder})))
    return sorted(found, key=order_of)


def order_of(path: Path) -> tuple[int, int, str]:
    """Shortest first, then farthest reaching, then by words."""
    # What comes before every letter keeps hops apart.
    return len(path.hops), -path.reach, "\0".join([hop.words for hop in path.hops])


def paths_to(register: Register, holder: Holder, account: UUID, at: datetime) -> list[Path]:
    """Every path from one holder to one account at an instant, shortest first; empty when there is none."""
    return paths_into(register, [holder], account, at)[holder]


def paths_into(register: Register, holders: Iterable[Holder], account: UUID, at: datetime) -> dict[Holder, list[Path]]:
    """Every path from each of these holders to one account at an instant, shortest first."""
    towards = _leading_to(register, account)
    found: dict[Holder, list[Path]] = {}
    for holder in holders:
        gone = holder.kind is HolderKind.PERSON and _is_gone(register, holder.id, at)
        way = () if gone else _onward(register, holder, holder, at, _Trail(), frozenset({holder}), towards)
        paths = (path for path in way if path.account == account)
        found[holder] = sorted(paths, key=order_of)
    return found


def _leading_to(register: Register, account: UUID) -> frozenset[UUID]:
    """The account, and the accounts and teams through which it can be reached. Paths to it pass no others."""
    found = {account}
    waiting = [Holder(HolderKind.ACCOUNT, account)]
    while waiting:
        here = waiting.pop()
        if here.kind is HolderKind.ACCOUNT:
            further = [grant.holder for grant in register.by_account.get(here.id, ())]
        else:
            further = [membership.member for membership in register.members_of.get(here.id, ())]
        for holder in further:
            if holder.kind in (HolderKind.ACCOUNT, HolderKind.TEAM) and holder.id not in found:
                found.add(holder.id)
                waiting.append(holder)
    return frozenset(found)


def everyone_reaching(register: Register, account: UUID, at: datetime) -> list[Path]:
    """Every path by which a person or an app can act in an account at an instant, shortest first."""
    found: list[Path] = []
    order: list[tuple[int, int, str]] = []
    _inward(_Looking(register, account, at, found, order), account, None, _Trail(), frozenset())
    # By its words the name of its holder comes first.
    return [found[place] for place in sorted(range(len(found)), key=order.__getitem__)]


def by_holder(register: Register, account: UUID, at: datetime) -> dict[Holder, list[Path]]:
    """Every path into an account at an instant, by the person or app that it starts from."""
    found: dict[Holder, list[Path]] = {}
    for path in everyone_reaching(register, account, at):
        found.setdefault(path.holder, []).append(path)
    return found


def behind(register: Register, holder: Holder, at: datetime) -> frozenset[Holder]:
    """The people and apps that a holder stands for at an instant: where the paths through it start.

    The same as following every path, without building the paths; for when only the holders are needed.
    """
    found: set[Holder] = set()
    seen: set[Holder] = set()
    waiting = [holder]
    while waiting:
        here = waiting.pop()
        if here in seen:
            continue
        seen.add(here)
        if here.kind is HolderKind.TEAM:
            waiting += [m.member for m in register.members_of.get(here.id, ()) if m.window.contains(at)]
        elif here.kind is HolderKind.ACCOUNT:
            account = register.accounts.get(here.id)
            if account is not None and account.owner is not None:
                waiting.append(Holder(HolderKind.PERSON, account.owner))
            waiting += [grant.holder for grant in register.by_account.get(here.id, ()) if _gives_whole(grant, at)]
        elif here.kind is HolderKind.APP or not _is_gone(register, here.id, at):
            found.add(here)
    return frozenset(found)


def _gives_whole(grant: Grant, at: datetime) -> bool:
    return grant.gives and any(term.part is None and term.window.contains(at) for term in grant.terms)


def rights_of(paths: Iterable[Path]) -> frozenset[Permission]:
    """The union of the paths' permissions."""
    return frozenset(permission for path in paths for permission in path.permissions)


def can(
    register: Register, holder: Holder, account: UUID, permission: str, resource: UUID | None, at: datetime
) -> bool:
    """Whether a holder can do one thing at an instant, weekly hours counted; on one resource, or on the whole account.

    An owner can do whatever can be done.
    """
    return any(
        (path.level is None or any(p.key == permission for p in path.permissions))
        and (path.part is None or (resource is not None and resource in path.part.resources))
        and open_now(register, path, at)
        for path in paths_to(register, holder, account, at)
    )


def lost(before: Iterable[Path], after: Iterable[Path]) -> frozenset[Permission]:
    """What the first paths give and the second ones don't, on the whole account or on any part."""
    kept = {(permission, _part(path)) for path in after for permission in path.permissions}
    return frozenset(
        permission
        for path in before
        for permission in path.permissions
        if (permission, None) not in kept and (permission, _part(path)) not in kept
    )


def _part(path: Path) -> UUID | None:
    return path.part.id if path.part else None


def open_now(register: Register, path: Path, at: datetime) -> bool:
    """Whether the weekly hours on a path allow the instant, in the account's own time zone."""
    account = register.accounts.get(path.account)
    return account is None or open_at(path.hours, at, account.zone)


# Outward: from a holder to accounts.


def _onward(
    register: Register,
    start: Holder,
    here: Holder,
    at: datetime,
    trail: _Trail,
    seen: frozenset[Holder],
    towards: frozenset[UUID] | None = None,
) -> Iterator[Path]:
    """Paths to any account, or only through those ``towards`` one."""
    if here.kind is HolderKind.PERSON:
        for account in register.owned_by.get(here.id, ()):
            if towards is None or account.id in towards:
                step = _extend(trail, _owning(register, here, account))
                yield from _arrive(register, start, account.id, None, at, step, seen, towards)
    for membership in register.teams_of.get(here, ()):
        if towards is not None and membership.team not in towards:
            continue
        team = Holder(HolderKind.TEAM, membership.team)
        if team not in seen and membership.window.contains(at):
            step = _extend(trail, _belonging(register, membership))
            yield from _onward(register, start, team, at, step, seen | {team}, towards)
    for grant in register.by_holder.get(here, ()):
        if towards is not None and grant.account not in towards:
            continue
        for step, term in _holdings(register, grant, at):
            yield from _arrive(register, start, grant.account, term, at, _join(trail, step), seen, towards)


def _arrive(
    register: Register,
    start: Holder,
    account: UUID,
    term: Term | None,
    at: datetime,
    trail: _Trail,
    seen: frozenset[Holder],
    towards: frozenset[UUID] | None,
) -> Iterator[Path]:
    there = Holder(HolderKind.ACCOUNT, account)
    if there == start:
        return
    # A circle can end where it has been: acting there may give more of it. It does not lead on from there again.
    yield _path(start, account, term, trail)
    if there not in seen and (term is None or term.part is None):
        yield from _onward(register, start, there, at, trail, seen | {there}, towards)


# Inward: from an account to the people and apps behind it.


class _Looking(NamedTuple):
    """The state of a search for every path into an account at an instant: paths found, with their ``order_of``."""

    register: Register
    target: UUID
    at: datetime
    found: list[Path]
    order: list[tuple[int, int, str]]

    def arrive(self, holder: Holder, term: Term | None, trail: _Trail) -> None:
        path = _path(holder, self.target, term, trail)
        self.found.append(path)
        self.order.append(order_of(path))


def _inward(looking: _Looking, account: UUID, term: Term | None, trail: _Trail, seen: frozenset[UUID]) -> None:
    """Paths whose last part, from ``account`` on, is ``trail`` and gives ``term``."""
    register, at = looking.register, looking.at
    direct = not trail.hops
    here = register.accounts.get(account)
    if here is not None and here.owner is not None and not _is_gone(register, here.owner, at):
        owner = Holder(HolderKind.PERSON, here.owner)
        looking.arrive(owner, None if direct else term, _prefix(_owning(register, owner, here), trail))
    for grant in register.by_account.get(account, ()):
        for holding, given in _holdings(register, grant, at):
            if direct or given.part is None:
                step = _join(holding, trail)
                _behind(looking, grant.holder, given if direct else term, step, seen)


def _behind(looking: _Looking, holder: Holder, term: Term | None, trail: _Trail, seen: frozenset[UUID]) -> None:
    register, at = looking.register, looking.at
    if holder.kind is HolderKind.PERSON:
        if not _is_gone(register, holder.id, at):
            looking.arrive(holder, term, trail)
    elif holder.kind is HolderKind.APP:
        looking.arrive(holder, term, trail)
    elif holder.id in seen:
        return
    elif holder.kind is HolderKind.ACCOUNT:
        _inward(looking, holder.id, term, trail, seen | {holder.id})
    else:
        _behind_team(looking, holder, term, trail, seen | {holder.id})


def _behind_team(looking: _Looking, holder: Holder, term: Term | None, trail: _Trail, further: frozenset[UUID]) -> None:
    """Paths through a team. Most paths end here with one of its members, so what they share is computed once."""
    register, target, at, found, order = looking
    hops, window, hours, revoking = trail
    level, part = (None, None) if term is None else (term.level, term.part)
    team, people = register.name_of(holder), register.people
    length, reach = len(hops) + 1, -(Reach.STEWARD if level is None else level.reach)
    rest = "".join(["\0" + hop.words for hop in hops])
    for membership in register.members_of.get(holder.id, ()):
        _, into, member, within = membership
        if within is not ALWAYS and not within.contains(at):
            continue
        person = people.get(member.id) if member.kind is HolderKind.PERSON else None
        if person is None:
            _behind(looking, member, term, _prefix(_belonging(register, membership), trail), further)
        elif person.standing is Standing.CURRENT or not person.is_gone(at):
            words = f"{person.name} belongs to {team}"
            hop = Hop(HopKind.BELONGS, member, into, within, words)
            shared = window if within is ALWAYS else within.meet(window)
            found.append(Path(member, target, (hop, *hops), level, shared, hours, revoking, part))
            order.append((length, reach, words + rest))


# Hops and trails.


def _path(holder: Holder, account: UUID, term: Term | None, trail: _Trail) -> Path:
    hops, window, hours, revoking = trail
    if term is None:
        return Path(holder, account, hops, None, window, hours, revoking)
    return Path(holder, account, hops, term.level, window, hours, revoking, term.part)


def _is_gone(register: Register, person: UUID, at: datetime) -> bool:
    known = register.people.get(person)
    return known is not None and known.is_gone(at)


def _owning(register: Register, holder: Holder, account: Account) -> Hop:
    words = f"{register.name_of(holder)} owns {account.name}"
    return Hop(HopKind.OWNS, holder, account.id, ALWAYS, words)


def _belonging(register: Register, membership: Membership) -> Hop:
    team = register.name_of(Holder(HolderKind.TEAM, membership.team))
    words = f"{register.name_of(membership.member)} belongs to {team}"
    return Hop(HopKind.BELONGS, membership.member, membership.team, membership.window, words)


def _holdings(register: Register, grant: Grant, at: datetime) -> Iterator[tuple[_Trail, Term]]:
    if not grant.gives:
        return
    holder, account = register.name_of(grant.holder), register.accounts.get(grant.account)
    place = account.name if account else "an account"
    revoking = grant.state is GrantState.REVOKING
    for term in grant.terms:
        if term.window.contains(at):
            where = place if term.part is None else f"“{term.part.name}” in {place}"
            words = f"{holder} holds “{term.level.name}” on {where}"
            hop = Hop(HopKind.HOLDS, grant.holder, grant.account, term.window, words, grant.id)
            hours = (term.hours,) if term.hours else ()
            yield _Trail((hop,), term.window, hours, revoking), term


def _extend(trail: _Trail, hop: Hop) -> _Trail:
    return _Trail((*trail.hops, hop), trail.window.meet(hop.window), trail.hours, trail.revoking)


def _prefix(hop: Hop, trail: _Trail) -> _Trail:
    return _Trail((hop, *trail.hops), hop.window.meet(trail.window), trail.hours, trail.revoking)


def _join(first: _Trail, then: _Trail) -> _Trail:
    return _Trail(
        first.hops + then.hops,
        first.window.meet(then.window),
        first.hours + then.hours,
        first.revoking or then.revoking,
    )
