"""The Flask application: the API, the event stream, the console's files, and what every answer carries."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import orjson
import psycopg
from flask import Flask, Response, request, send_from_directory
from sqlalchemy.exc import DataError
from structlog import get_logger
from werkzeug.exceptions import HTTPException, MethodNotAllowed, NotFound

from openlatch.api import oauth, openapi
from openlatch.api.events import Broker
from openlatch.api.routes import api
from openlatch.api.routing import PREFIX, asker, challenge
from openlatch.errors import BadInput, Held, NotAllowed, NotSignedIn, OpenLatchError, Outdated, TooMany
from openlatch.service.reviews import calendar_feed as reviews_calendar_feed
from openlatch.service.unit import Service, Viewer

log = get_logger()
BUILT = Path(__file__).parent / "built"
LARGEST_BODY = 1 << 20
# Prefixes of calls, never pages of the console.
_NO_PAGES = ("/api/", "/oauth/", "/scim/", "/.well-known/", "/calendar/", "/healthz/", "/assets/")
_REMEDIES = {
    405: "Use one of the methods in the header Allow.",
    408: "Send the body without pauses.",
    413: f"Send at most {LARGEST_BODY >> 20} MB; larger files go to {PREFIX}/imports.",
    415: "Send application/json.",
}
POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data:",
        "font-src 'self'",
        "connect-src 'self'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)


def make_app(service: Service, database_url: str) -> Flask:
    """The application for a service; ``database_url`` is where the event stream listens."""
    app = Flask("openlatch", static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = LARGEST_BODY
    app.extensions["openlatch"] = service
    broker = Broker(database_url)
    api.install(app)
    app.register_blueprint(oauth.pages)
    described = orjson.dumps(openapi.document(api))

    @app.get(f"{PREFIX}/openapi.json")
    def openapi_document() -> Response:
        return Response(described, content_type="application/json")

    @app.get(f"{PREFIX}/events")
    def events() -> Response:
        return _stream(service, broker)

    @app.get("/calendar/<token>.ics")
    def calendar_feed(token: str) -> Response:
        return Response(reviews_calendar_feed.read(service, token), content_type="text/calendar; charset=utf-8")

    @app.get("/healthz")
    def health() -> Response:
        return Response("ok\n", content_type="text/plain")

    app.register_error_handler(OpenLatchError, _on_ours)
    app.register_error_handler(HTTPException, _pages())
    app.register_error_handler(DataError, _on_data)
    app.register_error_handler(psycopg.DataError, _on_data)
    app.register_error_handler(Exception, _on_anything)
    app.after_request(_finish)
    return app


def _stream(service: Service, broker: Broker) -> Response:
    headers = {"X-Accel-Buffering": "no", "Connection": "close"}
    known = asker()

    def still() -> Viewer:
        who = known()
        if who.inside is not None:
            # Raises when that access has ended.
            with service.unit(who) as unit:
                assert unit.sight is not None
        return who

    who = still()
    stream = broker.open(who, still, request.environ) if request.method == "GET" else None
    return Response(stream, content_type="text/event-stream", headers=headers)


def _pages() -> Callable[[HTTPException], Response]:
    """What answers an error by HTTP. A path that no call has is a page of the console, which finds its own way."""
    # Only known file names are served; no path is built from the request.
    files = {path.relative_to(BUILT).as_posix() for path in BUILT.rglob("*") if path.is_file()}

    def on_http(error: HTTPException) -> Response:
        name = request.path.lstrip("/")
        is_page = name in files or not f"{request.path}/".startswith(_NO_PAGES)
        if not isinstance(error, NotFound) or request.method not in ("GET", "HEAD") or not is_page:
            return _on_http(error)
        if "index.html" not in files:
            return Response("The console is not built. Run: make console\n", 503, content_type="text/plain")
        if name in files:
            return send_from_directory(BUILT, name, max_age=31536000 if name.startswith("assets/") else 0)
        return send_from_directory(BUILT, "index.html", max_age=0)

    return on_http


def _problem(
    status: int,
    kind: str,
    title: str,
    detail: str,
    remedy: str = "",
    fields: dict[str, str] | None = None,
    breaches: list[dict[str, str]] | None = None,
) -> Response:
    body = {
        "type": f"urn:openlatch:problem:{kind}",
        "title": title,
        "status": status,
        "detail": detail,
        "remedy": remedy,
        "fields": fields or {},
        "breaches": breaches or [],
    }
    return Response(orjson.dumps(body), status, content_type="application/problem+json")


def _kind(name: str) -> str:
    return "".join(f"-{c.lower()}" if c.isupper() else c for c in name).strip("-")


def _on_ours(error: OpenLatchError) -> Response:
    fields = error.fields if isinstance(error, (BadInput, Outdated)) else None
    breaches = error.breaches if isinstance(error, Held) else None
    kind = _kind(type(error).__name__)
    response = _problem(error.status, kind, error.title, error.detail, error.remedy, fields, breaches)
    if isinstance(error, (NotSignedIn, NotAllowed)):
        response.headers.update(challenge(error))
    if isinstance(error, TooMany):
        response.headers["Retry-After"] = str(error.wait)
    return response


def _on_http(error: HTTPException) -> Response:
    if error.code is not None and error.code < 400:
        return Response(headers=error.get_headers(), status=error.code)
    if isinstance(error, NotFound):
        return _problem(404, "not-found", "Not found", "There is no such call.", f"See {PREFIX}/openapi.json.")
    response = _problem(
        error.code or 500, "http", error.name, error.description or error.name, _REMEDIES.get(error.code or 500, "")
    )
    if isinstance(error, MethodNotAllowed):
        response.headers["Allow"] = ", ".join(sorted(error.valid_methods or ()))
    return response


def _on_data(error: Exception) -> Response:
    """A value that the database refused came through the request checks: answer 400 and log it, so that the check can
    be mended.
    """
    log.warning("request.unusable", path=request.path, method=request.method, error=str(error))
    detail = "Something in the request is too large, or no text that can be kept."
    return _problem(422, "bad-input", BadInput.title, detail, "Look at numbers, dates and odd characters in it.")


def _on_anything(error: Exception) -> Response:
    log.error("request.failed", path=request.path, method=request.method, exc_info=error)
    return _problem(
        500,
        "failed",
        "Something went wrong",
        "The service could not answer this call; nothing was changed.",
        "Try again; if it stays so, tell an administrator the time, which is in the log.",
    )


def _finish(response: Response) -> Response:
    response.headers["Content-Security-Policy"] = POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "no-referrer"
    response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
    response.headers.setdefault("Cache-Control", "no-store")
    if request.is_secure:
        response.headers["Strict-Transport-Security"] = "max-age=31536000"
    return response
