"""Whether the process lives, and whether it can answer."""

from __future__ import annotations

import hmac
import time

from flask import Flask, Response, g, request

from openlatch.errors import NotAllowed
from openlatch.service.unit import Service
from openlatch.store import figures


def install(app: Flask, service: Service, metrics_token: str) -> None:
    """Answer ``/healthz``, ``/readyz`` and, with a token, ``/metrics``."""

    @app.get("/healthz")
    def health() -> Response:
        return Response("ok\n", content_type="text/plain")

    @app.get("/readyz")
    def readiness() -> Response:
        why_not = figures.why_not_ready(service.engine)
        return Response(f"{why_not or 'ready'}\n", 503 if why_not else 200, content_type="text/plain")

    if metrics_token:
        _install_metrics(app, service, metrics_token)


def _install_metrics(app: Flask, service: Service, token: str) -> None:
    # Imported here: where the processes put their numbers has to be known before, and most have no need of it.
    from openlatch.api import metrics

    measured = metrics.Metrics(service.engine)

    def begin() -> None:
        g.measured_from = time.perf_counter()

    def end(response: Response) -> Response:
        if "measured_from" in g and request.endpoint is not None:
            spent = time.perf_counter() - g.measured_from
            measured.note(request.method, request.endpoint, response.status_code, spent)
        return response

    def show() -> Response:
        given = request.headers.get("Authorization", "").removeprefix("Bearer ")
        if not hmac.compare_digest(given.encode(), token.encode()):
            raise NotAllowed("The figures are for whoever has the token.", "Send Authorization: Bearer and the token.")
        return Response(measured.text(), content_type=metrics.CONTENT_TYPE)

    app.before_request(begin)
    app.after_request(end)
    app.add_url_rule("/metrics", "metrics", show)
