"""The queue as the web process uses it: waking the worker for a task."""

from __future__ import annotations

from datetime import datetime

from procrastinate import App, SyncPsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued, ConnectorException
from psycopg_pool import PoolTimeout
from structlog import get_logger

from openlatch.errors import RegisterDown
from openlatch.store.database import lively

log = get_logger()
# Seconds to wait for a connection to wake by: whoever asked waits with it, and the worker's rounds find the work too.
PATIENCE = 3.0


class Queue:
    """Enqueues tasks by name."""

    def __init__(self, url: str) -> None:
        connector = SyncPsycopgConnector(conninfo=lively(url), min_size=1, max_size=2, timeout=PATIENCE)
        self._app = App(connector=connector)
        try:
            self._app.open()
        except (ConnectorException, PoolTimeout) as error:
            raise RegisterDown(
                "The register's database does not answer.",
                "Look whether it runs, and whether database_url is right.",
            ) from error

    def wake(self, task: str, arguments: dict[str, str], at: datetime | None) -> None:
        """Have the worker run a task soon, or at an instant. Idempotent: waiting duplicates run once.

        A queue that can't be reached is logged, not raised: all work is stored in our own tables, where the worker's
        periodic rounds find it.
        """
        lock = " ".join([task, *arguments.values()])
        try:
            self._app.configure_task(task, queueing_lock=lock, schedule_at=at).defer(**arguments)
        except AlreadyEnqueued:
            log.debug("task.waits_already", task=task)
        except ConnectorException as error:
            log.warning("queue.unreachable", task=task, error=str(error))

    def close(self) -> None:
        """Close its connections."""
        self._app.close()
