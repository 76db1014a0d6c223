"""The web process (gunicorn)."""

from __future__ import annotations

import atexit
import gc
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import replace

import structlog
from flask import Flask
from gunicorn.app.base import BaseApplication
from werkzeug.middleware.proxy_fix import ProxyFix

from openlatch.api.app import make_app, warm_up
from openlatch.runtime.assembly import assemble, configure_logging
from openlatch.runtime.gunicorn_worker import Worker, prompt
from openlatch.runtime.settings import Settings
from openlatch.runtime.telemetry import start as start_telemetry
from openlatch.service.identity import set_up

# Statement timeout in seconds for the web process: others wait for the connection.
STATEMENT_SECONDS = 60


log = structlog.get_logger()


def web_app(settings: Settings) -> Flask:
    """The web application, with as many trusted proxies as configured."""
    for name in ("systems_key", "evidence_key"):
        if getattr(settings, name):
            log.warning("web.has_a_key_of_the_worker", setting=name, remedy=f"Give {name} to the worker only.")
    # Even if its configuration has these keys, the web process never gets them: it opens no system's secret and signs
    # no evidence.
    service = replace(
        assemble(settings, statement_seconds=STATEMENT_SECONDS),
        systems_cipher=None,
        evidence_seed=b"",
        systems_seed=b"",
        holds_secrets=False,
    )
    app = make_app(
        service,
        settings.listening_url,
        metrics_token=settings.metrics_token,
        takes_request_ids=settings.trusted_proxies > 0,
        logs_requests=bool(settings.log_requests),
    )
    telemetry = start_telemetry(settings, "web")
    if telemetry is not None:
        telemetry.watch_requests(app)
        telemetry.watch_database(service)
        atexit.register(telemetry.stop)
    app.wsgi_app = prompt(app.wsgi_app)  # type: ignore[method-assign, assignment]
    if settings.trusted_proxies:
        count = settings.trusted_proxies
        app.wsgi_app = ProxyFix(app.wsgi_app, x_for=count, x_proto=count, x_host=count)  # type: ignore[method-assign]
    return app


class _Gunicorn(BaseApplication):  # type: ignore[misc]
    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        super().__init__()

    def load_config(self) -> None:
        options = {
            "bind": self._settings.bind,
            "workers": self._settings.web_processes,
            "worker_class": "openlatch.runtime.gunicorn_worker.Worker",
            "threads": self._settings.web_threads,
            # Requests under way are answered before the process stops. Consoles reconnect by themselves.
            "graceful_timeout": 30,
            "timeout": 120,
            # Longer than clients and proxies keep an idle connection, so that they are the ones to close it.
            "keepalive": 75,
            # Forwarded headers count only for trusted proxies (ProxyFix).
            "secure_scheme_headers": {},
            "forwarded_allow_ips": "",
            "accesslog": None,
            "loglevel": "warning",
            "control_socket_disable": True,
        }
        for name, value in options.items():
            if name in self.cfg.settings:
                self.cfg.set(name, value)

    def load(self) -> Flask:
        return web_app(self._settings)


def serve(settings: Settings) -> None:
    """Serve the API and the console until stopped."""
    configure_logging()
    settings.require("database_url", "secret_key")
    _say_how_to_set_up(settings)
    Worker.seconds_in_line = settings.seconds_in_line
    warm_up()
    # What is there by now is there for good. Processes that are forked share it as long as nobody writes to it, as the
    # collector would.
    gc.collect()
    gc.freeze()
    with _room_for_metrics() if settings.metrics_token else nullcontext():
        _Gunicorn(settings).run()


@contextmanager
def _room_for_metrics() -> Iterator[None]:
    """A folder in which the processes add up their figures; it has to be named before these are imported."""
    with tempfile.TemporaryDirectory(prefix="openlatch-figures-") as folder:
        os.environ["PROMETHEUS_MULTIPROC_DIR"] = folder
        yield


def _say_how_to_set_up(settings: Settings) -> None:
    """Print the code by which the first organisation is set up, where there is none."""
    service = assemble(settings, connections=2)
    code = set_up.make_code(service)
    service.engine.dispose()
    if code is not None:
        print(f"Nothing is set up here yet. Open {service.address}/set-up and give this code: {code}", flush=True)
