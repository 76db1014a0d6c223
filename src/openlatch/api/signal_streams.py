"""Streams of security events that are sent from here, at the addresses that ``/.well-known/ssf-configuration`` names.

* ``/signals/stream``: make, read, change, replace, delete (OpenID Shared Signals Framework 1.0, section 8.1.1);
* ``/signals/status``, ``/signals/subjects/add`` and ``remove``, ``/signals/verify`` (8.1.2 to 8.1.4);
* ``/signals/poll/<stream>``: fetch events (RFC 8936).

A receiver shows the token that an administrator was given for it (RFC 6750).
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from functools import wraps
from uuid import UUID

import orjson
from flask import Blueprint, Response, request

from openlatch.api.routing import the_service
from openlatch.core import sent_signals as core
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject, JsonView
from openlatch.service.signals import streams
from openlatch.service.unit import Unit

MOST_BYTES = 256_000
# Whoever fetches may wait for an event so long; so many may at once, in a process.
SECONDS_TO_WAIT, BETWEEN_LOOKS = 10.0, 0.5
_WAITING = threading.BoundedSemaphore(4)
pages = Blueprint("signal_streams", __name__)
# Standards know 400 for what can't be used, where other calls of ours have 422.
UNUSABLE = 400
Call = Callable[[Unit, UUID], Response]


@pages.errorhandler(BadInput)
def unusable(error: BadInput) -> Response:
    """What can't be used, by the error that RFC 8935, section 2.4 has."""
    return _answer({"err": "invalid_request", "description": f"{error.detail} {error.remedy}".strip()}, UNUSABLE)


@pages.get("/.well-known/ssf-configuration")
def described() -> Response:
    """What there is (section 7.1)."""
    address = the_service().address
    return _answer(
        {
            "spec_version": "1_0",
            "issuer": address,
            "jwks_uri": f"{address}/.well-known/jwks.json",
            "delivery_methods_supported": [core.PUSH, core.POLL],
            "configuration_endpoint": f"{address}/signals/stream",
            "status_endpoint": f"{address}/signals/status",
            "add_subject_endpoint": f"{address}/signals/subjects/add",
            "remove_subject_endpoint": f"{address}/signals/subjects/remove",
            "verification_endpoint": f"{address}/signals/verify",
            "authorization_schemes": [{"spec_urn": "urn:ietf:rfc:6750"}],
            "default_subjects": "ALL",
        }
    )


def _answer(found: object, status: int = 200) -> Response:
    return Response(orjson.dumps(found), status, content_type="application/json")


def _asker() -> streams.Asker:
    scheme, _, shown = request.headers.get("Authorization", "").partition(" ")
    return streams.asker(the_service(), shown.strip() if scheme.lower() == "bearer" else "")


def _body() -> JsonView:
    """The JSON object that was sent."""
    if (request.content_length or 0) > MOST_BYTES:
        raise BadInput("The request is too large.", f"Send at most {MOST_BYTES} bytes.")
    if request.mimetype != "application/json":
        raise BadInput("The request is not JSON.", "Send application/json.")
    try:
        found = orjson.loads(request.get_data())
    except orjson.JSONDecodeError as error:
        raise BadInput(f"The request is not JSON: {error}.", "Send one JSON object.") from error
    if not isinstance(found, dict):
        raise BadInput("The request is no JSON object.", "Send one JSON object.")
    return found


def _call(view: Call) -> Callable[[], Response]:
    """A call by a receiver, about its own stream."""

    @wraps(view)
    def called() -> Response:
        who = _asker()
        with the_service().unit(who.viewer) as unit:
            return view(unit, who.stream)

    return called


@pages.get("/signals/stream")
@_call
def read(unit: Unit, ident: UUID) -> Response:
    """The stream, or without a ``stream_id`` the list of all: there is one at most."""
    if "stream_id" in request.args:
        streams.refuse_others(request.args, ident)
        return _answer(streams.configured(unit, ident))
    return _answer(streams.every(unit, ident))


@pages.post("/signals/stream")
@_call
def make(unit: Unit, ident: UUID) -> Response:
    """Make the stream."""
    return _answer(streams.make(unit, ident, _body()), 201)


@pages.patch("/signals/stream")
@_call
def change(unit: Unit, ident: UUID) -> Response:
    """Change what is named."""
    return _answer(streams.change(unit, ident, _identified(_body()), whole=False))


@pages.put("/signals/stream")
@_call
def replace(unit: Unit, ident: UUID) -> Response:
    """Replace what the receiver said of it."""
    return _answer(streams.change(unit, ident, _identified(_body()), whole=True))


@pages.delete("/signals/stream")
@_call
def end(unit: Unit, ident: UUID) -> Response:
    """Delete the stream, with what waits."""
    streams.refuse_others(_identified(request.args), ident)
    streams.end(unit, ident)
    return Response(status=204)


@pages.get("/signals/status")
@_call
def read_status(unit: Unit, ident: UUID) -> Response:
    """Whether events are sent."""
    streams.refuse_others(_identified(request.args), ident)
    return _answer(streams.status(unit, ident))


@pages.post("/signals/status")
@_call
def set_status(unit: Unit, ident: UUID) -> Response:
    """Enable, pause or disable it."""
    return _answer(streams.set_status(unit, ident, _identified(_body())))


@pages.post("/signals/subjects/add")
@_call
def add_subject(unit: Unit, ident: UUID) -> Response:
    """Send events about somebody again."""
    streams.set_subject(unit, ident, _identified(_body()), is_wanted=True)
    return Response(status=200)


@pages.post("/signals/subjects/remove")
@_call
def remove_subject(unit: Unit, ident: UUID) -> Response:
    """Send no more events about somebody."""
    streams.set_subject(unit, ident, _identified(_body()), is_wanted=False)
    return Response(status=204)


@pages.post("/signals/verify")
@_call
def verify(unit: Unit, ident: UUID) -> Response:
    """Have a verification event sent."""
    streams.verify(unit, ident, _identified(_body()))
    return Response(status=204)


def _identified(asked: JsonView) -> JsonView:
    if not isinstance(asked.get("stream_id"), str):
        raise BadInput("stream_id is missing.", "Send the one that the stream was given.")
    return asked


@pages.post("/signals/poll/<uuid:ident>")
def poll(ident: UUID) -> Response:
    """Fetch events; unless it is to be answered at once, wait a little for one."""
    who = _asker()
    asked = _body()
    streams.refuse_others({"stream_id": str(ident)}, who.stream)
    found = _fetched(who, asked)
    if not found.sets and not asked.get("returnImmediately") and asked.get("maxEvents") != 0:
        found = _waited(who, found)
    told: JsonObject = {"sets": dict(found.sets)}
    return _answer({**told, "moreAvailable": True} if found.more else told)


def _waited(who: streams.Asker, found: streams.Fetched) -> streams.Fetched:
    """What comes within a while. Without room to wait, nothing: the receiver asks again."""
    if not _WAITING.acquire(blocking=False):
        return found
    try:
        ends = time.monotonic() + SECONDS_TO_WAIT
        while not found.sets and time.monotonic() < ends:
            time.sleep(BETWEEN_LOOKS)
            found = _fetched(who, {})
    finally:
        _WAITING.release()
    return found


def _fetched(who: streams.Asker, asked: JsonView) -> streams.Fetched:
    with the_service().unit(who.viewer) as unit:
        return streams.fetch(unit, who.stream, asked)
