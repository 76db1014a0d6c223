"""What is sent by OTLP, as OpenTelemetry's own messages read it: a span for each thing that is done, and no values."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
from flask import Flask
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from sqlalchemy import text

from openlatch.api import request_ids
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown
from openlatch.runtime import telemetry
from openlatch.runtime.settings import Settings
from openlatch.service.unit import Service

TRACE = "4bf92f3577b34da6a3ce929d0e0e4736"


class Collector:
    """A receiver of OTLP over HTTP."""

    def __init__(self) -> None:
        self.got: list[tuple[str, bytes]] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                outer.got.append((self.path, self.rfile.read(int(self.headers["Content-Length"]))))
                self.send_response(200)
                self.end_headers()

            def log_message(self, *_: object) -> None:
                """Nothing."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server.server_port}"

    def spans(self) -> dict[str, Any]:
        found = {}
        for path, body in self.got:
            if path == "/v1/traces":
                for resource in ExportTraceServiceRequest.FromString(body).resource_spans:
                    for scope in resource.scope_spans:
                        found |= {span.name: span for span in scope.spans}
        return found

    def metrics(self) -> set[str]:
        return {
            metric.name
            for path, body in self.got
            if path == "/v1/metrics"
            for resource in ExportMetricsServiceRequest.FromString(body).resource_metrics
            for scope in resource.scope_metrics
            for metric in scope.metrics
        }


@pytest.fixture
def collector() -> Iterator[Collector]:
    made = Collector()
    yield made
    made.server.shutdown()
    made.server.server_close()


class Quiet:
    """A system that answers, and is down for one kind of step."""

    def __init__(self, settings: dict[str, Any], secret: str) -> None:
        self.can = "what it can"

    def read(self, since: object) -> Iterator[int]:
        yield from range(3)

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        raise SystemDown("It is away.")


def test_nothing_is_sent_unless_it_is_said_where() -> None:
    """And nothing is loaded for it."""
    assert telemetry.start(Settings(), "web") is None


def test_requests_tasks_statements_and_systems_are_spans_without_values(collector: Collector, service: Service) -> None:
    """Under the trace that a request names; what fails is marked."""
    told = telemetry.start(Settings(otlp_endpoint=collector.address), "web")
    assert told is not None
    app = Flask("tried")
    request_ids.install(app, takes_given=False, logs_all=False)
    told.watch_requests(app)
    told.watch_database(service)

    @app.get("/link/<token>")
    def link(token: str) -> str:
        with service.engine.connect() as db:
            db.execute(text("select :value, 'written out'"), {"value": "a value of somebody"})
        return "here"

    @app.get("/healthz")
    def probe() -> str:
        return "well"

    @app.get("/broken")
    def broken() -> tuple[str, int]:
        return "no", 500

    with app.test_client() as http:
        http.get("/link/s3cret-t0ken", headers={"traceparent": f"00-{TRACE}-00f067aa0ba902b7-01"})
        http.get("/healthz")
        http.get("/broken")
    with told.task("read_system", {"system": "s1"}):
        watched = told.watch_systems(replace(service, adapters={"quiet": Quiet})).adapters["quiet"]({}, "")
        assert watched.can == "what it can"  # type: ignore[comparison-overlap]
        assert list(watched.read()) == [0, 1, 2]
        with pytest.raises(SystemDown):
            watched.apply(StepKind.REMOVE, {})
    told.stop()
    spans = collector.spans()
    request = spans["GET /link/<token>"]
    assert request.trace_id.hex() == TRACE
    known = {one.key: one.value for one in request.attributes}
    assert known["http.route"].string_value == "/link/<token>"
    assert known["http.response.status_code"].int_value == 200
    assert len(known["openlatch.request.id"].string_value) > 20
    statement = next(span for span in spans.values() if span.parent_span_id == request.span_id)
    assert statement.trace_id == request.trace_id
    assert spans["GET /broken"].status.code == 2
    assert "GET /healthz" not in spans
    task = spans["task read_system"]
    assert spans["quiet read"].parent_span_id == spans["quiet apply"].parent_span_id == task.span_id
    assert spans["quiet apply"].status.code == 2
    assert {"http.server.request.duration", "openlatch.task.duration"} <= collector.metrics()
    sent = b"".join(body for _, body in collector.got)
    assert b"a value of somebody" not in sent
    assert b"written out" not in sent
    assert b"s3cret-t0ken" not in sent


def test_a_receiver_that_is_away_holds_nobody_up(service: Service) -> None:
    """What can't be sent is dropped."""
    told = telemetry.start(Settings(otlp_endpoint="http://127.0.0.1:1"), "worker")
    assert told is not None
    with told.task("evaluate", {}):
        pass
    told.stop()
