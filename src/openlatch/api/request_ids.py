"""An id for each request: in its answer, in what is logged about it, and in problems, so that somebody can quote it."""

from __future__ import annotations

import re
import time

import structlog
from flask import Flask, Response, g, request

from openlatch.core.ids import new_id

HEADER = "X-Request-Id"
# What a proxy in front may have given it. Nothing else gets into the log.
_USABLE = re.compile(r"[A-Za-z0-9_.:-]{8,64}")
# Asked every few seconds by whatever watches the service.
PROBES = ("/healthz", "/readyz", "/metrics")
log = structlog.get_logger()


def install(app: Flask, *, takes_given: bool, logs_all: bool) -> None:
    """Give each request its id: a new one, or with ``takes_given`` the one that a trusted proxy has given it.

    With ``logs_all`` each call is logged when it is answered; what fails is logged in any case.
    """

    def begin() -> None:
        given = request.headers.get(HEADER, "") if takes_given else ""
        g.request_id = given if _USABLE.fullmatch(given) else str(new_id())
        g.begun = time.perf_counter()
        structlog.contextvars.bind_contextvars(request_id=g.request_id)

    def end(response: Response) -> Response:
        if "request_id" in g:
            response.headers[HEADER] = g.request_id
            if logs_all and request.url_rule is not None and request.url_rule.rule not in PROBES:
                _log_answered(request.url_rule.rule, response.status_code, time.perf_counter() - g.begun)
        return response

    app.before_request(begin)
    app.after_request(end)
    app.teardown_request(_forget)


def of_this_request() -> str:
    """The id of the request that is being answered."""
    return str(g.request_id) if "request_id" in g else ""


def _log_answered(rule: str, status: int, seconds: float) -> None:
    # The rule and not the path: ids in it are nobody's business who reads logs.
    took = round(seconds * 1000, 1)
    log.info("request.answered", method=request.method, rule=rule, status=status, milliseconds=took)


def _forget(_: BaseException | None) -> None:
    structlog.contextvars.unbind_contextvars("request_id")
