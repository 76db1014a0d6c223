"""Several changes in one call (RFC 7644, 3.7): each in a transaction of its own."""

from __future__ import annotations

import json
import re

from flask import Response

from openlatch.api.scim import kinds, models
from openlatch.api.scim.answers import (
    ERRORS,
    Unreadable,
    answer,
    base,
    body,
    ident_of,
    problem,
    refused,
    told,
    unit,
    version_of,
)
from openlatch.json_values import JsonObject

RESPONSE = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"


@told
def bulk() -> Response:
    """Several changes, each by itself; what one has made can be referred to by others."""
    sent = body()
    operations = sent.get("Operations")
    if not isinstance(operations, list) or not all(isinstance(one, dict) for one in operations):
        raise Unreadable("Operations has to be a list of objects.")
    if len(operations) > models.MOST_OPERATIONS:
        return problem(413, f"At most {models.MOST_OPERATIONS} operations go into one request.")
    # So that whoever may not ask is told once, and not for each.
    with unit() as within:
        assert within.sight is not None
        within.sight.require_administrator()
    most_errors, errors = sent.get("failOnErrors"), 0
    made: dict[str, str] = {}
    done: list[JsonObject] = []
    for operation in _in_order(operations):
        done.append(_done(operation, made))
        errors += int(done[-1]["status"]) >= 400
        if isinstance(most_errors, int) and 0 < most_errors <= errors:
            break
    return answer(json.dumps({"schemas": [RESPONSE], "Operations": done}))


def _in_order(operations: list[JsonObject]) -> list[JsonObject]:
    """What is referred to first; operations that refer to one another in a circle as they came."""
    waiting, ordered, known = list(operations), [], {str(one.get("bulkId")) for one in operations}
    while waiting:
        ready = next((one for one in waiting if not _refers(one) & known), waiting[0])
        waiting.remove(ready)
        known.discard(str(ready.get("bulkId")))
        ordered.append(ready)
    return ordered


def _refers(operation: JsonObject) -> set[str]:
    written = json.dumps([operation.get("data"), operation.get("path")])
    return set(re.findall(r'bulkId:([^"/]+)', written)) - {str(operation.get("bulkId"))}


def _done(operation: JsonObject, made: dict[str, str]) -> JsonObject:
    """What became of an operation, as the standard tells it; what it made is added to ``made`` by its bulkId."""
    method, written = str(operation.get("method", "")).upper(), json.dumps(operation.get("data"))
    path = str(operation.get("path", ""))
    for name, ident in made.items():
        written, path = written.replace(f'"bulkId:{name}"', f'"{ident}"'), path.replace(f"bulkId:{name}", ident)
    line: JsonObject = {"method": method, **({"bulkId": operation["bulkId"]} if "bulkId" in operation else {})}
    try:
        held = _carried_out(method, path.strip("/").split("/"), json.loads(written), str(operation.get("version", "")))
    except ERRORS as error:
        response = refused(error)
        return {**line, "status": str(response.status_code), "response": json.loads(response.get_data())}
    if held is None:
        return {**line, "status": "204"}
    if "bulkId" in operation:
        made[str(operation["bulkId"])] = str(held.id)
    status = "201" if method == "POST" else "200"
    return {**line, "status": status, "location": models.location(held, base()), "version": models.etag(held.version)}


def _carried_out(method: str, path: list[str], data: JsonObject | None, version: str) -> models.Held | None:
    kind, expected = kinds.kind_of(path[0]), version_of(version)
    if method != "DELETE" and not isinstance(data, dict):
        raise Unreadable("The operation has no data.")
    with unit() as within:
        if method == "POST" and len(path) == 1 and data is not None:
            return kinds.create(within, kind, data)
        if len(path) != 2:
            raise Unreadable("The path has to name a resource.")
        ident = ident_of(path[1])
        if method == "PUT" and data is not None:
            return kinds.replace(within, kind, ident, data, expected)
        if method == "PATCH" and data is not None:
            return kinds.patch(within, kind, ident, data, expected)
        if method == "DELETE":
            kinds.delete(within, kind, ident, expected)
            return None
    raise Unreadable(f"{method} is no method of a bulk request.")
