"""Routes: one table from which both the URL map and the OpenAPI document are made.

A handler gets the unit (one transaction as whoever is signed in), the checked body or query, and the ids of its
path. What it returns is the answer; raising is how it says no.
"""

from __future__ import annotations

import hashlib
import os
import random
import re
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar
from urllib.parse import urlencode
from uuid import UUID

import orjson
from flask import Flask, Response, current_app, g, request
from pydantic import BaseModel, ValidationError
from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert

from openlatch.api import reader
from openlatch.api.door import refuse_unusable
from openlatch.errors import (
    BadInput,
    Collision,
    Conflict,
    NotAllowed,
    NotSignedIn,
    OutcomeUnknown,
    ReadOnly,
    RegisterDown,
    TooMany,
)
from openlatch.json_values import JsonObject, JsonValue
from openlatch.service.acting import visits
from openlatch.service.identity import authentication
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists.engine import Page
from openlatch.store.tables import IdempotencyKey

Handler = TypeVar("Handler", bound=Callable[..., Any])
# What a call answers: a JSON object, which the model of its route describes.
Answer = Mapping[str, object]
COOKIE = "openlatch_session"
PREFIX = "/api/v1"
JSON = "application/json"
MERGE_PATCH = "application/merge-patch+json"


class Busy:
    """How many calls of each asker are being answered in this process. One asker never has all its threads."""

    most = 12

    def __init__(self) -> None:
        self._going_on: Counter[object] = Counter()
        self._lock = threading.Lock()

    @contextmanager
    def one_more(self, who: object) -> Iterator[None]:
        """One more call of somebody's. TooMany when they have enough."""
        with self._lock:
            if self._going_on[who] >= self.most:
                raise TooMany("Too many of your calls are being answered at once.", "Wait for some of them.", 1)
            self._going_on[who] += 1
        try:
            yield
        finally:
            with self._lock:
                self._going_on[who] -= 1
                if not self._going_on[who]:
                    del self._going_on[who]


BUSY = Busy()


@dataclass(frozen=True, slots=True)
class Route:
    """One call of the API."""

    method: str
    path: str
    name: str
    summary: str
    handler: Callable[..., Any]
    answer: type[BaseModel] | None
    body: type[BaseModel] | None = None
    query: type[BaseModel] | None = None
    status: int = 200
    open: bool = False
    streams: bool = False
    tag: str = ""
    # Whether somebody may make it while they act in an account, on its owner's behalf: it has to be about that account
    # and no other. What does not say so is closed to them.
    inside: bool = False
    # Whether the answer contains a secret, which is not stored for replays.
    secret: bool = False

    @property
    def is_own(self) -> bool:
        """Whether it is about one's own sign-in, filters and what one is told, which also an auditor keeps."""
        return self.tag in ("me", "session", "tokens", "notices", "filters")

    @property
    def only_asks(self) -> bool:
        """Whether it changes nothing, although its question is sent as a body."""
        return self.path.endswith("/preview") or self.path in ("/access/suppose", "/rules/own/check")

    @property
    def changes(self) -> bool:
        """Whether the call may change something."""
        return self.method not in ("GET", "HEAD")


@dataclass
class Routes:
    """The table of routes."""

    table: list[Route] = field(default_factory=list)

    def __iter__(self) -> Iterator[Route]:
        return iter(self.table)

    def add(
        self, method: str, path: str, summary: str, answer: type[BaseModel] | None, **more: Any
    ) -> Callable[[Handler], Handler]:
        """A decorator that puts a handler into the table."""

        def put(handler: Handler) -> Handler:
            tag = path.strip("/").split("/")[0]
            name = getattr(handler, "__name__", path)
            self.table.append(Route(method, path, name, summary, handler, answer, tag=tag, **more))
            return handler

        return put

    def install(self, app: Flask) -> None:
        """Put every route into the app's URL map."""
        for route in self.table:
            app.add_url_rule(PREFIX + route.path, route.name, _view(route), methods=[route.method])


# Whether answers are checked before they are sent.
CHECKED = bool(os.environ.get("OPENLATCH_CHECK_ANSWERS"))

# Every route is added to this table by the module of its room.
api = Routes()


def the_service() -> Service:
    """The service that this app serves."""
    service: Service = current_app.extensions["openlatch"]
    return service


def challenge(error: NotSignedIn | NotAllowed) -> dict[str, str]:
    """The WWW-Authenticate header that says what is wrong with a token (RFC 6750, section 3); none if there was no
    token.
    """
    if isinstance(error, NotAllowed):
        said = ', error="insufficient_scope", scope="write"' if isinstance(error, ReadOnly) else ""
        return {"WWW-Authenticate": f'Bearer realm="Open Latch"{said}'} if said else {}
    said = ', error="invalid_token"' if request.headers.get("Authorization") else ""
    return {"WWW-Authenticate": f'Bearer realm="Open Latch"{said}'}


