"""The page of a person: everything that they can reach."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind
from openlatch.service.access.path_rows import grants_on, path_row
from openlatch.service.lists import register
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.tables import Membership, SignIn, Team


def person_page(unit: Unit, ident: UUID) -> schemas.PersonPage:
    """A person with everything that they can reach, by every path, among the accounts the viewer may see."""
    person = register.row(unit, "people", ident)
    holder = Holder(HolderKind.PERSON, ident)
    found = subgraph.around_holder(unit.db, holder)
    paths = access_paths.everything_reached(found.as_held(), holder, unit.now)
    if not unit.sight.everything and ident != unit.sight.person:
        paths = [path for path in paths if path.account in unit.sight.owned]
    grants = grants_on(unit, (grant for path in paths for grant in path.grants))
    teams = unit.db.execute(
        select(Team.id, Team.name, Membership.since, Membership.until)
        .join(Membership, Membership.team_id == Team.id)
        .where(Membership.member_id == ident, unit.sight.teams())
        .order_by(Team.name)
    )
    return schemas.PersonPage.model_validate(
        {
            **person,
            "signs_in": _signs_in(unit, ident) if unit.sight.everything else None,
            "teams": [dict(row) for row in teams.mappings()],
            "paths": [path_row(unit, found, p, grants) for p in paths],
        }
    )


def _signs_in(unit: Unit, person: UUID) -> bool:
    return unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person)) is not None
