"""A simulated cloud service, for what no Debian server offers: shared spaces, connected apps, tokens, sessions.

It speaks SCIM 2.0 for people (RFC 7643, 7644) and OAuth 2.0 for tokens (RFC 7009 revocation, RFC 7662 introspection);
spaces and sessions have calls of their own. Each kind of misbehaviour can be switched on with ``PUT /manners``.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from functools import partial
from pathlib import Path

from flask import Flask, Response, jsonify, request
from flask.typing import ResponseReturnValue

from openlatch.json_values import JsonObject
from openlatch.test_systems.app_server import AppServer
from openlatch.test_systems.cloud_rules import add_rules

SCIM_LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
SCIM_USER = "urn:ietf:params:scim:schemas:core:2.0:User"
ROLES = ("guest", "viewer", "editor", "full")


@dataclass
class Manners:
    """How it misbehaves. With all of these off, it applies each change at once."""

    reduce_first: bool = False  # A full member must be reduced before they can be removed.
    waits_for_person: bool = False  # Removing anybody but a guest waits for that person's consent.
    delay: float = 0.0  # Seconds after which a change takes effect.
    limit: int = 0  # Calls allowed per second; further ones get 429 with Retry-After.
    says_done: bool = False  # Reports success without changing anything.
    stubborn: str = ""  # The same, for one space only.
    down: bool = False  # Answers 503 to everything.
    hangs: float = 0.0  # Seconds before each answer.
    shifts: bool = False  # Pages repeat one row and skip another, as if data changed while paging.


@dataclass
class State:
    """Its data; ``later`` are changes that have not taken effect yet."""

    people: dict[str, JsonObject] = field(default_factory=dict)
    spaces: dict[str, JsonObject] = field(default_factory=dict)
    members: dict[str, dict[str, str]] = field(default_factory=dict)
    tokens: dict[str, JsonObject] = field(default_factory=dict)
    sessions: dict[str, JsonObject] = field(default_factory=dict)
    activity: list[JsonObject] = field(default_factory=list)
    versions: dict[str, int] = field(default_factory=dict)
    domain: str = ""
    items: dict[str, dict[str, JsonObject]] = field(default_factory=dict)
    rules: dict[str, list[JsonObject]] = field(default_factory=dict)
    guards: list[JsonObject] = field(default_factory=list)
    outside: list[JsonObject] = field(default_factory=list)


class Cloud:
    """The service, with its state in memory, and in a file when it has a folder."""

    def __init__(self, secret: str, folder: Path | None = None) -> None:
        self.secret = secret
        self.state, self.manners = State(), Manners()
        self._file = folder / "state.json" if folder else None
        if self._file is not None and self._file.exists():
            self.state = State(**json.loads(self._file.read_text()))
        self._later: list[tuple[float, Callable[[], object]]] = []
        self._calls: list[float] = []
        self.changes = 0
        self._lock = threading.Lock()

    def load(self, plan: Mapping[str, object]) -> None:
        """Load the data of ``plan``."""
        self.state = State(**json.loads(json.dumps(plan)))
        self._keep()

    def change(self, work: Callable[[], object], space: str = "") -> None:
        """Apply a change, perhaps to a space: now, later, or never, depending on the manners."""
        self.changes += 1
        if self.manners.says_done or (space and space == self.manners.stubborn):
            return
        if space:
            work = partial(self._move_on, work, space)
        if self.manners.delay:
            self._later.append((time.monotonic() + self.manners.delay, work))
            return
        work()
        self._keep()

    def _move_on(self, work: Callable[[], object], space: str) -> None:
        work()
        self.state.versions[space] = self.state.versions.get(space, 1) + 1

    def settle(self) -> None:
        """Apply the changes that are due."""
        due = [work for at, work in self._later if at <= time.monotonic()]
        self._later = [(at, work) for at, work in self._later if at > time.monotonic()]
        for work in due:
            work()
        if due:
            self._keep()

    def refusal(self) -> tuple[Response, int] | None:
        """The refusal due to its manners or to a wrong secret; None if it answers normally."""
        if self.manners.hangs:
            time.sleep(self.manners.hangs)
        if self.manners.down:
            return jsonify(detail="We are working on it."), 503
        if request.headers.get("Authorization") != f"Bearer {self.secret}":
            return jsonify(detail="The key is not known here."), 401
        if self.manners.limit:
            now = time.monotonic()
            self._calls = [at for at in self._calls if at > now - 1]
            if len(self._calls) >= self.manners.limit:
                answer = jsonify(detail="Too many calls.")
                answer.headers["Retry-After"] = "1"
                return answer, 429
            self._calls.append(now)
        return None

    def page(self, rows: list[JsonObject]) -> list[JsonObject]:
        """A page of rows by SCIM's startIndex and count."""
        start, count = max(int(request.args.get("startIndex", 1)), 1), int(request.args.get("count", 100))
        found = rows[start - 1 : start - 1 + count]
        if self.manners.shifts and start > 1 and len(rows) > count:
            # As if a row had been inserted: the previous page's last row is repeated, and this page's last is missed.
            found = rows[start - 2 : start - 2 + count]
            self.manners.shifts = False
        return found

    def _keep(self) -> None:
        if self._file is not None:
            self._file.write_text(json.dumps(asdict(self.state)))

    def app(self) -> Flask:
        """The service as a web application."""
        app = Flask("cloud")

        @app.before_request
        def manners_first() -> ResponseReturnValue | None:
            if request.path == "/manners" or request.path.startswith("/open/"):
                return None
            with self._lock:
                self.settle()
                return self.refusal()

        @app.put("/manners")
        def set_manners() -> ResponseReturnValue:
            self.manners = Manners(**request.get_json())
            return jsonify(asdict(self.manners))

        _people(app, self)
        _spaces(app, self)
        _tokens(app, self)
        add_rules(app, self)
        return app


