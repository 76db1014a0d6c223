"""Running the web process (gunicorn) and the worker."""

from __future__ import annotations

import gc
import logging
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import structlog
from flask import Flask
from gunicorn.app.base import BaseApplication
from werkzeug.middleware.proxy_fix import ProxyFix

from openlatch.api.app import make_app
from openlatch.runtime.gunicorn_worker import prompt
from openlatch.runtime.settings import Settings
from openlatch.service.identity import set_up
from openlatch.service.notifications.notices import Post
from openlatch.service.unit import Service
from openlatch.store.database import engine_for
from openlatch.worker import tasks
from openlatch.worker.queue import Queue

# Statement timeout in seconds for the web process: others wait for the connection.
STATEMENT_SECONDS = 60


log = structlog.get_logger()


def configure_logging() -> None:
    """Structured lines to standard error: readable on a terminal, JSON elsewhere."""
    shape: Any = structlog.dev.ConsoleRenderer() if sys.stderr.isatty() else structlog.processors.JSONRenderer()
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            shape,
        ],
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr)


def spare_the_collector() -> None:
    """Raise the collector's thresholds: there are many long-lived objects and few cycles.

    Rounds of tens of thousands of items then open in about two thirds of the time.
    """
    gc.set_threshold(50_000, 20, 50)


def assemble(settings: Settings, connections: int = 16, statement_seconds: int = 0) -> Service:
    """The service with its database, its key, and the queue that wakes the worker.

    ``statement_seconds`` is the statement timeout; 0 for none.
    """
    spare_the_collector()
    settings.require("database_url", "secret_key")
    queue = Queue(settings.database_url)
    address = (settings.public_address or f"http://{settings.bind}").rstrip("/")
    seed = settings.secret_key.encode()
    return Service(
        engine_for(settings.database_url, connections // 2, statement_seconds),
        settings.cipher(),
        wake=queue.wake,
        address=address,
        signing_seed=seed,
        tree_heads_file=Path(settings.tree_heads_file) if settings.tree_heads_file else None,
        timestamp_authority=settings.timestamp_authority,
        systems_cipher=settings.systems_cipher(),
        evidence_seed=settings.evidence_seed(),
        systems_seed=settings.systems_key.encode(),
    )


def post_of(settings: Settings) -> Post | None:
    """The configured mail server; None if there is none, and mail waits."""
    if not settings.smtp_host:
        return None
    return Post(
        settings.smtp_host,
        settings.smtp_port,
        settings.mail_from,
        settings.smtp_user,
        settings.smtp_password,
        bool(settings.smtp_starttls),
    )


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
    app = make_app(service, settings.database_url)
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
    _Gunicorn(settings).run()


def _say_how_to_set_up(settings: Settings) -> None:
    """Print the code by which the first organisation is set up, where there is none."""
    service = assemble(settings, connections=2)
    code = set_up.make_code(service)
    service.engine.dispose()
    if code is not None:
        print(f"Nothing is set up here yet. Open {service.address}/set-up and give this code: {code}", flush=True)


def work(settings: Settings) -> None:
    """Run the worker until stopped."""
    configure_logging()
    for name in ("systems_key", "evidence_key"):
        if not getattr(settings, name):
            log.warning("worker.has_no_key_of_its_own", setting=name, remedy="Make one: openlatch new-key")
    tasks.run(assemble(settings, tasks.CONNECTIONS), settings.database_url, post_of(settings))