def viewer() -> Viewer:
    """Who is asking: by a bearer token, else by the session's cookie. NotSignedIn when nobody is."""
    changes = request.method not in ("GET", "HEAD")
    found = _asker(request.headers.get("X-CSRF-Token", "") if changes else None)()
    if changes and not found.may_write:
        raise ReadOnly("This token may only read.", "Use a token with the scope write.")
    return found


def asker() -> Callable[[], Viewer]:
    """What tells, now and later, who opened the call that is being answered. NotSignedIn when nobody is any more."""
    return _asker(None)


def _asker(csrf: str | None) -> Callable[[], Viewer]:
    service, header = the_service(), request.headers.get("Authorization", "")
    if header:
        scheme, _, token = header.partition(" ")
        if scheme.lower() != "bearer" or not token:
            raise NotSignedIn("The Authorization header is not a bearer token.", "Send: Authorization: Bearer …")
        exchanged = token.count(".") == 2
        known = visits.viewer_of_exchanged if exchanged else authentication.viewer_of_token
        return lambda: known(service, token.strip())
    cookie = request.cookies.get(COOKIE)
    if not cookie:
        raise NotSignedIn("Nobody is signed in.", "Sign in, or send an API token.")
    return lambda: authentication.viewer_of_session(service, cookie, csrf)


def perhaps_viewer() -> Viewer | None:
    """Who is asking, or None when nobody is signed in: for what can be done either way."""
    if not request.headers.get("Authorization") and not request.cookies.get(COOKIE):
        return None
    try:
        return viewer()
    except NotSignedIn:
        return None


def origin() -> str:
    """The network address that the call comes from."""
    return request.remote_addr or "unknown"


def _view(route: Route) -> Callable[..., Response]:
    def view(**path: UUID | str) -> Response:
        # Limit simultaneous calls per asker, to leave threads for others.
        who = None if route.open else viewer()
        with BUSY.one_more(who.sign_in if who is not None else origin()):
            answered = answer(who, path)
        # Last: what is kept under an Idempotency-Key is in English, and may be asked for again in another language.
        return reader.in_their_language(answered, route.answer)

    def answer(who: Viewer | None, path: dict[str, UUID | str]) -> Response:
        if who is not None and who.inside is not None and not route.inside:
            raise NotAllowed(
                f"This is not about {who.inside.account_name}, in which you act.", "Switch out of it first."
            )
        if who is not None and who.auditor and route.changes and not (route.is_own or route.only_asks):
            raise NotAllowed("An auditor sees everything and changes nothing.", "Ask an administrator to do it.")
        given: JsonObject = dict(path)
        refuse_unusable([request.args.to_dict(), *path.values()])
        if route.body is not None:
            given["body"] = _checked(route.body, _json(), as_json=True)
        if route.query is not None:
            given["query"] = _checked(route.query, request.args.to_dict())
        if who is None:
            return _as_response(route, route.handler(**given))
        # Retry collisions, except with a streamed body, which is consumed.
        for wait in () if route.streams else _WAITS:
            try:
                return _answered(route, who, given)
            except Collision:
                time.sleep(wait * (1 + random.random()))  # noqa: S311  only so that two do not meet again
        return _answered(route, who, given)

    return view


# Seconds to wait before retrying after a collision.
_WAITS = (0.05, 0.2, 0.5)


def _answered(route: Route, who: Viewer, given: Mapping[str, object]) -> Response:
    if route.method == "GET" and not route.streams:
        try:
            with the_service().reading(who, route.name) as unit:
                if unit is not None:
                    answered = _as_response(route, route.handler(unit, **given))
                    if not unit.has_written:
                        return answered
        except (RegisterDown, Collision):
            # The primary answers as well: a standby may be away, behind, or asked for what changes something.
            pass
    g.under_a_key = route.method == "POST" and not route.streams and "Idempotency-Key" in request.headers
    with the_service().unit(who) as unit:
        once = route.method == "POST" and not route.streams
        key = request.headers.get("Idempotency-Key") if once else None
        return _once(route, unit, key, given) if key else _as_response(route, route.handler(unit, **given))


def may_be_repeated(error: RegisterDown) -> bool:
    """Whether a call can be sent again without looking first: it was undone, or it is done once under its key.

    Only some calls heed an Idempotency-Key, so that its being sent is not enough.
    """
    return not isinstance(error, OutcomeUnknown) or g.get("under_a_key", False)


def _json() -> JsonValue:
    if request.mimetype != JSON and not (request.method == "PATCH" and request.mimetype == MERGE_PATCH):
        told = f"The body is {request.mimetype}." if request.mimetype else "The body has no type."
        raise BadInput(told, f"Send {JSON}.")
    try:
        given = orjson.loads(request.get_data())
    except orjson.JSONDecodeError as error:
        raise BadInput(f"The body is not JSON: {error}.", "Send one JSON object.") from None
    refuse_unusable(given)
    return given


