"""What transactions announce as they commit, followed in the worker: receivers are told at once.

An announcement that is missed does no harm: the worker's rounds find what is due.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import Callable
from functools import partial
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
_OWN = frozenset({"delivery"})
# What makes, changes or ends a receiver.
_RECEIVERS = frozenset({"webhook", "signal_receiver"})
# Which receivers an organisation has (most have none) is asked again after so long, or when one is announced.
SECONDS_KNOWN = 60.0
SECONDS_BEFORE = 0.05
# Receivers, each by its id and the name of its kind.
Receivers = list[tuple[UUID, str]]
KINDS = {kind.name: kind for kind in (SECURITY_EVENTS, deliver.ENTRIES)}


class Precedence:
    """Lets receivers be told before tasks begin that were woken at the same time.

    In one process the two only slow each other. A task waits for ``SECONDS_BEFORE`` at the most, however long telling
    takes.
    """

    def __init__(self) -> None:
        self._told = threading.Event()
        self._until = 0.0

    def begin(self) -> None:
        """Receivers are being told."""
        self._told.clear()
        self._until = time.monotonic() + SECONDS_BEFORE

    def end(self) -> None:
        """They were."""
        self._told.set()

    def wait(self) -> None:
        """Wait for them."""
        left = self._until - time.monotonic()
        if left > 0:
            self._told.wait(left)


async def follow(service: Service, url: str, precedence: Precedence) -> None:
    """Follow announcements until the connection is lost, which raises psycopg.OperationalError."""
    telling = Telling(partial(deliver.receivers, service), partial(tell, service), precedence)
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

    def __init__(
        self, find: Callable[[UUID], Receivers], tell: Callable[[UUID, Receivers], None], precedence: Precedence
    ) -> None:
        self._find, self._tell, self._precedence = find, tell, precedence
        # The receivers of organisations, each with until when they are taken for known.
        self._known: dict[UUID, tuple[float, Receivers]] = {}
        self._busy: set[UUID] = set()
        self._again: set[UUID] = set()
        self._tasks: set[asyncio.Task[None]] = set()

    def begin(self, organisation: UUID) -> None:
        """Tell them now, or as soon as the present thread is through."""
        if organisation in self._busy:
            self._again.add(organisation)
            return
        until, receivers = self._known.get(organisation, (0.0, []))
        if until > time.monotonic() and not receivers:
            return
        self._busy.add(organisation)
        self._precedence.begin()
        task = asyncio.ensure_future(self._until_told(organisation))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def forget(self, organisation: UUID) -> None:
        """Which receivers it has is to be asked again: one of them was made or changed."""
        self._known.pop(organisation, None)
        if organisation in self._busy:
            self._again.add(organisation)

    async def _until_told(self, organisation: UUID) -> None:
        try:
            while True:
                self._again.discard(organisation)
                receivers = await self._receivers(organisation)
                if receivers:
                    await asyncio.to_thread(self._tell, organisation, receivers)
                if organisation not in self._again:
                    return
        except Exception as error:
            log.exception("announcements.left_to_the_round", error=str(error))
        finally:
            self._busy.discard(organisation)
            if not self._busy:
                self._precedence.end()

    async def _receivers(self, organisation: UUID) -> Receivers:
        until, receivers = self._known.get(organisation, (0.0, []))
        if until > time.monotonic():
            return receivers
        receivers = await asyncio.to_thread(self._find, organisation)
        # What was announced while they were looked up may not be among them: then they are looked up once more.
        if organisation not in self._again:
            self._known[organisation] = (time.monotonic() + SECONDS_KNOWN, receivers)
        return receivers


def tell(service: Service, organisation: UUID, receivers: Receivers) -> None:
    """Make and send what is due to receivers of an organisation."""
    for ident, name in receivers:
        while deliver.deliver(service, organisation, ident, KINDS[name]):
            pass
