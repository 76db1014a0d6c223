"""The calls about who can do what."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routes.latches import latch_setting
from openlatch.api.routing import api
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind
from openlatch.service.access import charts, queries
from openlatch.service.own import my_access
from openlatch.service.unit import Unit


def _question(query: schemas.Question) -> queries.Question:
    return queries.Question(query.at, query.believed, query.permission, query.resource, query.shortest, query.limit)


@api.add(
    "GET", "/access", "By which paths a person can act in an account", schemas.Paths, query=schemas.WhoCan, inside=True
)
def get_access(unit: Unit, query: schemas.WhoCan) -> schemas.Paths:
    """None when they can't. Of now, or of any instant, as it was known at any other."""
    return queries.who_can(unit, query.person, query.account, _question(query))


@api.add(
    "GET",
    "/accounts/<uuid:ident>/access",
    "Everyone who can act in an account",
    schemas.Paths,
    query=schemas.Question,
    inside=True,
)
def get_account_access(unit: Unit, ident: UUID, query: schemas.Question) -> schemas.Paths:
    """By every path, or by the shortest; all of it, or one permission on one resource."""
    return queries.everyone(unit, ident, _question(query))


@api.add(
    "GET",
    "/people/<uuid:ident>/access",
    "Everything that a person can act in",
    schemas.Paths,
    query=schemas.Question,
    inside=True,
)
def get_person_access(unit: Unit, ident: UUID, query: schemas.Question) -> schemas.Paths:
    """Among the accounts that you may see."""
    return queries.everything(unit, ident, _question(query))


@api.add(
    "GET",
    "/accounts/<uuid:ident>/matrix",
    "Who can do what in an account",
    schemas.Matrix,
    query=schemas.Question,
    inside=True,
)
def get_matrix(unit: Unit, ident: UUID, query: schemas.Question) -> schemas.Matrix:
    """Everyone against everything, in one answer."""
    return queries.matrix(unit, ident, _question(query))


@api.add(
    "GET",
    "/accounts/<uuid:ident>/difference",
    "Who can do what at one instant and not at another",
    schemas.Difference,
    query=schemas.DifferenceQuery,
    inside=True,
)
def get_difference(unit: Unit, ident: UUID, query: schemas.DifferenceQuery) -> schemas.Difference:
    """In one account."""
    return queries.differ(unit, ident, query.one, query.other, query.believed)


@api.add("POST", "/access/suppose", "What changes would do to who can do what", schemas.Supposed, body=schemas.Suppose)
def suppose(unit: Unit, body: schemas.Suppose) -> schemas.Supposed:
    """Nothing is changed."""
    return queries.what_if(unit, [_supposed(change) for change in body.changes])


def _supposed(change: schemas.SupposedChange) -> queries.Wish:
    holder = Holder(HolderKind(change.holder.kind), change.holder.id) if change.holder else None
    latch = latch_setting(change.latch) if change.latch else None
    return queries.Wish(
        change.kind, change.grant, change.account, holder, change.level, change.until, change.team, change.person, latch
    )


@api.add("GET", "/map", "All live grants by danger and by how long unused", schemas.RiskMap)
def get_map(unit: Unit) -> schemas.RiskMap:
    """Of what you may see, with the filters that pick a region."""
    return charts.risk_map(unit)


@api.add("GET", "/ends", "What ends day by day", schemas.Calendar, query=schemas.EndsQuery)
def get_ends(unit: Unit, query: schemas.EndsQuery) -> schemas.Calendar:
    """Grants, people who leave, offers that run out, rounds that are due."""
    return charts.ends(unit, query.since, query.months)


@api.add("GET", "/mine", "What you can reach, and who can reach yours", schemas.Mine)
def get_mine(unit: Unit) -> schemas.Mine:
    """With the offers that wait for you."""
    return my_access.page(unit)