def _checked(model: type[BaseModel], given: object, as_json: bool = False) -> BaseModel:
    """What was sent, as a model. In JSON a number is no truth and a truth is no number; a query has text only."""
    try:
        return model.model_validate_json(request.get_data(), strict=True) if as_json else model.model_validate(given)
    except ValidationError as error:
        fields = {".".join(map(str, e["loc"])) or "body": e["msg"] for e in error.errors(include_url=False)}
        named = "; ".join(f"{name}: {reason}" for name, reason in fields.items())
        raise BadInput(f"The request does not fit: {named}.", "Look at the fields named.", fields) from None


def _once(route: Route, unit: Unit, key: str, given: Mapping[str, object]) -> Response:
    """Answer a POST that carries an Idempotency-Key: the same call again gets the same answer again.

    The key's row is written first, in the call's own transaction, so that of two at once the second waits for the
    first to be done.
    """
    refuse_unusable(key)
    if len(key) > 200:
        raise BadInput("The Idempotency-Key is too long.", "Use at most 200 characters, such as a UUID.")
    wanted = hashlib.sha256(request.full_path.encode() + b"\n" + request.get_data()).digest()
    held = {"organisation_id": unit.viewer.organisation, "sign_in_id": unit.viewer.sign_in, "key": key}
    fresh = unit.db.execute(
        insert(IdempotencyKey)
        .values(**held, request_hash=wanted, status=0, body=b"")
        .on_conflict_do_nothing()
        .returning(IdempotencyKey.id)
    ).scalar()
    if fresh is None:
        row = unit.db.scalars(select(IdempotencyKey).filter_by(**held)).one()
        if row.request_hash != wanted:
            raise Conflict("This Idempotency-Key was used for another call.", "Use a fresh key.")
        if route.secret:
            raise Conflict("This was answered already, with a secret that is not kept.", "Make a new one.")
        return Response(row.body, row.status, content_type=JSON, headers={"Idempotency-Replayed": "true"})
    response = _as_response(route, route.handler(unit, **given))
    row = unit.db.get_one(IdempotencyKey, fresh)
    row.status, row.body = response.status_code, b"" if route.secret else response.get_data()
    return response


def _as_response(route: Route, found: BaseModel | Page | Response) -> Response:
    if isinstance(found, Response):
        return found
    headers = {}
    if isinstance(found, Page) and found.next:
        headers["Link"] = f'<{_next_address(found.next)}>; rel="next"'
    version = getattr(found, "version", None)
    if version is not None:
        headers["ETag"] = f'"{version}"'
    return Response(as_json(found, route.answer), route.status, content_type=JSON, headers=headers)


def as_json(found: BaseModel | Page, promised: type[BaseModel] | None = None) -> bytes:
    """An answer as JSON, with the fields that were set; the rows of a list are sent as they were read.

    Where answers are checked (``OPENLATCH_CHECK_ANSWERS``, as in tests), AssertionError for one that is not what was
    ``promised``.
    """
    if isinstance(found, Page):
        rows = {"rows": found.rows, "next": found.next, "count": found.count}
        if CHECKED and promised is not None:
            kept = promised.model_validate(rows).model_dump(exclude_unset=True)["rows"]
            undeclared = {
                field for row, told in zip(found.rows, kept, strict=True) for field in row.keys() - told.keys()
            }
            assert not undeclared, f"undeclared fields: {sorted(undeclared)}"
        return orjson.dumps(rows)
    if CHECKED and promised is not None:
        answer = found.model_dump(exclude_unset=True)
        assert promised.model_validate(answer).model_dump(exclude_unset=True).keys() == answer.keys()
    return orjson.dumps(found, default=_fields)


def _fields(answer: object) -> dict[str, object]:
    """The fields of a model that were set. Three times as quick as a dump, which counts for thousands of rows."""
    if not isinstance(answer, BaseModel):
        raise TypeError(f"{type(answer).__name__} is no answer")
    held, given = vars(answer), answer.model_fields_set
    return held if len(held) == len(given) else {name: value for name, value in held.items() if name in given}


def _next_address(cursor: str) -> str:
    return f"{request.path}?{urlencode({**request.args.to_dict(), 'cursor': cursor})}"


def if_match() -> int | None:
    """The version in If-Match, or None when it was not sent. BadInput for anything that is not one."""
    header = request.headers.get("If-Match", "").strip()
    if not header or header == "*":
        return None
    if re.fullmatch(r'"[0-9]{1,18}"|[0-9]{1,18}', header) is None:
        raise BadInput("If-Match does not hold a version.", "Send the ETag that you were given.")
    return int(header.strip('"'))