def _people(app: Flask, cloud: Cloud) -> None:
    @app.get("/scim/v2/Users")
    def users() -> ResponseReturnValue:
        rows = [_user(ident, person) for ident, person in cloud.state.people.items()]
        page = cloud.page(rows)
        return jsonify(schemas=[SCIM_LIST], totalResults=len(rows), itemsPerPage=len(page), Resources=page)

    @app.get("/scim/v2/Users/<ident>")
    def user(ident: str) -> ResponseReturnValue:
        person = cloud.state.people.get(ident)
        return (jsonify(_user(ident, person)), 200) if person else (jsonify(detail="No such user.", status="404"), 404)

    @app.patch("/scim/v2/Users/<ident>")
    def change_user(ident: str) -> ResponseReturnValue:
        for operation in request.get_json()["Operations"]:
            if operation.get("path") == "active":
                value = operation["value"]
                cloud.change(partial(cloud.state.people[ident].update, active=value))
        return jsonify(_user(ident, cloud.state.people[ident]))


def _user(ident: str, person: Mapping[str, object]) -> JsonObject:
    return {
        "schemas": [SCIM_USER],
        "id": ident,
        "userName": person["name"],
        "displayName": person["name"],
        "active": person.get("active", True),
        "emails": [{"value": person["address"], "primary": True}],
        "externalId": person.get("number", ""),
    }


def _give_role(held: dict[str, str], person: str, role: str, is_change: bool) -> None:
    # A delayed change does not bring back somebody who was removed meanwhile.
    if person in held or not is_change:
        held[person] = role


def _spaces(app: Flask, cloud: Cloud) -> None:
    @app.get("/spaces")
    def spaces() -> ResponseReturnValue:
        versions = cloud.state.versions
        rows = [{"id": i, **space, "version": str(versions.get(i, 1))} for i, space in cloud.state.spaces.items()]
        return jsonify(totalResults=len(rows), Resources=cloud.page(rows))

    @app.get("/spaces/<ident>/members")
    def members(ident: str) -> ResponseReturnValue:
        rows = [{"id": person, "role": role} for person, role in cloud.state.members.get(ident, {}).items()]
        return jsonify(totalResults=len(rows), Resources=cloud.page(rows))

    @app.put("/spaces/<ident>/members/<person>")
    def set_role(ident: str, person: str) -> ResponseReturnValue:
        role = request.get_json()["role"]
        if role not in ROLES:
            return jsonify(detail=f"There is no role {role}."), 400
        held = cloud.state.members.setdefault(ident, {})
        cloud.change(partial(_give_role, held, person, role, person in held), ident)
        return jsonify(role=role)

    @app.delete("/spaces/<ident>/members/<person>")
    def remove(ident: str, person: str) -> ResponseReturnValue:
        role = cloud.state.members.get(ident, {}).get(person)
        if role is None:
            return jsonify(detail="No such member."), 404
        if role == "full" and cloud.manners.reduce_first:
            return jsonify(detail="A full member has to be reduced before they are removed."), 409
        if role != "guest" and cloud.manners.waits_for_person:
            return jsonify(detail="It waits until they agree."), 202
        cloud.change(lambda: cloud.state.members[ident].pop(person, None), ident)
        return "", 204

    @app.get("/activity")
    def activity() -> ResponseReturnValue:
        return jsonify(totalResults=len(cloud.state.activity), Resources=cloud.page(cloud.state.activity))


def _tokens(app: Flask, cloud: Cloud) -> None:
    @app.get("/tokens")
    def tokens() -> ResponseReturnValue:
        rows = [{"id": ident, **token} for ident, token in cloud.state.tokens.items()]
        return jsonify(totalResults=len(rows), Resources=cloud.page(rows))

    @app.post("/oauth/revoke")
    def revoke() -> ResponseReturnValue:
        # RFC 7009, 2.2: an unknown token counts as revoked.
        token = request.form["token"]
        if token in cloud.state.tokens:
            cloud.change(lambda: cloud.state.tokens.pop(token, None), cloud.state.tokens[token]["space"])
        return "", 200

    @app.post("/oauth/introspect")
    def introspect() -> ResponseReturnValue:
        token = cloud.state.tokens.get(request.form["token"])
        if token is None:
            return jsonify(active=False)
        return jsonify(active=True, scope=token["scope"], client_id=token["app"], username=token["person"])

    @app.get("/sessions")
    def sessions() -> ResponseReturnValue:
        rows = [{"id": ident, **session} for ident, session in cloud.state.sessions.items()]
        return jsonify(totalResults=len(rows), Resources=cloud.page(rows))

    @app.delete("/sessions/<ident>")
    def end(ident: str) -> ResponseReturnValue:
        cloud.change(lambda: cloud.state.sessions.pop(ident, None))
        return "", 204


class CloudServer(AppServer):
    """The service on loopback, in its own thread."""

    def __init__(self, cloud: Cloud, port: int) -> None:
        super().__init__(cloud.app(), port)
        self.cloud = cloud
