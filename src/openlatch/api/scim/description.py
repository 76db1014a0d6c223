"""What this service says of itself (RFC 7643, 5 to 7; RFC 7644, 4), and addresses at which nothing is."""

from __future__ import annotations

from collections.abc import Sequence

from flask import Response, request
from scim2_models import Context, ListResponse, ResourceType, Schema

from openlatch.api.scim import models
from openlatch.api.scim.answers import answer, base, problem, told
from openlatch.errors import NotAllowed, NotFound

READ_ONLY = ("ServiceProviderConfig", "ResourceTypes", "Schemas")


@told
def config() -> Response:
    """What this service can."""
    return answer(models.config(base()).model_dump_json(scim_ctx=Context.RESOURCE_QUERY_RESPONSE))


@told
def resource_types(ident: str | None = None) -> Response:
    """The kinds of resources."""
    return _described(ResourceType, models.resource_types(base()), ident)


@told
def schemas(ident: str | None = None) -> Response:
    """Their attributes: those that are kept, and no others."""
    return _described(Schema, models.schemas(base()), ident)


def _described(
    model: type[ResourceType | Schema], rows: Sequence[ResourceType | Schema], ident: str | None
) -> Response:
    if request.args.get("filter"):
        # RFC 7644, 4: a filter is refused here.
        raise NotAllowed("What there is can't be filtered.", "Read all of it.")
    if ident is None:
        page = ListResponse[model](  # type: ignore[valid-type]
            total_results=len(rows), start_index=1, items_per_page=len(rows), resources=list(rows)
        )
        return answer(page.model_dump_json(scim_ctx=Context.RESOURCE_QUERY_RESPONSE))
    fitting = [one for one in rows if one.id == ident]
    if not fitting:
        raise NotFound(f"There is no {ident} here.")
    return answer(fitting[0].model_dump_json(scim_ctx=Context.RESOURCE_QUERY_RESPONSE))


def nothing(rest: str) -> Response:
    """Any other address: nothing is there; what there is can only be read."""
    if rest.partition("/")[0] in READ_ONLY and request.method != "GET":
        response = problem(405, "This can only be read.")
        response.headers["Allow"] = "GET"
        return response
    if rest == "Me":
        return problem(501, "Who shows a directory's token is no user.")
    return problem(404, f"There is no {rest} here.")
