"""The calls for many users and groups: filtered, sorted, in pages."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from flask import Response, request
from scim2_models import Context, Error, ListResponse, SCIMException, ScimFilter, SearchRequest
from sqlalchemy import ColumnElement

from openlatch.api.door import refuse_unusable
from openlatch.api.scim import models
from openlatch.api.scim.answers import answer, base, body, told, unit
from openlatch.api.scim.kinds import GROUPS, USERS, Kind, kind_of
from openlatch.api.scim.resources import wanted
from openlatch.service.unit import Unit

# Resources that a filter may be tried on, one by one.
MOST_TRIED = 20_000
_EQUALS = re.compile(r'(userName|externalId|displayName|id) eq "([^"\\]*)"', re.IGNORECASE)
Filter = ScimFilter[models.AnyResource]


@told
def query(path: str) -> Response:
    """Those that fit a filter, in pages."""
    return _found([kind_of(path)], _asked())


@told
def search(path: str) -> Response:
    """The same, asked for by a body."""
    return _found([kind_of(path)], body())


@told
def query_all() -> Response:
    """Of both kinds."""
    return _found([USERS, GROUPS], _asked())


@told
def search_all() -> Response:
    """Of both kinds, asked for by a body."""
    return _found([USERS, GROUPS], body())


def _asked() -> Mapping[str, object]:
    asked = {**request.args, **wanted()}
    refuse_unusable(asked)
    return asked


def _found(kinds: Sequence[Kind], asked: Mapping[str, object]) -> Response:
    union = kinds[0].model if len(kinds) == 1 else models.User | models.Group
    given = {name: value for name, value in asked.items() if name != "schemas"}
    wish = SearchRequest[union].model_validate(given)  # type: ignore[valid-type]
    # No register is as large as that: beyond it, pages are empty.
    start = min(wish.start_index or 1, 1_000_000_000)
    most = min(models.MOST_RESULTS if wish.count is None else wish.count, models.MOST_RESULTS)
    where = _by_database(kinds[0], wish.filter) if len(kinds) == 1 and wish.sort_by is None else None
    with unit() as within:
        if where is not None:
            total, held = kinds[0].listed(within, where, start - 1, most)
            rows = [models.resource_of(one, base()) for one in held]
        else:
            fitting = [one for kind in kinds for one in _tried(within, kind, wish.filter)]
            fitting = fitting if wish.sort_by is None else wish.sort(fitting)
            total, rows = len(fitting), fitting[start - 1 : start - 1 + most]
    page = ListResponse[union](  # type: ignore[valid-type]
        total_results=total, start_index=start, items_per_page=len(rows), resources=rows
    )
    return answer(page.model_dump_json(scim_ctx=Context.RESOURCE_QUERY_RESPONSE, response_parameters=wish))


def _by_database(kind: Kind, written: Filter | None) -> list[ColumnElement[bool]] | None:
    """What the database can answer: everything, or one comparison for equality. None for anything else."""
    if not written:
        return []
    found = _EQUALS.fullmatch(str(written).strip())
    where = kind.equals(found[1].lower(), found[2]) if found else None
    return [where] if where is not None else None


def _tried(within: Unit, kind: Kind, written: Filter | None) -> list[models.AnyResource]:
    """Those that fit, each tried. SCIMException (tooMany) where there are too many for that."""
    if kind.listed(within, [], 0, 0)[0] > MOST_TRIED:
        detail = "Too many to try them all. Filter by userName, externalId, displayName or id, with eq."
        raise SCIMException.from_error(Error(status=400, scim_type="tooMany", detail=detail))
    _, held = kind.listed(within, [], 0, MOST_TRIED)
    resources = [models.resource_of(one, base()) for one in held]
    return [one for one in resources if not written or written.match(one)]
