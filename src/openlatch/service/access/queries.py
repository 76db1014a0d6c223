"""Who can do what: now, at any instant, between two instants, and after supposed changes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlalchemy import ColumnElement, select

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.access import what_if as access_what_if
from openlatch.core.access.what_if import Shift
from openlatch.core.checks import require_count
from openlatch.core.ids import new_id
from openlatch.core.register import Holder, Permission, Register, Term
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import GrantState, HolderKind, Proof, Standing
from openlatch.errors import BadInput, NotFound
from openlatch.service.access.path_rows import grants_on, path_row
from openlatch.service.grants import lifecycle
from openlatch.service.latches import guard
from openlatch.service.lists.register import row
from openlatch.service.permissions import Sight
from openlatch.service.revocations import confirm
from openlatch.service.unit import Unit
from openlatch.store.access import as_of, mapping, subgraph
from openlatch.store.access.as_of import Moment
from openlatch.store.sql_types import AnyRow, AnyTable
from openlatch.store.tables import Account, App, Grant, Level, Person, Team

MOST_CHANGES = 100


@dataclass(frozen=True, slots=True)
class Question:
    """At which instant, as known at which other; optionally about one permission, on one resource."""

    at: datetime | None = None
    believed: datetime | None = None
    permission: str = ""
    resource: UUID | None = None
    shortest: bool = False
    limit: int | None = None


def _moment(unit: Unit, question: Question) -> Moment | None:
    """The instant asked about; None for now. BadInput for knowledge that lies in the future."""
    if question.believed is not None and question.believed > unit.now:
        raise BadInput(
            "Nobody knows yet what will be believed.",
            "Leave believed out, or choose an instant before now.",
            {"believed": "lies ahead"},
        )
    if question.at is None and question.believed is None:
        return None
    return Moment(question.at or unit.now, question.believed or unit.now)


def _around_accounts(unit: Unit, accounts: Sequence[UUID], moment: Moment | None) -> Register:
    if moment is None:
        return subgraph.around_accounts(unit.db, accounts)
    return as_of.around_accounts(unit.db, unit.service.archive, accounts, moment)


def _around_holder(unit: Unit, holder: Holder, moment: Moment | None) -> Register:
    if moment is None:
        return subgraph.around_holder(unit.db, holder)
    return as_of.around_holder(unit.db, unit.service.archive, holder, moment)


def _fits(register: Register, path: access_paths.Path, question: Question, at: datetime) -> bool:
    """Whether a path gives the permission asked about, on the resource asked about, at that instant."""
    if path.level is not None and question.permission not in {"", *(p.key for p in path.permissions)}:
        return False
    if question.resource is not None and path.part is not None and question.resource not in path.part.resources:
        return False
    # On the whole account: paths to a part do not count.
    if question.permission and question.resource is None and path.part is not None:
        return False
    return not question.permission or access_paths.open_now(register, path, at)


def _shown(
    unit: Unit, register: Register, paths: Iterable[access_paths.Path], question: Question, ended: Iterable[str] = ()
) -> schemas.Paths:
    at = question.at or unit.now
    found = [path for path in paths if _fits(register, path, question, at)]
    can = any(not _has_left(register, path.holder, at) for path in found)
    if question.shortest:
        first: dict[Holder, access_paths.Path] = {}
        for path in found:
            first.setdefault(path.holder, path)
        found = list(first.values())
    shown = found[: question.limit]
    grants = grants_on(unit, (grant for path in shown for grant in path.grants))
    rows = [path_row(unit, register, path, grants, at) for path in shown]
    return schemas.Paths(can=can, paths=rows, count=len(found), ended=list(ended))


def _has_left(register: Register, holder: Holder, at: datetime) -> bool:
    person = register.people.get(holder.id) if holder.kind is HolderKind.PERSON else None
    return person is not None and person.is_gone(at)


def _unproved(unit: Unit, *which: ColumnElement[bool]) -> list[str]:
    """Access that ended in the register without proof: the system may still allow it."""
    rows = unit.db.execute(
        select(Grant, Account.name)
        .join(Account, Account.id == Grant.account_id)
        .where(Grant.state == GrantState.ENDED, Grant.proof == Proof.UNPROVED, *which)
        .order_by(Account.name, Grant.ended_at.desc())
    )
    return [
        f"{lifecycle.holder_name(unit, grant)} on {account}: ended here, {confirm.said(unit, grant)}; "
        f"the system may still let them in."
        for grant, account in rows
    ]


def who_can(unit: Unit, person: UUID, account: UUID, question: Question) -> schemas.Paths:
    """By which paths a person could act in an account; empty when they could not."""
    row(unit, "accounts", account)
    if not (unit.sight.everything or account in unit.sight.owned or person == unit.sight.person):
        raise NotFound("There is no such person, or you may not see them.")
    moment, holder = _moment(unit, question), Holder(HolderKind.PERSON, person)
    at = question.at or unit.now
    register = _around_holder(unit, holder, moment) if moment else subgraph.between(unit.db, holder, account)
    # People who left are shown with what systems still give them.
    held = register.as_held() if _has_left(register, holder, at) else register
    ended = [] if moment else _unproved(unit, Grant.account_id == account, Grant.holder_id == person)
    return _shown(unit, register, access_paths.paths_to(held, holder, account, at), question, ended)


def everyone(unit: Unit, account: UUID, question: Question) -> schemas.Paths:
    """Everyone who could act in an account, by every path. For whoever answers for the account."""
    unit.sight.require_answers_for(account)
    row(unit, "accounts", account)
    moment, at = _moment(unit, question), question.at or unit.now
    register = _around_accounts(unit, [account], moment)
    paths = access_paths.everyone_reaching(register, account, at)
    gone = [Holder(HolderKind.PERSON, person.id) for person in register.people.values() if person.is_gone(at)]
    if gone:
        left = access_paths.paths_into(register.as_held(), gone, account, at).values()
        paths = sorted([*paths, *(path for own in left for path in own)], key=access_paths.order_of)
    ended = [] if moment else _unproved(unit, Grant.account_id == account)
    return _shown(unit, register, paths, question, ended)


def everything(unit: Unit, person: UUID, question: Question) -> schemas.Paths:
    """Everything that a person could act in, among the accounts that the viewer may see."""
    row(unit, "people", person)
    holder, at = Holder(HolderKind.PERSON, person), question.at or unit.now
    moment = _moment(unit, question)
    register = _around_holder(unit, holder, moment)
    held = register.as_held() if _has_left(register, holder, at) else register
    paths = access_paths.everything_reached(held, holder, at)
    theirs = [Grant.holder_id == person]
    if not unit.sight.everything and person != unit.sight.person:
        paths = [path for path in paths if path.account in unit.sight.owned]
        theirs.append(Grant.account_id.in_(unit.sight.owned))
    return _shown(unit, register, paths, question, [] if moment else _unproved(unit, *theirs))


def matrix(unit: Unit, account: UUID, question: Question) -> schemas.Matrix:
    """Everyone who could act in an account against everything that could be done there."""
    unit.sight.require_answers_for(account)
    row(unit, "accounts", account)
    register = _around_accounts(unit, [account], _moment(unit, question))
    columns, rows = access_what_if.matrix(register, account, question.at or unit.now)
    return schemas.Matrix(
        permissions=[_permission(permission) for permission in columns],
        rows=[
            schemas.MatrixRow(
                holder=_holder(register, row.holder),
                owner=row.owner,
                whole=sorted(row.whole),
                partly=sorted(row.partly),
            )
            for row in rows
        ],
    )


def differ(
    unit: Unit, account: UUID, one_at: datetime, other_at: datetime, believed: datetime | None
) -> schemas.Difference:
    """Whose rights in an account differ between two instants."""
    unit.sight.require_answers_for(account)
    row(unit, "accounts", account)
    registers = [
        as_of.around_accounts(unit.db, unit.service.archive, [account], moment)
        for at in (one_at, other_at)
        if (moment := _moment(unit, Question(at, believed))) is not None
    ]
    found = access_what_if.shifts(
        [account],
        lambda ident: access_paths.by_holder(registers[0], ident, one_at),
        lambda ident: access_paths.by_holder(registers[1], ident, other_at),
    )
    return schemas.Difference(shifts=[_shift(registers[1], registers[0], shift) for shift in found])


# What if.


@dataclass(frozen=True, slots=True)
class Wish:
    """One supposed change. Which fields each kind needs is checked where they are read."""

    kind: str
    grant: UUID | None = None
    account: UUID | None = None
    holder: Holder | None = None
    level: UUID | None = None
    until: datetime | None = None
    team: UUID | None = None
    person: UUID | None = None
    latch: guard.Setting | None = None


def what_if(unit: Unit, wishes: Sequence[Wish]) -> schemas.Supposed:
    """What changes would do to who can do what, and which latches they would break. Nothing is changed.

    For administrators, and for owners if only their own accounts are touched. BadInput for an incomplete change;
    NotFound for what does not exist.
    """
    require_count(len(wishes), MOST_CHANGES, "changes", "changes")
    touched, extra = _touched(unit, wishes)
    reached = sorted({*guard.touched(unit, touched), *subgraph.onward(unit.db, extra)})
    if not unit.sight.everything:
        for account in reached:
            unit.sight.require_answers_for(account)
    before = subgraph.around_accounts(unit.db, reached, holders=extra)
    levels = {
        level.id: mapping.level_value(level)
        for level in unit.db.scalars(
            select(Level).where(Level.id.in_([w.level for w in wishes if w.level is not None]))
        )
    }
    changes = [_change(unit, before, wish, levels) for wish in wishes if wish.kind != "latch"]
    after = access_what_if.suppose(before, changes)
    found = access_what_if.shifts_of(reached, before, after, unit.now)
    breaches = guard.supposed(unit, before, after, reached, [w.latch for w in wishes if w.latch is not None])
    return schemas.Supposed(
        shifts=[_shift(after, before, shift) for shift in found],
        last_path_lost=sum(shift.last_path_lost for shift in found),
        breaches=[guard.shown(breach) for breach in breaches],
    )


def _touched(unit: Unit, wishes: Sequence[Wish]) -> tuple[set[UUID], list[Holder]]:
    """The accounts that changes concern, and the holders whose paths they touch."""
    accounts: set[UUID] = {w.account for w in wishes if w.account is not None}
    accounts |= {w.latch.account for w in wishes if w.latch is not None and w.latch.account is not None}
    named = [wish.grant for wish in wishes if wish.grant is not None]
    if named:
        found = select(Grant.id, Grant.account_id).where(Grant.id.in_(named), unit.sight.grants())
        known = dict(unit.db.execute(found).all())
        if len(known) < len(set(named)):
            raise NotFound("There is no such grant, or you may not see it.")
        accounts |= set(known.values())
    extra = [Holder(HolderKind.TEAM, w.team) for w in wishes if w.team is not None]
    extra += [Holder(HolderKind.PERSON, w.person) for w in wishes if w.person is not None]
    extra += [w.holder for w in wishes if w.holder is not None]
    for kind in HolderKind:
        ids = {holder.id for holder in extra if holder.kind is kind} | (
            accounts if kind is HolderKind.ACCOUNT else set()
        )
        table, seen = _TABLES[kind]
        if ids and len(unit.db.scalars(select(table.id).where(table.id.in_(ids), seen(unit.sight))).all()) < len(ids):
            raise NotFound(f"There is no such {kind}, or you may not see it.")
    return accounts, list(dict.fromkeys(extra))


_TABLES: dict[HolderKind, tuple[AnyTable, Callable[[Sight], ColumnElement[bool]]]] = {
    HolderKind.PERSON: (Person, Sight.people),
    HolderKind.TEAM: (Team, Sight.teams),
    HolderKind.APP: (App, Sight.apps),
    HolderKind.ACCOUNT: (Account, Sight.accounts),
}


def _change(unit: Unit, before: Register, wish: Wish, levels: dict[UUID, AnyRow]) -> access_what_if.Change:
    grants = {grant.id for grant in before.grants}
    match wish.kind:
        case "give" if wish.account and wish.holder and wish.level in levels:
            _known(before, wish.holder)
            term = Term(levels[wish.level], Window(None, wish.until))
            return access_what_if.Give(new_id(), wish.account, wish.holder, (term,))
        case "end" | "suspend" | "resume" if wish.grant in grants:
            states = {"end": GrantState.ENDED, "suspend": GrantState.SUSPENDED, "resume": GrantState.ACTIVE}
            return access_what_if.SetState(wish.grant, states[wish.kind])
        case "level" if wish.grant in grants and wish.level in levels:
            return access_what_if.SetLevel(wish.grant, levels[wish.level])
        case "join" if wish.team and wish.holder:
            _known(before, wish.holder)
            return access_what_if.Join(new_id(), wish.team, wish.holder)
        case "leave" if wish.team and wish.holder:
            return access_what_if.Leave(wish.team, wish.holder)
        case "left" | "back" if wish.person in before.people:
            standing = Standing.LEFT if wish.kind == "left" else Standing.CURRENT
            return access_what_if.SetStanding(wish.person, standing, unit.now)
        case "owner" if wish.account and (wish.person is None or wish.person in before.people):
            return access_what_if.SetOwner(wish.account, wish.person)
    needs = "; ".join(f"{kind}: {what}" for kind, what in NEEDS.items())
    raise BadInput(
        f"A change of the kind {wish.kind!r} lacks something, or names what is not there.",
        f"What each kind needs: {needs}.",
        {"changes": wish.kind},
    )


NEEDS = {
    "give": "account, holder, level",
    "end": "grant",
    "suspend": "grant",
    "resume": "grant",
    "level": "grant, level",
    "join": "team, holder",
    "leave": "team, holder",
    "left": "person",
    "back": "person",
    "owner": "account, person",
    "latch": "latch",
}


def _known(register: Register, holder: Holder) -> None:
    kinds: dict[HolderKind, AnyTable] = {
        HolderKind.PERSON: register.people,
        HolderKind.TEAM: register.teams,
        HolderKind.APP: register.apps,
        HolderKind.ACCOUNT: register.accounts,
    }
    if holder.id not in kinds[holder.kind]:
        raise NotFound(f"There is no such {holder.kind}.")


# As answers show them.


def _holder(register: Register, holder: Holder) -> schemas.Holder:
    person = register.people.get(holder.id)
    return schemas.Holder(
        kind=holder.kind,
        id=holder.id,
        name=register.name_of(holder),
        inside=person.inside if person else True,
    )


def _permission(permission: Permission) -> schemas.PermissionOf:
    return schemas.PermissionOf(key=permission.key, sentence=permission.sentence, reach=int(permission.reach))


def _ordered(permissions: Iterable[Permission]) -> list[Permission]:
    return sorted(permissions, key=lambda p: (-p.reach, p.sentence))


def _shift(register: Register, other: Register, shift: Shift) -> schemas.AccessShift:
    known = register if register.name_of(shift.holder) != "somebody unknown" else other
    account = register.accounts.get(shift.account) or other.accounts.get(shift.account)
    return schemas.AccessShift(
        holder=_holder(known, shift.holder),
        account=schemas.Named(id=shift.account, name=account.name if account else ""),
        gained=[_permission(p) for p in _ordered(shift.gained)],
        lost=[_permission(p) for p in _ordered(shift.lost)],
        owned_before=shift.owned_before,
        owns_now=shift.owns_now,
        last_path_lost=shift.last_path_lost,
        first_path_gained=shift.first_path_gained,
        paths_before=[path.words for path in shift.paths_before],
        paths_after=[path.words for path in shift.paths_after],
    )
