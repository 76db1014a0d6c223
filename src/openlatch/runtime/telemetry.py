"""Traces and metrics by OpenTelemetry, sent by OTLP over HTTP; off unless ``otlp_endpoint`` is set.

A span for each request, task, statement of the database and call of a system. Paths, addresses and values are in none
of them: requests go by their route, statements have placeholders. How sending is done otherwise (headers, intervals,
resource attributes) is set by OpenTelemetry's own variables, OTEL_…
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, cast

from flask import Flask, Response, g, request
from sqlalchemy import Connection, event
from sqlalchemy.engine import ExceptionContext

from openlatch import __version__
from openlatch.adapters import NOTHING, Adapter, Found, Maker
from openlatch.api.request_ids import PROBES, of_this_request
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.runtime.settings import Settings
from openlatch.service.unit import Service

if TYPE_CHECKING:
    from opentelemetry.sdk.metrics import MeterProvider
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.trace import Span

# Calls of an adapter that reach its system.
_CALLS = frozenset({"check", "apply", "confirm", "set_rules", "set_guards"})
SERVER_ERROR = 500
MOST_OF_A_STATEMENT = 2000
# Where the span of a statement is kept while it runs.
_SPAN = "openlatch_span"
_LITERAL = re.compile(r"'(?:[^']|'')*'")


def start(settings: Settings, process: str) -> Telemetry | None:
    """Start sending what a process does; None where no endpoint is set. BadInput without the packages for it."""
    if not settings.otlp_endpoint:
        return None
    try:
        from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
        from opentelemetry.sdk.metrics import MeterProvider
        from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
        from opentelemetry.sdk.resources import Resource
        from opentelemetry.sdk.trace import TracerProvider
        from opentelemetry.sdk.trace.export import BatchSpanProcessor
    except ImportError as error:
        raise BadInput(
            f"otlp_endpoint is set, and OpenTelemetry is not installed: {error}.", "Install openlatch[telemetry]."
        ) from error
    endpoint = settings.otlp_endpoint.rstrip("/")
    instance = f"{process}-{os.getpid()}"
    resource = Resource.create(
        {"service.name": "openlatch", "service.version": __version__, "service.instance.id": instance}
    )
    traces = TracerProvider(resource=resource)
    traces.add_span_processor(BatchSpanProcessor(OTLPSpanExporter(f"{endpoint}/v1/traces")))
    reader = PeriodicExportingMetricReader(OTLPMetricExporter(f"{endpoint}/v1/metrics"))
    return Telemetry(traces, MeterProvider([reader], resource=resource))


class Telemetry:
    """What a process sends: its spans and its metrics."""

    def __init__(self, traces: TracerProvider, metrics: MeterProvider) -> None:
        self._traces, self._metrics = traces, metrics
        self._tracer = traces.get_tracer("openlatch", __version__)
        meter = metrics.get_meter("openlatch", __version__)
        self._requests = meter.create_histogram(
            "http.server.request.duration", unit="s", description="Duration of HTTP server requests."
        )
        self._tasks = meter.create_histogram("openlatch.task.duration", unit="s", description="Duration of tasks.")

    def stop(self) -> None:
        """Send what is left."""
        self._traces.shutdown()
        self._metrics.shutdown()

    def watch_database(self, service: Service) -> None:
        """A span for each statement."""
        from opentelemetry.trace import SpanKind

        def begin(connection: Connection, _cursor: object, statement: str, *_: object) -> None:
            # With placeholders: values are passed apart. What is written out all the same is left out.
            told = _LITERAL.sub("'…'", statement)[:MOST_OF_A_STATEMENT]
            known = {"db.system.name": "postgresql", "db.query.text": told}
            name = statement.split(maxsplit=1)[0].upper()
            connection.info[_SPAN] = self._tracer.start_span(name, kind=SpanKind.CLIENT, attributes=known)

        def end(connection: Connection, *_: object) -> None:
            connection.info.pop(_SPAN).end()

        def fail(failed: ExceptionContext) -> None:
            span = failed.connection.info.pop(_SPAN, None) if failed.connection is not None else None
            if span is not None:
                _mark(span, True)
                span.end()

        for name, listener in (("before_cursor_execute", begin), ("after_cursor_execute", end), ("handle_error", fail)):
            event.listen(service.engine, name, listener)

    def watch_requests(self, app: Flask) -> None:
        """A span for each request but probes, continuing the trace that it names (W3C Trace Context)."""
        from opentelemetry.propagate import extract
        from opentelemetry.trace import SpanKind

        def begin() -> None:
            rule = request.url_rule.rule if request.url_rule is not None else ""
            if rule in PROBES:
                return
            known = {"http.request.method": request.method, "http.route": rule}
            given = {name.lower(): value for name, value in request.headers.items()}
            g.span = self._tracer.start_as_current_span(
                f"{request.method} {rule}".strip(),
                extract(given),
                SpanKind.SERVER,
                {**known, "openlatch.request.id": of_this_request()},
            )
            g.open_span = g.span.__enter__()
            g.span_began = time.perf_counter()

        def note(response: Response) -> Response:
            if "open_span" in g:
                rule = request.url_rule.rule if request.url_rule is not None else ""
                g.open_span.set_attribute("http.response.status_code", response.status_code)
                _mark(g.open_span, response.status_code >= SERVER_ERROR)
                told: dict[str, str | int] = {
                    "http.request.method": request.method,
                    "http.route": rule,
                    "http.response.status_code": response.status_code,
                }
                self._requests.record(time.perf_counter() - g.span_began, told)
            return response

        def end(error: BaseException | None) -> None:
            span = g.pop("span", None)
            if span is not None:
                span.__exit__(type(error) if error else None, error, error.__traceback__ if error else None)

        app.before_request(begin)
        app.after_request(note)
        app.teardown_request(end)

    @contextmanager
    def task(self, name: str, told: Mapping[str, object]) -> Iterator[None]:
        """A span around a task of the worker."""
        began = time.perf_counter()
        known = {f"openlatch.{key}": str(value) for key, value in told.items()}
        try:
            with self._tracer.start_as_current_span(f"task {name}", attributes=known):
                yield
        finally:
            self._tasks.record(time.perf_counter() - began, {"openlatch.task": name})

    def watch_systems(self, service: Service) -> Service:
        """The service with a span around each call of a system."""
        watched = {kind: partial(self._made, kind, maker) for kind, maker in service.adapters.items()}
        return replace(service, adapters=watched)

    def _made(self, kind: str, maker: Maker, settings: JsonObject, secret: str) -> Adapter:
        return cast(Adapter, _Watched(kind, maker(settings, secret), self))

    @contextmanager
    def call(self, kind: str, name: str, what: str) -> Iterator[None]:
        """A span around one call of a system."""
        from opentelemetry.trace import SpanKind

        known = {"openlatch.system.kind": kind, "openlatch.step.kind": what}
        with self._tracer.start_as_current_span(f"{kind} {name}", kind=SpanKind.CLIENT, attributes=known):
            yield


def _mark(span: Span, is_error: bool) -> None:
    from opentelemetry.trace import StatusCode

    if is_error:
        span.set_status(StatusCode.ERROR)


class _Watched:
    """An adapter whose calls are told."""

    def __init__(self, kind: str, adapter: Adapter, telemetry: Telemetry) -> None:
        self._kind, self._adapter, self._telemetry = kind, adapter, telemetry

    def __getattr__(self, name: str) -> object:
        found = getattr(self._adapter, name)
        return partial(self._called, name, found) if name in _CALLS else found

    def _called(self, name: str, call: Callable[..., object], *given: object) -> object:
        what = str(given[0]) if name in ("apply", "confirm") else ""
        with self._telemetry.call(self._kind, name, what):
            return call(*given)

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """The reading, with a span from its first to its last row."""
        with self._telemetry.call(self._kind, "read", ""):
            yield from self._adapter.read(since)
