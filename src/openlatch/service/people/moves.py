"""Somebody moves to another job or other teams: what they keep, lose and get, and what they might need."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import func, or_, select

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.access.paths import HopKind
from openlatch.core.register import Holder
from openlatch.core.vocabulary import GrantState, HolderKind, Standing
from openlatch.errors import BadInput, NotFound
from openlatch.service.access import queries
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.tables import Account, Grant, Item, Level, Membership, Person, Round, Team, Term

# People in the same job needed for a pattern.
FEWEST_PEERS = 2


def plan(
    unit: Unit, ident: UUID, job: str | None, joins: Sequence[UUID] = (), leaves: Sequence[UUID] = ()
) -> schemas.MovePlan:
    """What a move would do; without a job and teams, how things are after a past one. Nothing changes.

    Nothing is given by it: what people in the same job hold is only shown.
    """
    unit.sight.require_administrator()
    person = unit.db.get(Person, ident)
    if person is None:
        raise NotFound("There is no such person.")
    holder = Holder(HolderKind.PERSON, ident)
    _refuse_unfit(unit, ident, joins, leaves)
    wishes = [queries.Wish("leave", team=team, holder=holder) for team in leaves]
    wishes += [queries.Wish("join", team=team, holder=holder) for team in joins]
    shifts = queries.what_if(unit, wishes) if wishes else schemas.Supposed(shifts=[], last_path_lost=0, breaches=[])
    mine = [shift for shift in shifts.shifts if shift.holder.id == ident]
    paths = access_paths.everything_reached(subgraph.around_holder(unit.db, holder), holder, unit.now)
    kept = [path for path in paths if not any(hop.to in leaves for hop in path.hops if hop.kind == HopKind.BELONGS)]
    will = (job if job is not None else person.job or "").strip()
    peers = _peers(unit, ident, will)
    held = _held_by(unit, peers)
    names = dict(
        unit.db.execute(select(Account.id, Account.name).where(Account.id.in_({p.account for p in kept}))).all()
    )
    return schemas.MovePlan(
        person=schemas.Named(id=person.id, name=person.name),
        job_before=person.job or "",
        job=will,
        peers=len(peers),
        keeps=[
            schemas.KeptBy(
                account=schemas.Named(id=path.account, name=names[path.account]),
                level="Owner" if path.level is None else path.level.name,
                words=path.words,
                grant_id=path.grants[-1] if path.grants else None,
                held_by=held.get((path.account, path.level.id), 0) if path.level is not None else None,
            )
            for path in kept
        ],
        loses=[_shift(shift, shift.lost) for shift in mine if shift.lost],
        gets=[_shift(shift, shift.gained) for shift in mine if shift.gained],
        might_need=_might_need(unit, kept, peers, held),
        breaches=shifts.breaches,
        rounds=_rounds(unit, ident),
    )


def _refuse_unfit(unit: Unit, person: UUID, joins: Sequence[UUID], leaves: Sequence[UUID]) -> None:
    known = set(unit.db.scalars(select(Team.id).where(Team.id.in_([*joins, *leaves]), Team.archived_at.is_(None))))
    if known != {*joins, *leaves}:
        raise BadInput("There is no such team.", "Choose another.", {"joins": "unknown"})
    current = or_(Membership.until.is_(None), Membership.until > unit.now)
    member = set(unit.db.scalars(select(Membership.team_id).where(Membership.person_id == person, current)))
    if not set(leaves) <= member:
        raise BadInput("They are not in that team.", "Choose one that they are in.", {"leaves": "are not in it"})
    if set(joins) & member:
        raise BadInput("They are in that team already.", "Choose another.", {"joins": "are in it"})


def _shift(shift: schemas.AccessShift, rights: Sequence[schemas.PermissionOf]) -> schemas.MovedRights:
    return schemas.MovedRights(account=shift.account, rights=[right.sentence for right in rights])


def _peers(unit: Unit, person: UUID, job: str) -> list[UUID]:
    if not job:
        return []
    same = select(Person.id).where(
        func.lower(Person.job) == job.lower(),
        Person.standing == Standing.CURRENT,
        Person.id != person,
        Person.merged_into_id.is_(None),
    )
    return list(unit.db.scalars(same.limit(500)))


def _held_by(unit: Unit, peers: Sequence[UUID]) -> dict[tuple[UUID, UUID], int]:
    """How many of these people hold a level on an account themselves."""
    going_on = or_(Term.until.is_(None), Term.until > unit.now)
    rows = unit.db.execute(
        select(Grant.account_id, Term.level_id, func.count(func.distinct(Grant.person_id)))
        .join(Term, Term.grant_id == Grant.id)
        .where(Grant.person_id.in_(peers), Grant.state == GrantState.ACTIVE, going_on)
        .group_by(Grant.account_id, Term.level_id)
    )
    return {(account, level): count for account, level, count in rows}


def _might_need(
    unit: Unit, kept: Sequence[access_paths.Path], peers: Sequence[UUID], held: dict[tuple[UUID, UUID], int]
) -> list[schemas.MightNeed]:
    """What at least half of the people in the same job hold, and this person would not."""
    if len(peers) < FEWEST_PEERS:
        return []
    has = {(path.account, path.level.id) for path in kept if path.level is not None}
    owns = {path.account for path in kept if path.level is None}
    lacking = {key: n for key, n in held.items() if 2 * n >= len(peers) and key not in has and key[0] not in owns}
    accounts = dict(
        unit.db.execute(select(Account.id, Account.name).where(Account.id.in_({a for a, _ in lacking}))).all()
    )
    levels = {
        row.id: row for row in unit.db.scalars(select(Level).where(Level.id.in_({level for _, level in lacking})))
    }
    found = [
        schemas.MightNeed(
            account=schemas.Named(id=account, name=accounts[account]),
            level=schemas.Named(id=level, name=levels[level].name),
            sentence=levels[level].sentence,
            held_by=count,
        )
        for (account, level), count in lacking.items()
    ]
    return sorted(found, key=lambda one: (-one.held_by, one.account.name, one.level.name))


def _rounds(unit: Unit, person: UUID) -> list[schemas.Named]:
    """The reviews that are open on this person's access."""
    held = select(Grant.id).where(Grant.person_id == person)
    rows = unit.db.execute(
        select(Round.id, Round.name)
        .join(Item, Item.round_id == Round.id)
        .where(Item.grant_id.in_(held), Round.closed_at.is_(None))
        .distinct()
        .order_by(Round.name)
    )
    return [schemas.Named(id=ident, name=name) for ident, name in rows]
