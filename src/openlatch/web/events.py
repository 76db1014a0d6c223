"""The event stream: one listener a process on PostgreSQL's NOTIFY, one queue an open console."""

from __future__ import annotations

import json
import queue
import threading
import time
from collections.abc import Iterator
from uuid import UUID

import psycopg
from structlog import get_logger

from openlatch.service.context import CHANNEL

log = get_logger()
HEARTBEAT_SECONDS = 15
RETRY_SECONDS = 2


class Broker:
    """Hands on to every open console what transactions announce as they commit."""

    def __init__(self, url: str) -> None:
        self._url = url
        self._streams: set[tuple[UUID, queue.SimpleQueue[str]]] = set()
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    def stream(self, organisation: UUID) -> Iterator[str]:
        """Server-sent events for one console of one organisation, until it goes away."""
        self._ensure_listening()
        mine: queue.SimpleQueue[str] = queue.SimpleQueue()
        with self._lock:
            self._streams.add((organisation, mine))
        try:
            # The first event tells the console to look at everything once: something may have changed meanwhile.
            yield 'retry: 2000\nevent: changed\ndata: {"kinds": ["everything"]}\n\n'
            while True:
                try:
                    yield mine.get(timeout=HEARTBEAT_SECONDS)
                except queue.Empty:
                    yield ": still here\n\n"
        finally:
            with self._lock:
                self._streams.discard((organisation, mine))

    def _ensure_listening(self) -> None:
        with self._lock:
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._listen, name="events", daemon=True)
                self._thread.start()

    def _listen(self) -> None:
        while True:
            try:
                with psycopg.connect(self._url, autocommit=True) as connection:
                    connection.execute(f"listen {CHANNEL}")
                    for note in connection.notifies():
                        self._hand_on(note.payload)
            except psycopg.OperationalError as error:
                log.warning("events.interrupted", error=str(error))
                time.sleep(RETRY_SECONDS)
                self._hand_on_everything()

    def _hand_on(self, payload: str) -> None:
        note = json.loads(payload)
        event = f"id: {note['position']}\nevent: changed\ndata: {json.dumps({'kinds': note['kinds']})}\n\n"
        self._put(event, UUID(note["organisation"]))

    def _hand_on_everything(self) -> None:
        self._put('event: changed\ndata: {"kinds": ["everything"]}\n\n', None)

    def _put(self, event: str, organisation: UUID | None) -> None:
        with self._lock:
            wanted = [q for of, q in self._streams if organisation is None or of == organisation]
        for stream in wanted:
            stream.put(event)
