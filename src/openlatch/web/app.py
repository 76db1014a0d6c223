"""The Flask application: the API, the event stream, the console's files, and what every answer carries."""

from __future__ import annotations

from pathlib import Path

import orjson
from flask import Flask, Response, request, send_from_directory
from structlog import get_logger
from werkzeug.exceptions import HTTPException

from openlatch.errors import BadInput, Held, OpenLatchError, TooMany
from openlatch.service.context import Service
from openlatch.service.reviews import calendar
from openlatch.web import oauth, openapi
from openlatch.web.api_giving import api
from openlatch.web.events import Broker
from openlatch.web.routing import PREFIX, viewer

log = get_logger()
BUILT = Path(__file__).parent / "built"
LARGEST_BODY = 1 << 20
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
        stream = broker.stream(viewer().organisation)
        return Response(stream, content_type="text/event-stream", headers={"X-Accel-Buffering": "no"})

    @app.get("/calendar/<token>.ics")
    def calendar_feed(token: str) -> Response:
        return Response(calendar.read(service, token), content_type="text/calendar; charset=utf-8")

    @app.get("/healthz")
    def health() -> Response:
        return Response("ok\n", content_type="text/plain")

    @app.get("/", defaults={"path": ""})
    @app.get("/<path:path>")
    def console(path: str) -> Response:
        if path.startswith("api/"):
            return _problem(404, "not-found", "Not found", "There is no such call.", "See /api/v1/openapi.json.")
        if not (BUILT / "index.html").exists():
            return Response("The console is not built. Run: make console\n", 503, content_type="text/plain")
        if path and (BUILT / path).is_file():
            return send_from_directory(BUILT, path, max_age=31536000 if path.startswith("assets/") else 0)
        return send_from_directory(BUILT, "index.html", max_age=0)

    app.register_error_handler(OpenLatchError, _on_ours)
    app.register_error_handler(HTTPException, _on_http)
    app.register_error_handler(Exception, _on_anything)
    app.after_request(_finish)
    return app


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
    fields = error.fields if isinstance(error, BadInput) else None
    breaches = error.breaches if isinstance(error, Held) else None
    kind = _kind(type(error).__name__)
    response = _problem(error.status, kind, error.title, error.detail, error.remedy, fields, breaches)
    if isinstance(error, TooMany):
        response.headers["Retry-After"] = str(error.wait)
    return response


def _on_http(error: HTTPException) -> Response:
    return _problem(error.code or 500, "http", error.name, error.description or error.name)


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
