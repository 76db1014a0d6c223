"""What the processes of the service are put together from, and the worker."""

from __future__ import annotations

import gc
import logging
import sys
from pathlib import Path
from typing import Any

import structlog

from openlatch.core.journal.syslog import Server
from openlatch.runtime.settings import Settings
from openlatch.runtime.telemetry import start as start_telemetry
from openlatch.service.itself.adapter import among_systems
from openlatch.service.notifications.notices import Post
from openlatch.service.unit import Service
from openlatch.store.archive import Archive
from openlatch.store.database import Standby, engine_for
from openlatch.worker.queue import Queue

log = structlog.get_logger()


def configure_logging() -> None:
    """Structured lines to standard error: readable on a terminal, JSON elsewhere."""
    shape: Any = structlog.dev.ConsoleRenderer() if sys.stderr.isatty() else structlog.processors.JSONRenderer()
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
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
    queue = Queue(settings.listening_url)
    address = (settings.public_address or f"http://{settings.bind}").rstrip("/")
    seed = settings.secret_key.encode()
    service = Service(
        engine_for(
            settings.database_url, connections // 2, statement_seconds, behind_pool=bool(settings.direct_database_url)
        ),
        settings.cipher(),
        standby=Standby(engine_for(settings.standby_database_url, connections // 2, statement_seconds))
        if settings.standby_database_url
        else None,
        wake=queue.wake,
        address=address,
        signing_seed=seed,
        tree_heads_file=Path(settings.tree_heads_file) if settings.tree_heads_file else None,
        archive=Archive(Path(settings.archive_folder) if settings.archive_folder else None),
        timestamp_authority=settings.timestamp_authority,
        syslog=Server.of(settings.syslog_server, settings.syslog_authorities),
        private_receivers=tuple(one.strip() for one in settings.private_receivers.split(",") if one.strip()),
        systems_cipher=settings.systems_cipher(),
        evidence_seed=settings.evidence_seed(),
        systems_seed=settings.systems_key.encode(),
    )
    return among_systems(service)


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


def work(settings: Settings) -> None:
    """Run the worker until stopped."""
    # Of the tasks only the worker has need.
    from openlatch.worker import tasks

    configure_logging()
    for name in ("systems_key", "evidence_key"):
        if not getattr(settings, name):
            log.warning("worker.has_no_key_of_its_own", setting=name, remedy="Make one: openlatch new-key")
    service = assemble(settings, tasks.CONNECTIONS)
    telemetry = start_telemetry(settings, "worker")
    if telemetry is None:
        tasks.run(service, settings.listening_url, post_of(settings))
        return
    telemetry.watch_database(service)
    try:
        tasks.run(telemetry.watch_systems(service), settings.listening_url, post_of(settings), telemetry.task)
    finally:
        telemetry.stop()
