"""Several changes in one call (RFC 7644, 3.7): each in a transaction of its own."""

from __future__ import annotations

import json
import re
from contextlib import suppress
from dataclasses import dataclass, field
from uuid import UUID

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
    versions_of,
)
from openlatch.errors import NotFound
from openlatch.json_values import JsonObject, JsonValue

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
    most_errors = sent.get("failOnErrors")
    job = _Job(names={str(one["bulkId"]) for one in operations if "bulkId" in one})
    for operation in _in_order(operations):
        job.take(operation)
        if isinstance(most_errors, int) and 0 < most_errors <= job.errors:
            break
    job.close_circles()
    return answer(json.dumps({"schemas": [RESPONSE], "Operations": job.done}))


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
    return _names(_written([operation.get("data"), operation.get("path")])) - {str(operation.get("bulkId"))}


def _written(data: JsonValue) -> str:
    """As JSON in which names stand as they were given."""
    return json.dumps(data, ensure_ascii=False)


def _names(written: str) -> set[str]:
    return set(re.findall(r'bulkId:([^"/\\\]]+)', written))


def _without_references(data: JsonValue) -> JsonValue:
    """The same, without values that refer to what is not made yet, and without objects that have one."""
    if isinstance(data, list):
        return [_without_references(one) for one in data if not _is_reference(one)]
    if isinstance(data, dict):
        return {name: _without_references(one) for name, one in data.items() if not _is_reference(one)}
    return data


def _is_reference(one: JsonValue) -> bool:
    said = one.get("value") if isinstance(one, dict) else one
    return isinstance(said, str) and said.startswith("bulkId:")


@dataclass(slots=True)
class _Open:
    """Something that was made without what it refers to: its line of the answer, and what was sent."""

    line: JsonObject
    kind: kinds.Kind
    ident: UUID
    data: JsonObject


@dataclass(slots=True)
class _Job:
    """A bulk request under way. ``names`` are all its bulkIds, ``made`` the ids of what has been made by them."""

    names: set[str]
    made: dict[str, str] = field(default_factory=dict)
    done: list[JsonObject] = field(default_factory=list)
    errors: int = 0
    _open: list[_Open] = field(default_factory=list)

    def take(self, operation: JsonObject) -> None:
        """Carry out an operation, and keep what the standard tells of it."""
        method, path = str(operation.get("method", "")).upper(), self._resolved(str(operation.get("path", "")))
        data = json.loads(self._resolved(_written(operation.get("data"))))
        line: JsonObject = {"method": method, **({"bulkId": operation["bulkId"]} if "bulkId" in operation else {})}
        if method != "POST":
            line["location"] = f"{base()}/{path.strip('/')}"
        self.done.append(line)
        parts, version = path.strip("/").split("/"), str(operation.get("version", ""))
        missing = _names(_written([data, path]))
        try:
            if missing and (method != "POST" or missing - self.names):
                raise _Unresolved
            held = _carried_out(method, parts, _without_references(data) if missing else data, version)
        except (*ERRORS, _Unresolved) as error:
            self._refuse(line, error)
            return
        if held is None:
            line["status"] = "204"
            return
        line |= {"status": "201" if method == "POST" else "200", **_where(held)}
        if "bulkId" in operation:
            self.made[str(operation["bulkId"])] = str(held.id)
        if missing:
            self._open.append(_Open(line, kinds.kind_of(parts[0]), held.id, data))

    def close_circles(self) -> None:
        """What was made before what it refers to gets that now. What can't is deleted again, and told as a conflict."""
        for one in self._open:
            data = json.loads(self._resolved(_written(one.data)))
            try:
                if _names(_written(data)):
                    raise _Unresolved
                with unit() as within:
                    one.line |= _where(kinds.replace(within, one.kind, one.ident, data, None))
            except (*ERRORS, _Unresolved):
                # Somebody else may have deleted it meanwhile.
                with suppress(NotFound), unit() as within:
                    kinds.delete(within, one.kind, one.ident, None)
                del one.line["location"], one.line["version"]
                self._refuse(one.line, _Unresolved())

    def _refuse(self, line: JsonObject, error: Exception) -> None:
        told = "What it refers to by bulkId was not made by this request."
        response = problem(409, told) if isinstance(error, _Unresolved) else refused(error)
        line |= {"status": str(response.status_code), "response": json.loads(response.get_data())}
        self.errors += 1

    def _resolved(self, written: str) -> str:
        for name, ident in self.made.items():
            written = re.sub(rf"bulkId:{re.escape(name)}(?![^\"/\\\]])", ident, written)
        return written


class _Unresolved(Exception):
    """An operation refers to what this request has not made."""


def _where(held: models.Held) -> JsonObject:
    return {"location": models.location(held, base()), "version": models.etag(held.version)}


def _carried_out(method: str, path: list[str], data: JsonObject | None, version: str) -> models.Held | None:
    kind, expected = kinds.kind_of(path[0]), versions_of(version)
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
