"""The page of an account: everyone and everything that can reach it, and its resources."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import GrantState, HolderKind
from openlatch.service.access.path_rows import grants_on, path_row
from openlatch.service.acting import visits
from openlatch.service.lists import register
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.lists import offers
from openlatch.store.lists import register as register_lists
from openlatch.store.lists.columns import not_among
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Account, Grant, Resource, ResourceGroup, ResourceInGroup, Term

# Paths on an account's page; all of them are in ``access.queries.everyone``.
MOST_PATHS = 500


def account_page(unit: Unit, ident: UUID) -> schemas.AccountPage:
    """An account with everyone and everything that can reach it, by every path.

    People who have left are included while the system still has their access. Grants that give nothing now (offered,
    suspended, not begun, over) are listed apart. Somebody who only reaches the account sees their own paths. Of very
    many paths the shortest and farthest reaching are returned, with the total number.
    """
    account = register.row(unit, "accounts", ident)
    answers = unit.sight.everything or ident in unit.sight.owned
    if answers:
        found = subgraph.around_accounts(unit.db, [ident])
        paths = access_paths.everyone_reaching(found.as_held(), ident, unit.now)
    else:
        assert unit.sight.person is not None
        me = Holder(HolderKind.PERSON, unit.sight.person)
        found = subgraph.between(unit.db, me, ident)
        paths = access_paths.paths_to(found, me, ident, unit.now)
    in_force = {grant for path in paths for grant in path.grants}
    idle = register_lists.GRANTS.page(
        unit.db,
        ListQuery(limit=200),
        [
            unit.sight.grants(),
            Grant.account_id == ident,
            Grant.state != GrantState.ENDED,
            not_among(Grant.id, in_force),
        ],
    )
    holders = {path.holder for path in paths}
    first = paths[:MOST_PATHS]
    grants = grants_on(unit, (grant for path in first for grant in path.grants))
    rows = [path_row(unit, found, path, grants) for path in first]
    stored = unit.db.get_one(Account, ident)
    return schemas.AccountPage.model_validate(
        {
            **account,
            "answers_for": answers,
            "paths": rows,
            "path_count": len(paths),
            "holder_count": len(holders),
            "app_count": sum(holder.kind is HolderKind.APP for holder in holders),
            "not_in_force": idle.rows,
            "parts": parts(unit, ident),
            "others": visits.others_inside(unit, ident) if unit.sight.inside == ident and not answers else [],
            "prerequisites": stored.prerequisites,
            "coverage": stored.coverage,
            "partial_since": stored.partial_since,
        }
    )


def parts(unit: Unit, account: UUID) -> list[schemas.PartOf]:
    """The resources and groups of an account, each with how many share it."""
    listed = offers.RESOURCES.all(unit.db, "", [Resource.account_id == account, Resource.archived_at.is_(None)])
    whole = (
        unit.db.scalar(
            select(func.count(func.distinct(Grant.holder_id)))
            .join(Term, Term.grant_id == Grant.id)
            .where(
                Grant.account_id == account,
                Grant.state.in_(register_lists.LIVE),
                Term.resource_id.is_(None) & Term.group_id.is_(None),
            )
        )
        or 0
    )
    groups = unit.db.execute(
        select(ResourceGroup.id, ResourceGroup.name, func.count(ResourceInGroup.id))
        .outerjoin(ResourceInGroup, ResourceInGroup.group_id == ResourceGroup.id)
        .where(ResourceGroup.account_id == account, ResourceGroup.archived_at.is_(None))
        .group_by(ResourceGroup.id)
        .order_by(ResourceGroup.name)
    )
    own = dict(
        unit.db.execute(
            select(Term.group_id, func.count(func.distinct(Grant.holder_id)))
            .join(Grant, Grant.id == Term.grant_id)
            .where(Grant.account_id == account, Grant.state.in_(register_lists.LIVE), Term.group_id.is_not(None))
            .group_by(Term.group_id)
        ).all()
    )
    found = [
        schemas.PartOf(
            id=i,
            name=name,
            kind="group",
            group=True,
            public=False,
            resources=count,
            holders=whole + own.get(i, 0),
        )
        for i, name, count in groups
    ]
    return found + [schemas.PartOf.model_validate({**row, "group": False, "resources": 1}) for row in listed]
