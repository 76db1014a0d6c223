"""The Flask application: the API, the event stream, the console's files, and what every answer carries."""

from __future__ import annotations

import gzip
import mimetypes
from collections.abc import Callable, Collection, Sequence
from functools import cache
from pathlib import Path

import orjson
import psycopg
from flask import Flask, Response, request, send_from_directory
from sqlalchemy.exc import DataError
from structlog import get_logger
from werkzeug.exceptions import HTTPException, MethodNotAllowed, NotFound

from openlatch import schemas
from openlatch.api import health, oauth, oidc, openapi, reader, request_ids, scim, signal_streams, signals
from openlatch.api.events import Broker
from openlatch.api.paths import CALLS, FILES, SIGNS_OF_LIFE
from openlatch.api.routes import api
from openlatch.api.routing import COOKIE, PREFIX, asker, challenge, may_be_repeated
from openlatch.errors import (
    BadInput,
    FactorNeeded,
    Held,
    NotAllowed,
    NotSignedIn,
    OpenLatchError,
    Outdated,
    RegisterDown,
    TooMany,
)
from openlatch.json_values import JsonObject
from openlatch.languages import ENGLISH
from openlatch.service.identity import authentication
from openlatch.service.reviews import calendar_feed as reviews_calendar_feed
from openlatch.service.unit import Service, Viewer

log = get_logger()
BUILT = Path(__file__).parent / "built"
DOCS = Path(__file__).parent / "docs"
LARGEST_BODY = 1 << 20
# Bytes from which an answer is sent compressed.
WORTH_COMPRESSING = 2048
# Never pages of the console.
_NO_PAGES = (*CALLS, *FILES, *SIGNS_OF_LIFE)
# Compressed copies by their coding, the smallest first.
_CODINGS = {"br": "br", "gzip": "gz"}
# Set by the console to what its reader has chosen.
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


@cache
def _described() -> bytes:
    """The OpenAPI document: nearly two seconds of work, and it needs every model built."""
    return orjson.dumps(openapi.document(api))


def warm_up() -> None:
    """Do once, before the web processes fork, what each of them would do at its start."""
    _described()
    authentication.warm_up()


