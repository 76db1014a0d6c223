"""Teams as a directory gives them."""

from __future__ import annotations

from collections.abc import Container, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlalchemy import ColumnElement, Row, Select, func, select
from sqlalchemy.orm import aliased

from openlatch import schemas
from openlatch.core.checks import require_count
from openlatch.errors import BadInput, NotFound, Outdated
from openlatch.service import locks
from openlatch.service.records import edit
from openlatch.service.unit import Unit
from openlatch.store.tables import Membership, Person, ScimRecord, Team

MOST_AT_ONCE = 1_000


@dataclass(frozen=True, slots=True)
class Group:
    """A team as a directory gives it, with its members: people and teams."""

    name: str
    external_id: str | None = None
    members: Sequence[UUID] = ()


@dataclass(frozen=True, slots=True)
class Member:
    """One of a group: a person, or a team."""

    id: UUID
    name: str
    is_team: bool


@dataclass(frozen=True, slots=True)
class Held:
    """A team as we have it."""

    id: UUID
    name: str
    external_id: str | None
    members: Sequence[Member]
    version: int
    created_at: datetime
    changed_at: datetime


def teams() -> Select[Team, ScimRecord]:
    """All teams that directories see, by id."""
    joined = select(Team, ScimRecord).outerjoin(ScimRecord, ScimRecord.team_id == Team.id)
    return joined.where(Team.archived_at.is_(None), ScimRecord.removed_at.is_(None)).order_by(Team.id)


def listed(unit: Unit, where: Sequence[ColumnElement[bool]], offset: int, limit: int) -> tuple[int, list[Held]]:
    """How many fit, and those of a page."""
    wanted = teams().where(*where)
    count = unit.db.scalar(select(func.count()).select_from(wanted.order_by(None).subquery())) or 0
    return count, _held(unit, unit.db.execute(wanted.offset(offset).limit(limit)).all())


def one(unit: Unit, ident: UUID) -> Held:
    """A team by its id. NotFound when there is none."""
    found = unit.db.execute(teams().where(Team.id == ident)).all()
    if not found:
        raise NotFound(f"There is no group {ident}.")
    return _held(unit, found)[0]


def _held(unit: Unit, rows: Sequence[Row[Team, ScimRecord]]) -> list[Held]:
    """These teams as a directory is told of them, with one question for the members of all."""
    inner = aliased(Team)
    wanted = (
        select(Membership.team_id, Membership.member_id, Membership.person_id, func.coalesce(Person.name, inner.name))
        .outerjoin(Person, Person.id == Membership.person_id)
        .outerjoin(inner, inner.id == Membership.member_team_id)
        .where(Membership.team_id.in_([team.id for team, _ in rows]))
        .order_by(Membership.id)
    )
    members: dict[UUID, list[Member]] = {}
    for team, member, person, name in unit.db.execute(wanted):
        members.setdefault(team, []).append(Member(member, name, person is None))
    return [
        Held(
            id=team.id,
            name=team.name,
            external_id=row.external_id if row is not None else None,
            members=members.get(team.id, []),
            version=team.version,
            created_at=team.created_at,
            changed_at=max(team.recorded_at, row.changed_at) if row is not None else team.recorded_at,
        )
        for team, row in rows
    ]


def create(unit: Unit, group: Group) -> Held:
    """Make a team. BadInput for a name that another has."""
    locks.access(unit)
    made = edit.make(unit, "teams", schemas.TeamForm(name=group.name).model_dump())
    unit.db.add(ScimRecord(organisation_id=unit.viewer.organisation, team_id=made.id, external_id=group.external_id))
    unit.db.flush()
    _set_members(unit, made.id, group.members)
    return one(unit, made.id)


def replace(unit: Unit, ident: UUID, group: Group, versions: Container[int] | None = None) -> Held:
    """Make a team what a directory says that it is. Outdated for another version."""
    locks.access(unit)
    before = one(unit, ident)
    if versions is not None and before.version not in versions:
        raise Outdated("The group was changed meanwhile.", "Read it again.")
    row = _record(unit, ident)
    row.external_id, row.changed_at = group.external_id, unit.now
    edit.change(unit, "teams", ident, {"name": schemas.TeamForm(name=group.name).name})
    _set_members(unit, ident, group.members)
    team = unit.db.get_one(Team, ident)
    unit.db.refresh(team)
    if team.version == before.version:
        team.version += 1
    unit.db.flush()
    return one(unit, ident)


def _record(unit: Unit, ident: UUID) -> ScimRecord:
    """What a directory has said of a team; a new row when it has said nothing yet."""
    row = unit.db.scalars(select(ScimRecord).where(ScimRecord.team_id == ident).with_for_update()).one_or_none()
    if row is None:
        row = ScimRecord(organisation_id=unit.viewer.organisation, team_id=ident)
        unit.db.add(row)
    return row


def delete(unit: Unit, ident: UUID) -> None:
    """A team whom a directory has deleted: its members leave it, and the directory sees it no more.

    The team stays, with what it holds.
    """
    locks.access(unit)
    held = one(unit, ident)
    _set_members(unit, ident, ())
    row = _record(unit, ident)
    row.removed_at, row.changed_at = unit.now, unit.now
    unit.db.flush()
    unit.record("team.deprovisioned", "team", ident, held.name)


def _set_members(unit: Unit, team: UUID, wanted: Sequence[UUID]) -> None:
    held = {one.member_id: one.id for one in unit.db.scalars(select(Membership).where(Membership.team_id == team))}
    # Each passes the latches and is journalled by itself.
    require_count(len(set(wanted) ^ set(held)), MOST_AT_ONCE, "changes of members", "members", least=0)
    for member, membership in held.items():
        if member not in wanted:
            edit.remove(unit, "memberships", membership)
    for member in dict.fromkeys(wanted):
        if member in held:
            continue
        is_team = unit.db.get(Team, member) is not None
        if not is_team and unit.db.get(Person, member) is None:
            raise BadInput(f"There is no user or group {member}.", "Add those who are there.", {"members": "unknown"})
        given = {"team": team, "person": None if is_team else member, "member_team": member if is_team else None}
        edit.make(unit, "memberships", schemas.MembershipForm.model_validate(given).model_dump())
