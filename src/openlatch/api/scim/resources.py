"""The calls for one user or group."""

from __future__ import annotations

from flask import Response, request
from scim2_models import Context, ResponseParameters

from openlatch.api.scim import kinds, models
from openlatch.api.scim.answers import Versions, answer, base, body, ident_of, told, unit, versions_of
from openlatch.json_values import JsonObject


def wanted() -> JsonObject:
    """Which attributes were asked for in the address."""
    return {
        name: request.args[name].split(",") for name in ("attributes", "excludedAttributes") if name in request.args
    }


def _shown(kind: kinds.Kind, held: models.Held, status: int, context: Context) -> Response:
    resource = models.resource_of(held, base())
    asked = ResponseParameters[kind.model].model_validate(wanted())  # type: ignore[name-defined]
    written = resource.model_dump_json(scim_ctx=context, response_parameters=asked)
    return answer(written, status, ETag=models.etag(held.version), Location=models.location(held, base()))


def _expected() -> Versions:
    return versions_of(request.headers.get("If-Match", ""))


@told
def create(path: str) -> Response:
    """Make one."""
    kind = kinds.kind_of(path)
    with unit() as within:
        return _shown(kind, kinds.create(within, kind, body()), 201, Context.RESOURCE_CREATION_RESPONSE)


@told
def read(path: str, ident: str) -> Response:
    """One by its id."""
    kind = kinds.kind_of(path)
    with unit() as within:
        held = kind.one(within, ident_of(ident))
        response = _shown(kind, held, 200, Context.RESOURCE_QUERY_RESPONSE)
    known = request.headers.get("If-None-Match", "")
    if known == "*" or models.etag(held.version) in [one.strip() for one in known.split(",")]:
        return Response(status=304, headers={"ETag": models.etag(held.version)})
    return response


@told
def replace(path: str, ident: str) -> Response:
    """Replace one."""
    kind = kinds.kind_of(path)
    with unit() as within:
        held = kinds.replace(within, kind, ident_of(ident), body(), _expected())
        return _shown(kind, held, 200, Context.RESOURCE_REPLACEMENT_RESPONSE)


@told
def patch(path: str, ident: str) -> Response:
    """Change parts of one."""
    kind = kinds.kind_of(path)
    with unit() as within:
        held = kinds.patch(within, kind, ident_of(ident), body(), _expected())
        return _shown(kind, held, 200, Context.RESOURCE_PATCH_RESPONSE)


@told
def delete(path: str, ident: str) -> Response:
    """Delete one."""
    with unit() as within:
        kinds.delete(within, kinds.kind_of(path), ident_of(ident), _expected())
    return Response(status=204)
