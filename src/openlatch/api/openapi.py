"""The OpenAPI 3.1 document, made from the table of routes and the models of ``wire``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from openlatch import __version__, schemas
from openlatch.api.routing import JSON, MERGE_PATCH, PREFIX, Route
from openlatch.json_values import JsonObject

_REF = "#/components/schemas/{model}"
_PROBLEMS = {
    "400": "The filter, sort or cursor can't be read",
    "401": "Nobody is signed in",
    "403": "Not allowed",
    "404": "Not there, or not for you to see",
    "409": "Not possible as things stand",
    "412": "Somebody changed it meanwhile",
    "413": "What was sent is too large",
    "414": "The first line is too long",
    "422": "What was sent can't be used",
    "429": "Too many tries, or too many calls at once",
    "431": "The headers are too large",
    "502": "A system said no",
    "503": "Several changes met, or something does not answer: try again in a moment",
}


def document(routes: Iterable[Route]) -> JsonObject:
    """The whole document."""
    table = list(routes)
    used: list[type[BaseModel]] = [schemas.Problem, schemas.Changed]
    for route in table:
        used += [m for m in (route.answer, route.body) if m is not None and m not in used]
    refs, models = models_json_schema([(model, "validation") for model in used], ref_template=_REF)
    names: dict[object, str] = {model: ref["$ref"] for (model, _), ref in refs.items()}
    paths: dict[str, JsonObject] = {}
    for route in table:
        path = PREFIX + re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", route.path)
        operation = _operation(route, names)
        links = _links(route, table)
        if links:
            operation["responses"][str(route.status)]["links"] = links
        paths.setdefault(path, {})[route.method.lower()] = operation
    paths[f"{PREFIX}/events"] = {"get": _EVENTS}
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Open Latch",
            "version": __version__,
            "summary": "Who and what can reach each shared account.",
            "license": {"name": "Apache License 2.0", "identifier": "Apache-2.0"},
        },
        "servers": [{"url": "/"}],
        "security": [{"token": []}, {"session": []}],
        "paths": paths,
        "components": {
            "schemas": models["$defs"],
            "securitySchemes": {
                "token": {"type": "http", "scheme": "bearer"},
                "session": {"type": "apiKey", "in": "cookie", "name": "openlatch_session"},
            },
            "responses": {
                "problem": {
                    "description": "A problem document by RFC 9457",
                    "content": {"application/problem+json": {"schema": {"$ref": names[schemas.Problem]}}},
                }
            },
        },
    }


# Calls that can conflict with simultaneous ones.
VERSIONED = (
    "decide",
    "change_offer",
    "withdraw_offer",
    "hand_over",
    "set_account",
    "grant_request",
    "decline_request",
    "withdraw_request",
    "change_level",
    "change_schedule",
)
_EVENTS = {
    "operationId": "events",
    "summary": "What changes, as it changes",
    "tags": ["events"],
    "description": "Server-sent events. Each has the journal's position as its id and the kinds of things changed.",
    "responses": {
        "200": {"description": "A stream of events", "content": {"text/event-stream": {"schema": {"type": "string"}}}},
        **{status: {"$ref": "#/components/responses/problem"} for status in ("401", "403", "429", "503")},
    },
}


def _operation(route: Route, names: Mapping[object, str]) -> JsonObject:
    operation: JsonObject = {
        "operationId": route.name,
        "summary": route.summary,
        "description": (route.handler.__doc__ or route.summary).strip(),
        "tags": [route.tag],
        "parameters": [*_path_parameters(route), *_query_parameters(route), *_headers(route)],
        "responses": {str(route.status): _success(route, names)},
    }
    for status in _PROBLEMS:
        operation["responses"][status] = {"$ref": "#/components/responses/problem"}
    if route.body is not None:
        schema = {"schema": {"$ref": names[route.body]}}
        kinds = (MERGE_PATCH, JSON) if route.method == "PATCH" else (JSON,)
        operation["requestBody"] = {"required": True, "content": dict.fromkeys(kinds, schema)}
    elif route.streams:
        content = {kind: {"schema": {"type": "string"}} for kind in ("text/csv", "application/jsonl")}
        operation["requestBody"] = {"required": True, "content": content}
    if route.open and route.body is not None:
        operation["security"] = []
    return operation


def _links(route: Route, table: Iterable[Route]) -> JsonObject:
    """Where to go on from an answer: with the first row of a list, with what was made, and with what is shown.

    By name of the operation, with what goes into its path (OpenAPI 3.1, section 4.8.20).
    """
    known = re.findall(r"<uuid:(\w+)>", route.path)
    given = {f"path.{name}": f"$request.path.{name}" for name in known}
    found: JsonObject = {}
    for other in table:
        wanted = re.findall(r"<uuid:(\w+)>", other.path)
        fresh = [name for name in wanted if name not in known]
        begins = other.path.startswith(f"{route.path}/") and other is not route
        source = _source(route, fresh)
        if begins and known and not fresh:
            found[other.name] = {"operationId": other.name, "parameters": given}
        elif len(fresh) == 1 and source and (begins or other.path.startswith(f"{route.path}/<uuid:{fresh[0]}>")):
            found[other.name] = {"operationId": other.name, "parameters": {**given, f"path.{fresh[0]}": source}}
    return found


def _source(route: Route, fresh: list[str]) -> str:
    """Where in an answer the id is that an operation below it needs; empty when it has none."""
    if route.answer is None or len(fresh) != 1:
        return ""
    fields = route.answer.model_fields
    if fresh[0] == "step":
        return "$response.body#/step_list/0/id" if "step_list" in fields else ""
    if "rows" in fields:
        return "$response.body#/rows/0/id"
    return "$response.body#/id" if route.method == "POST" and "id" in fields and "<" not in route.path else ""


# Media types of calls that return a file, if not JSON Lines.
_FILES = {
    "register_schema": ("application/schema+json",),
    "rule_document_schema": ("application/schema+json",),
    "refused_lines": ("text/csv", "application/jsonl"),
    "get_evidence": ("application/zip",),
    "take_trends_away": ("text/csv",),
}


def _success(route: Route, names: Mapping[object, str]) -> JsonObject:
    if route.answer is None:
        kinds = _FILES.get(route.name, ("application/jsonl",))
        if route.query is schemas.ExportOptions:
            kinds = ("text/csv", JSON)
        return {"description": route.summary, "content": {kind: {"schema": {}} for kind in kinds}}
    found: JsonObject = {
        "description": route.summary,
        "content": {JSON: {"schema": {"$ref": names[route.answer]}}},
    }
    if route.query is schemas.ListOptions:
        found["headers"] = {"Link": {"description": "The next page, by RFC 8288.", "schema": {"type": "string"}}}
    return found


def _path_parameters(route: Route) -> list[JsonObject]:
    found = []
    for converter, name in re.findall(r"<(?:(\w+):)?(\w+)>", route.path):
        schema = {"type": "string", "format": "uuid"} if converter == "uuid" else {"type": "string"}
        found.append({"name": name, "in": "path", "required": True, "schema": schema})
    return found


def _query_parameters(route: Route) -> list[JsonObject]:
    if route.query is None:
        return []
    schema = route.query.model_json_schema()
    needed = schema.get("required", [])
    return [
        {
            "name": name,
            "in": "query",
            "required": name in needed,
            "description": inner.pop("description", ""),
            "schema": inner,
        }
        for name, inner in schema["properties"].items()
    ]


def _headers(route: Route) -> list[JsonObject]:
    wanted = []
    if route.method == "POST" and not (route.open or route.streams):
        wanted.append(("Idempotency-Key", "The same call with the same key is carried out once."))
    if route.name in VERSIONED or route.method == "PATCH" or route.name.startswith("remove_"):
        wanted.append(("If-Match", "The version that was looked at, from its ETag."))
    return [{"name": n, "in": "header", "description": d, "schema": {"type": "string"}} for n, d in wanted]
