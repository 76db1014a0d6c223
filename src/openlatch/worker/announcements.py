"""What transactions announce as they commit, followed in the worker: receivers are told at once.

An announcement that is missed does no harm: the worker's rounds find what is due.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from uuid import UUID

import orjson
import psycopg
from psycopg import sql
from structlog import get_logger

from openlatch.service.signals.sent_events import SECURITY_EVENTS
from openlatch.service.unit import CHANNEL, Service
from openlatch.service.webhooks import deliver
from openlatch.store.database import lively

log = get_logger()
# What deliveries themselves announce: it makes no new ones.
_OWN = frozenset({"webhook"})
# What makes, changes or ends a receiver.
_RECEIVERS = frozenset({"webhook", "signal_receiver"})
# Most organisations have no receivers: they are asked about again after so long, or when one is announced.
SECONDS_WITHOUT = 60.0
KINDS = {kind.name: kind for kind in (SECURITY_EVENTS, deliver.ENTRIES)}


async def follow(service: Service, url: str) -> None:
    """Follow announcements until the connection is lost, which raises psycopg.OperationalError."""
    telling = Telling(lambda organisation: tell(service, organisation))
    async with await psycopg.AsyncConnection.connect(lively(url), autocommit=True) as connection:
        await connection.execute(sql.SQL("listen {}").format(sql.Identifier(CHANNEL)))
        async for note in connection.notifies():
            told = orjson.loads(note.payload)
            organisation, kinds = UUID(told["organisation"]), set(told["kinds"])
            if kinds & _RECEIVERS:
                telling.forget(organisation)
            if kinds - _OWN:
                telling.begin(organisation)


class Telling:
    """Tells each organisation's receivers in one thread at a time, and once more if something came meanwhile."""

    def __init__(self, tell: Callable[[UUID], bool]) -> None:
        self._tell = tell
        # Organisations without receivers, each until when.
        self._without: dict[UUID, float] = {}
        self._busy: set[UUID] = set()
        self._again: set[UUID] = set()
        self._tasks: set[asyncio.Task[None]] = set()

    def begin(self, organisation: UUID) -> None:
        """Tell them now, or as soon as the present thread is through."""
        if self._without.get(organisation, 0.0) > time.monotonic():
            return
        if organisation in self._busy:
            self._again.add(organisation)
            return
        self._busy.add(organisation)
        task = asyncio.ensure_future(self._until_told(organisation))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def forget(self, organisation: UUID) -> None:
        """Whether it has receivers is to be asked again: one of them was made or changed."""
        self._without.pop(organisation, None)
        if organisation in self._busy:
            self._again.add(organisation)

    async def _until_told(self, organisation: UUID) -> None:
        try:
            while True:
                self._again.discard(organisation)
                has_any = await asyncio.to_thread(self._tell, organisation)
                self._without[organisation] = 0.0 if has_any else time.monotonic() + SECONDS_WITHOUT
                if organisation not in self._again:
                    return
        except Exception as error:
            log.exception("announcements.left_to_the_round", error=str(error))
        finally:
            self._busy.discard(organisation)


def tell(service: Service, organisation: UUID) -> bool:
    """Make and send what is due to every receiver of an organisation; returns whether it has any."""
    found = deliver.receivers(service, organisation)
    for ident, name in found:
        while deliver.deliver(service, organisation, ident, KINDS[name]):
            pass
    return bool(found)
