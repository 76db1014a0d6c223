"""Items of the simulated cloud service, and the access rules that open them to people outside.

Rules are written in the form of a rule document (``docs/reference/rule-document.md``). The nearest and most
specific rule decides, and among equals a denial wins; the service's own guard overrides all. ``/open/…`` serves anybody
by these rules; since all callers come from one address at one time, headers say whom they stand for: ``X-Sign-In``,
``X-From``, ``X-At``, ``X-Second-Factor``, ``X-Link``.
"""

from __future__ import annotations

import json
from datetime import UTC, datetime
from hashlib import sha256
from ipaddress import ip_address
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from flask import Flask, jsonify, request
from flask.typing import ResponseReturnValue

from openlatch.core.exposure import document
from openlatch.core.exposure.conditions import Circumstances
from openlatch.core.exposure.form import FORM
from openlatch.core.exposure.rules import (
    Caller,
    Combining,
    Manner,
    Request,
    Resource,
    Right,
    Rule,
    applies,
    covering,
    decide,
)
from openlatch.json_values import JsonObject

if TYPE_CHECKING:
    from openlatch.test_systems.cloud import Cloud

PERMISSIONS = {
    "list": Right.SEE,
    "fetch": Right.SEE,
    "upload": Right.CHANGE,
    "delete": Right.CHANGE,
    "publish": Right.ADMINISTER,
}
# The permission that each method needs.
METHODS = {"GET": "fetch", "HEAD": "list", "PUT": "upload", "DELETE": "delete", "POST": "publish"}
ZONE = ZoneInfo("Europe/London")
MANNER = Manner(Combining.MOST_SPECIFIC, PERMISSIONS, ZONE)


def add_rules(app: Flask, cloud: Cloud) -> None:
    """The calls about items, rules and the guard, and ``/open/…``."""
    _told(app, cloud)
    _changed(app, cloud)

    @app.route("/open/<space>/<path:path>", methods=list(METHODS))
    def open_door(space: str, path: str) -> ResponseReturnValue:
        item = cloud.state.items.get(space, {}).get(f"/{path}")
        if item is None:
            return jsonify(detail="There is nothing here."), 404
        asked, resource = _request(cloud), _resource(f"/{path}", item)
        rules, guards = _rules(cloud, space)
        rules = covering(rules, resource)
        if not decide(rules, guards, resource, asked, MANNER):
            return jsonify(detail="You may not."), 403 if asked.caller.signed_in else 401
        by = [rule.key for rule in rules if applies(rule.terms, asked, MANNER)]
        return jsonify(path=f"/{path}", by=by)


def _told(app: Flask, cloud: Cloud) -> None:
    @app.get("/spaces/<space>/items")
    def items(space: str) -> ResponseReturnValue:
        rows = [{"id": path, **item} for path, item in sorted(cloud.state.items.get(space, {}).items())]
        return jsonify(totalResults=len(rows), Resources=cloud.page(rows))

    @app.get("/spaces/<space>/rules")
    def rules(space: str) -> ResponseReturnValue:
        told = jsonify(form=FORM, rules=cloud.state.rules.get(space, []), guards=cloud.state.guards)
        told.headers["ETag"] = f'"{cloud.state.versions.get(space, 1)}"'
        return told

    @app.get("/guards")
    def guards() -> ResponseReturnValue:
        told = jsonify(guards=cloud.state.guards)
        told.headers["ETag"] = _tag(cloud.state.guards)
        return told

    @app.get("/outside-use")
    def outside_use() -> ResponseReturnValue:
        return jsonify(totalResults=len(cloud.state.outside), Resources=cloud.page(cloud.state.outside))


def _changed(app: Flask, cloud: Cloud) -> None:
    @app.put("/spaces/<space>/rules")
    def set_rules(space: str) -> ResponseReturnValue:
        told = request.get_json()
        found = document.parsed({"form": FORM, "rules": told["rules"]}, PERMISSIONS, ZONE)
        if not isinstance(found, document.Document):
            return jsonify(detail="; ".join(problem.message for problem in found)), 400
        if request.headers.get("If-Match", "").strip('"') != str(cloud.state.versions.get(space, 1)):
            return jsonify(detail="The space has changed since it was read."), 412
        cloud.change(lambda: cloud.state.rules.update({space: told["rules"]}), space)
        return "", 204

    @app.delete("/spaces/<space>/rules/<path:key>")
    def remove_rule(space: str, key: str) -> ResponseReturnValue:
        left = [rule for rule in cloud.state.rules.get(space, []) if rule["rule"] != key]
        cloud.change(lambda: cloud.state.rules.update({space: left}), space)
        return "", 204

    @app.put("/guards")
    def set_guards() -> ResponseReturnValue:
        told = request.get_json()["guards"]
        found = document.parsed({"form": FORM, "guards": told}, PERMISSIONS, ZONE)
        if not isinstance(found, document.Document):
            return jsonify(detail="; ".join(problem.message for problem in found)), 400
        if request.headers.get("If-Match") not in (None, _tag(cloud.state.guards)):
            return jsonify(detail="The guards have changed since they were read."), 412
        cloud.change(lambda: setattr(cloud.state, "guards", told))
        for space in cloud.state.spaces:
            cloud.state.versions[space] = cloud.state.versions.get(space, 1) + 1
        return "", 204


def _tag(told: object) -> str:
    return f'"{sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()[:16]}"'


def _rules(cloud: Cloud, space: str) -> tuple[list[Rule], list[Rule]]:
    plain = {"form": FORM, "rules": cloud.state.rules.get(space, []), "guards": cloud.state.guards}
    found = document.parsed(plain, PERMISSIONS, ZONE)
    assert isinstance(found, document.Document)
    return list(found.rules), list(found.guards)


def _resource(path: str, item: JsonObject) -> Resource:
    return Resource(path, tuple(item.get("groups", ())), item.get("attributes", {}), item.get("inherits", True))


def _request(cloud: Cloud) -> Request:
    """The caller, as the headers say. People are inside if their address is in the service's own domain."""
    told = request.headers
    ident = told.get("X-Sign-In", "")
    person = cloud.state.people.get(ident, {})
    domain = str(person.get("address", ident)).rpartition("@")[2]
    caller = Caller(bool(ident), ident, domain, domain == cloud.state.domain, told.get("X-Link", ""))
    at = datetime.fromisoformat(told["X-At"]) if "X-At" in told else datetime.now(UTC)
    now = Circumstances(
        at,
        ip_address(told.get("X-From", "198.51.100.7")),
        told.get("X-Secure", "yes") == "yes",
        told.get("X-Second-Factor") == "yes",
        person.get("attributes", {}),
        _attributes(cloud),
    )
    return Request(caller, METHODS[request.method], now)


def _attributes(cloud: Cloud) -> dict[str, str]:
    """The attributes of the requested item."""
    space, _, path = request.path.removeprefix("/open/").partition("/")
    attributes: dict[str, str] = cloud.state.items.get(space, {}).get(f"/{path}", {}).get("attributes", {})
    return attributes