def make_app(
    service: Service,
    database_url: str,
    *,
    metrics_token: str = "",
    takes_request_ids: bool = False,
    logs_requests: bool = False,
) -> Flask:
    """The application for a service; ``database_url`` is where the event stream listens.

    Figures are given to whoever has ``metrics_token``, and to nobody without one. Request ids are taken from a proxy
    only with ``takes_request_ids``.
    """
    app = Flask("openlatch", static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = LARGEST_BODY
    app.extensions["openlatch"] = service
    broker = Broker(database_url)
    request_ids.install(app, takes_given=takes_request_ids, logs_all=logs_requests)
    health.install(app, service, metrics_token)
    api.install(app)
    app.register_blueprint(oauth.pages)
    app.register_blueprint(oidc.pages)
    app.register_blueprint(signals.pages)
    app.register_blueprint(signal_streams.pages)
    app.register_blueprint(scim.calls())

    @app.get(f"{PREFIX}/openapi.json")
    def openapi_document() -> Response:
        return Response(_described(), content_type="application/json")

    @app.get(f"{PREFIX}/events")
    def events() -> Response:
        return _stream(service, broker)

    @app.get("/calendar/<token>.ics")
    def calendar_feed(token: str) -> Response:
        return Response(reviews_calendar_feed.read(service, token), content_type="text/calendar; charset=utf-8")

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
    files, documents = _files_in(BUILT), _files_in(DOCS)
    languages = sorted(name.removesuffix("/index.html") for name in files if name.endswith("/index.html"))

    def on_http(error: HTTPException) -> Response:
        name = request.path.lstrip("/")
        if isinstance(error, NotFound) and request.method in ("GET", "HEAD") and f"{name}/".startswith("docs/"):
            return _document(documents, name.removeprefix("docs").removeprefix("/"))
        is_page = name in files or not f"{request.path}/".startswith(_NO_PAGES)
        if not isinstance(error, NotFound) or request.method not in ("GET", "HEAD") or not is_page:
            return _on_http(error)
        if "index.html" not in files:
            return Response("The console is not built. Run: make console\n", 503, content_type="text/plain")
        if name in files:
            return _asset(name, {coding for coding in _CODINGS if f"{name}.{_CODINGS[coding]}" in files})
        if name.partition("/")[0] in languages:
            # A file of another version: a page in its place would be taken for a script.
            return _on_http(error)
        return _page(languages)

    return on_http


def _page(languages: Sequence[str]) -> Response:
    """The console: in the language that the reader has chosen, or else in the first that their browser asks for."""
    chosen = reader.language() if reader.language() in languages else ENGLISH
    sent = send_from_directory(BUILT, "index.html" if chosen == ENGLISH else f"{chosen}/index.html", max_age=0)
    sent.content_language.add(chosen)
    sent.vary.update(("Accept-Language", "Cookie"))
    return sent


def _asset(name: str, codings: Collection[str]) -> Response:
    """A file of the console: the smallest of its compressed copies that the browser takes."""
    coding = next((one for one in _CODINGS if one in codings and request.accept_encodings[one]), None)
    max_age = 31536000 if "assets/" in name else 0
    kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
    path = f"{name}.{_CODINGS[coding]}" if coding else name
    sent = send_from_directory(BUILT, path, mimetype=kind, max_age=max_age)
    sent.headers["Content-Disposition"] = "inline"
    if codings:
        sent.vary.add("Accept-Encoding")
    if coding:
        sent.content_encoding = coding
    return sent


def _files_in(folder: Path) -> frozenset[str]:
    return frozenset(path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())


def _document(documents: frozenset[str], name: str) -> Response:
    """A page of the documentation, which anybody may read: it says nothing about this organisation."""
    if "index.html" not in documents:
        return Response("The documentation is not built. Run: make docs\n", 503, content_type="text/plain")
    if not name and not request.path.endswith("/"):
        return Response(status=308, headers={"Location": "/docs/"})
    if (name or "index.html") in documents:
        return send_from_directory(DOCS, name or "index.html", max_age=0)
    lost = send_from_directory(DOCS, "404.html", max_age=0)
    lost.status_code = 404
    return lost


def _problem(
    status: int,
    kind: str,
    title: str,
    detail: str,
    remedy: str = "",
    fields: dict[str, str] | None = None,
    breaches: list[dict[str, str]] | None = None,
    passkey: JsonObject | None = None,
) -> Response:
    body = {
        "type": f"urn:openlatch:problem:{kind}",
        "title": title,
        "status": status,
        "detail": detail,
        "remedy": remedy,
        "fields": fields or {},
        "breaches": breaches or [],
        "passkey": passkey,
        "request_id": request_ids.of_this_request(),
    }
    sent = Response(orjson.dumps(body), status, content_type="application/problem+json")
    return reader.in_their_language(sent, schemas.Problem)


def _kind(name: str) -> str:
    return "".join(f"-{c.lower()}" if c.isupper() else c for c in name).strip("-")


def _on_ours(error: OpenLatchError) -> Response:
    fields = error.fields if isinstance(error, (BadInput, Outdated)) else None
    breaches = error.breaches if isinstance(error, Held) else None
    kind = _kind(type(error).__name__)
    passkey = error.passkey if isinstance(error, FactorNeeded) else None
    response = _problem(error.status, kind, error.title, error.detail, error.remedy, fields, breaches, passkey)
    if isinstance(error, (NotSignedIn, NotAllowed)):
        response.headers.update(challenge(error))
    if isinstance(error, TooMany) or (isinstance(error, RegisterDown) and may_be_repeated(error)):
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
        "The service could not answer this call.",
        "Look whether anything was changed, and try again. If it stays so, quote this to whoever runs the service: "
        f"{request_ids.of_this_request()}",
    )


def _compress(response: Response) -> None:
    """Compress larger answers to reads by a browser, which may be far away; programs are spared the work.

    The session's cookie is never sent by another site (SameSite), so none can measure how long an answer gets.
    """
    is_asked = request.method == "GET" and COOKIE in request.cookies and bool(request.accept_encodings["gzip"])
    is_plain = response.status_code == 200 and response.mimetype == "application/json" and not response.is_streamed
    if not is_asked or not is_plain or response.content_encoding or len(response.get_data()) < WORTH_COMPRESSING:
        return
    response.set_data(gzip.compress(response.get_data(), compresslevel=5, mtime=0))
    response.content_encoding = "gzip"
    response.vary.add("Accept-Encoding")


def _finish(response: Response) -> Response:
    _compress(response)
    response.headers["Content-Security-Policy"] = POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "no-referrer"
    response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
    response.headers.setdefault("Cache-Control", "no-store")
    if request.is_secure:
        response.headers["Strict-Transport-Security"] = "max-age=31536000"
    return response
