"""What transactions announce as they commit, followed in the worker: receivers are told at once.

An announcement that is missed does no harm: the worker's rounds find what is due.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from uuid import UUID

import orjson
import psycopg
from psycopg import sql
from structlog import get_logger

from openlatch.errors import OpenLatchError
from openlatch.service.signals.sent_events import SECURITY_EVENTS
from openlatch.service.unit import CHANNEL, Service
from openlatch.service.webhooks import deliver
from openlatch.store.database import lively

log = get_logger()
# What deliveries themselves announce: it makes no new ones.
_OWN = frozenset({"webhook"})
KINDS = {kind.name: kind for kind in (SECURITY_EVENTS, deliver.ENTRIES)}


async def follow(service: Service, url: str) -> None:
    """Follow announcements until the connection is lost, which raises psycopg.OperationalError."""
    telling = Telling(lambda organisation: tell(service, organisation))
    async with await psycopg.AsyncConnection.connect(lively(url), autocommit=True) as connection:
        await connection.execute(sql.SQL("listen {}").format(sql.Identifier(CHANNEL)))
        async for note in connection.notifies():
            told = orjson.loads(note.payload)
            if set(told["kinds"]) - _OWN:
                telling.begin(UUID(told["organisation"]))


class Telling:
    """Tells each organisation's receivers in one thread at a time, and once more if something came meanwhile."""

    def __init__(self, tell: Callable[[UUID], None]) -> None:
        self._tell = tell
        self._busy: set[UUID] = set()
        self._again: set[UUID] = set()
        self._tasks: set[asyncio.Task[None]] = set()

    def begin(self, organisation: UUID) -> None:
        """Tell them now, or as soon as the present thread is through."""
        if organisation in self._busy:
            self._again.add(organisation)
            return
        self._busy.add(organisation)
        task = asyncio.ensure_future(self._until_told(organisation))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _until_told(self, organisation: UUID) -> None:
        try:
            while True:
                self._again.discard(organisation)
                await asyncio.to_thread(self._tell, organisation)
                if organisation not in self._again:
                    return
        except OpenLatchError as error:
            log.warning("announcements.left_to_the_round", error=str(error))
        finally:
            self._busy.discard(organisation)


def tell(service: Service, organisation: UUID) -> None:
    """Make and send what is due to every receiver of an organisation."""
    for ident, name in deliver.receivers(service, organisation):
        while deliver.deliver(service, organisation, ident, KINDS[name]):
            pass
