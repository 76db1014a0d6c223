"""Teams and their memberships as records."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.register import Holder
from openlatch.core.time_windows import end_of_last_day, ends_on
from openlatch.core.vocabulary import HolderKind, Reach
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.records.kinds import Kind, Values, found, person_named, refuse_taken, row_named
from openlatch.service.unit import Unit
from openlatch.store.access import mapping, subgraph
from openlatch.store.lists import register
from openlatch.store.tables import Grant, Membership, Person, Team

MOST_GRANTS = 200


class Teams(Kind[Team]):
    """Teams and partner organisations."""

    name, noun, table = "teams", "team", Team
    parts = frozenset({"flags.holder_id", "scim_records.team_id"})

    def values(self, unit: Unit, row: Team) -> JsonObject:
        """A team as form values."""
        return {"name": row.name, "partner": row.partner, "purpose": row.purpose, "speaker": row.speaker_id}

    def write(self, unit: Unit, row: Team, given: Values) -> None:
        """Write a form. BadInput for a name that another team has."""
        refuse_taken(unit, Team, given["name"], row.id, "a team")
        row.name, row.partner, row.purpose = given["name"], given["partner"], given["purpose"]
        row.speaker_id = person_named(unit, given["speaker"], "speaker")

    def lets_in(self, unit: Unit, row: Team | None, before: Values, given: Values) -> Sequence[UUID]:
        """Everything that the team reaches, when it becomes a partner or stops being one."""
        if row is None or before["partner"] == given["partner"]:
            return ()
        return subgraph.onward(unit.db, [Holder(HolderKind.TEAM, row.id)])

    def afterwards(self, unit: Unit, row: Team, before: Values, given: Values) -> None:
        """Update flags on what it holds."""
        evaluate_team(unit, row.id)


class Memberships(Kind[Membership]):
    """Who belongs to which team, and how long."""

    name, noun, table = "memberships", "membership", Membership

    def label(self, row: Membership) -> str:
        """A membership has no name of its own."""
        return "membership"

    def values(self, unit: Unit, row: Membership) -> JsonObject:
        """A membership as form values."""
        return {
            "team": row.team_id,
            "person": row.person_id,
            "member_team": row.member_team_id,
            "since": row.since,
            "last_day": ends_on(row.until, unit.zone) if row.until else None,
        }

    def fresh(self, unit: Unit, given: Values) -> Membership:
        """A membership of the member that a form names. BadInput when it names none, or two."""
        if (given["person"] is None) == (given["member_team"] is None):
            raise BadInput("A member is a person or a team.", "Name one of the two.", {"person": "is missing"})
        if given["member_team"] == given["team"]:
            raise BadInput("A team can't belong to itself.", "Choose another.", {"member_team": "is the team"})
        row = Membership(
            organisation_id=unit.viewer.organisation,
            team_id=row_named(unit, Team, given["team"], "team", "team"),
            person_id=person_named(unit, given["person"], "person"),
            member_team_id=row_named(unit, Team, given["member_team"], "member_team", "team"),
        )
        same = select(Membership.id).where(
            Membership.team_id == row.team_id,
            func.coalesce(Membership.person_id, Membership.member_team_id) == (row.person_id or row.member_team_id),
        )
        if unit.db.scalar(same) is not None:
            raise BadInput("They belong to the team already.", "Change when, instead.", {"person": "is a member"})
        unit.db.add(row)
        return row

    def write(self, unit: Unit, row: Membership, given: Values) -> None:
        """Write a form: when it begins and ends. Member and team can't change: that is another membership."""
        if (given["team"], given["person"], given["member_team"]) != (row.team_id, row.person_id, row.member_team_id):
            raise BadInput("A membership stays that of its member.", "Make another one.", {"person": "can't change"})
        until = end_of_last_day(given["last_day"], unit.zone) if given["last_day"] else None
        if until is not None and given["since"] is not None and until <= given["since"]:
            raise BadInput("It would end before it begins.", "Choose a later day.", {"last_day": "is too early"})
        row.since, row.until = given["since"], until
        if _gives_steward(unit, row.team_id):
            unit.require_proof("Letting somebody into a team that decides who else gets in")

    def lets_in(self, unit: Unit, row: Membership | None, before: Values, given: Values) -> Sequence[UUID]:
        """Everything that the team reaches."""
        return subgraph.onward(unit.db, [Holder(HolderKind.TEAM, given["team"])])

    def afterwards(self, unit: Unit, row: Membership, before: Values, given: Values) -> None:
        """Update flags on what the team holds, and on its member."""
        evaluate_team(unit, row.team_id, row.person_id)

    def remove(self, unit: Unit, row: Membership) -> None:
        """Remove a member, who loses what they had through the team."""
        team, person = row.team_id, row.person_id
        unit.db.delete(row)
        unit.db.flush()
        evaluate_team(unit, team, person)


def _gives_steward(unit: Unit, team: UUID) -> bool:
    held = unit.db.scalars(select(Grant.id).where(Grant.team_id == team, Grant.state.in_(register.LIVE))).all()
    terms = mapping.terms_of(unit.db, held) if held else {}
    return any(term.level.reach is Reach.STEWARD for some in terms.values() for term in some)


def evaluate_team(unit: Unit, team: UUID, person: UUID | None = None) -> None:
    """Evaluate the flags on what a team holds, and on a member; when that is a lot, the worker does."""
    of = select(Grant.id).where(Grant.team_id == team, Grant.state.in_(register.LIVE)).limit(MOST_GRANTS + 1)
    grants = unit.db.scalars(of).all()
    if len(grants) > MOST_GRANTS:
        unit.wake("evaluate")
        return
    evaluate_flags.evaluate(unit, grants=grants, people=[person] if person else [])
    unit.wake("evaluate")


def page(unit: Unit, ident: UUID) -> schemas.TeamPage:
    """A team with its members and what it belongs to. NotFound for one that may not be seen."""
    seen = select(Team).where(Team.id == ident, unit.sight.teams())
    row = unit.db.scalars(seen).first() or found(unit, Team, UUID(int=0), "team")
    speaker = unit.db.get(Person, row.speaker_id) if row.speaker_id else None
    members = (
        select(Membership, func.coalesce(Person.name, Team.name))
        .outerjoin(Person, Person.id == Membership.person_id)
        .outerjoin(Team, Team.id == Membership.member_team_id)
        .where(Membership.team_id == ident)
        .order_by(func.coalesce(Person.name, Team.name), Membership.id)
        .limit(1000)
    )
    above = select(Team).join(Membership, Membership.team_id == Team.id).where(Membership.member_team_id == ident)
    return schemas.TeamPage(
        id=row.id,
        name=row.name,
        partner=row.partner,
        purpose=row.purpose,
        speaker=schemas.Named(id=speaker.id, name=speaker.name) if speaker else None,
        version=row.version,
        archived_at=row.archived_at,
        members=[
            schemas.MemberOf(
                id=one.id,
                kind="person" if one.person_id else "team",
                member=schemas.Named(id=one.member_id, name=name),
                since=one.since,
                until=one.until,
                version=one.version,
            )
            for one, name in unit.db.execute(members)
        ],
        belongs_to=[schemas.Named(id=team.id, name=team.name) for team in unit.db.scalars(above.order_by(Team.name))],
        grants=unit.db.scalar(
            select(func.count(Grant.id)).where(Grant.team_id == ident, Grant.state.in_(register.LIVE))
        )
        or 0,
    )
