"""The event stream: one thread a process listens to PostgreSQL's NOTIFY, and writes to every open console.

A stream holds no thread of the web server: once its answer has begun, its socket is taken over from the server. It
ends with the session, token or visit that it was opened by. Nobody can have more than a few.
"""

from __future__ import annotations

import errno
import json
import selectors
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from uuid import UUID

import psycopg
from structlog import get_logger

from openlatch.errors import OpenLatchError, TooMany
from openlatch.json_values import JsonObject
from openlatch.service.unit import CHANNEL, Viewer
from openlatch.store.database import lively

log = get_logger()
HEARTBEAT_SECONDS = 15
RETRY_SECONDS = 2
BEGIN_SECONDS = 60
# In each web process.
MOST_OF_ONE_PERSON = 12
MOST_OF_ALL = 500
# Changes of these kinds can end the session of a stream; checked at most once a second.
_ENDING = frozenset({"person", "sign_in", "token", "visit"})
_ENDING_INSIDE = frozenset({"grant", "team", "account", "revocation"})
_EVERYTHING = 'event: changed\ndata: {"kinds": ["everything"]}\n\n'


@dataclass(eq=False)
class Stream:
    """One open console. ``still`` asks again who it is, and raises when nobody is any more."""

    viewer: Viewer
    still: Callable[[], Viewer]
    sock: socket.socket | None = None
    asked: float = field(default_factory=time.monotonic)

    @property
    def key(self) -> tuple[UUID, UUID | None]:
        """Whose it is, for counting."""
        return self.viewer.organisation, self.viewer.person

    def send(self, event: str) -> bool:
        """Write one event as a chunk (RFC 9112, 7.1); whether the console took all of it."""
        assert self.sock is not None
        data = event.encode()
        framed = b"%x\r\n%b\r\n" % (len(data), data)
        try:
            return self.sock.send(framed) == len(framed)
        except OSError:
            # Gone or too slow: it reconnects and refreshes everything.
            return False

    def end(self) -> None:
        """Say that this is the end, and close."""
        if self.sock is not None:
            with suppress(OSError):
                self.sock.send(b"0\r\n\r\n")
            self.sock.close()

    def is_over(self) -> bool:
        """Whether what it was opened by has ended, or is for something else by now."""
        try:
            now = self.still()
        except OpenLatchError:
            return True
        return (now.person, now.inside) != (self.viewer.person, self.viewer.inside)


class Broker:
    """Hands on to every open console what transactions announce as they commit."""

    def __init__(self, url: str) -> None:
        self._url = url
        self._streams: set[Stream] = set()
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self._woken: socket.socket
        self._waker: socket.socket

    def open(self, viewer: Viewer, still: Callable[[], Viewer], environ: JsonObject) -> Iterator[str]:
        """Begin an event stream, in the thread of its request. TooMany when the person has enough of them.

        After the first event the broker owns the socket, and the request is over for the server.
        """
        stream = Stream(viewer, still)
        with self._lock:
            # The client left before the answer began.
            self._streams = {
                s for s in self._streams if s.sock is not None or time.monotonic() < s.asked + BEGIN_SECONDS
            }
            if sum(other.key == stream.key for other in self._streams) >= MOST_OF_ONE_PERSON:
                raise TooMany("You have too many consoles open.", "Close some of them.", 30)
            if len(self._streams) >= MOST_OF_ALL:
                raise TooMany("Too many consoles are open.", "Try again in a minute.", 60)
            self._streams.add(stream)
            if self._thread is None or not self._thread.is_alive():
                if self._thread is None:
                    self._woken, self._waker = socket.socketpair()
                    self._woken.setblocking(False)
                    self._waker.setblocking(False)
                self._thread = threading.Thread(target=self._run, name="events", daemon=True)
                self._thread.start()
        return self._begin(stream, environ)

    def _begin(self, stream: Stream, environ: JsonObject) -> Iterator[str]:
        try:
            # The first event makes the console refresh everything, since something may have changed.
            yield f"retry: 2000\n{_EVERYTHING}"
            sock = socket.socket(fileno=environ["gunicorn.socket"].detach())
            sock.setblocking(False)
            stream.sock = sock
        finally:
            if stream.sock is None:
                with self._lock:
                    self._streams.discard(stream)
        with suppress(BlockingIOError):
            self._waker.send(b"x")
        # The server must not close the socket.
        raise BrokenPipeError(errno.EPIPE, "taken over by the event stream")

    def _run(self) -> None:
        while True:
            try:
                with psycopg.connect(lively(self._url), autocommit=True) as connection:
                    connection.execute(f"listen {CHANNEL}")
                    self._send(_EVERYTHING, None)
                    self._serve(connection)
            except psycopg.OperationalError as error:
                log.warning("events.interrupted", error=str(error))
                time.sleep(RETRY_SECONDS)
            except Exception as error:
                # Restart, or open consoles would silently get no events.
                log.exception("events.failed", error=str(error))
                time.sleep(RETRY_SECONDS)

    def _serve(self, connection: psycopg.Connection[tuple[object, ...]]) -> None:
        """Wait for notes, new streams, and consoles that go away; look from time to time who is still there."""
        heartbeat = time.monotonic() + HEARTBEAT_SECONDS
        doubted: set[Stream] = set()
        looked = 0.0
        with selectors.DefaultSelector() as waiting:
            waiting.register(connection.fileno(), selectors.EVENT_READ)
            waiting.register(self._woken, selectors.EVENT_READ)
            while True:
                known = {key.data for key in waiting.get_map().values()}
                for stream in self._of(None):
                    if stream not in known:
                        waiting.register(stream.sock, selectors.EVENT_READ, stream)  # type: ignore[arg-type]
                for key, _ in waiting.select(1.0 if doubted else max(heartbeat - time.monotonic(), 0.0)):
                    if key.data is not None:
                        # Clients send nothing more: readable means closed.
                        self._close(key.data, waiting)
                with suppress(BlockingIOError):
                    self._woken.recv(1024)
                for note in connection.notifies(timeout=0):
                    doubted |= self._hand_on(note.payload, waiting)
                now = time.monotonic()
                if now >= heartbeat:
                    heartbeat = now + HEARTBEAT_SECONDS
                    self._send(": still here\n\n", None, waiting)
                    doubted |= set(self._of(None))
                if doubted and now - looked >= 1.0:
                    looked = now
                    for stream in [s for s in self._of(None) if s in doubted and s.is_over()]:
                        self._close(stream, waiting)
                    doubted = set()

    def _hand_on(self, payload: str, waiting: selectors.BaseSelector) -> set[Stream]:
        """Tell the consoles of an organisation; gives those that may be over by it."""
        note = json.loads(payload)
        organisation, kinds = UUID(note["organisation"]), set(note["kinds"])
        event = f"id: {note['position']}\nevent: changed\ndata: {json.dumps({'kinds': note['kinds']})}\n\n"
        doubted = {
            stream
            for stream in self._of(organisation)
            if kinds & _ENDING or (stream.viewer.inside is not None and kinds & _ENDING_INSIDE)
        }
        for stream in [s for s in doubted if kinds & {"sign_in", "token", "visit"} and s.is_over()]:
            # After signing out nothing more is sent, including this change.
            self._close(stream, waiting)
        self._send(event, organisation, waiting)
        return doubted

    def _of(self, organisation: UUID | None) -> list[Stream]:
        with self._lock:
            return [
                s
                for s in self._streams
                if s.sock is not None and (organisation is None or s.viewer.organisation == organisation)
            ]

    def _send(self, event: str, organisation: UUID | None, waiting: selectors.BaseSelector | None = None) -> None:
        for stream in self._of(organisation):
            if not stream.send(event):
                self._close(stream, waiting)

    def _close(self, stream: Stream, waiting: selectors.BaseSelector | None) -> None:
        with self._lock:
            self._streams.discard(stream)
        if waiting is not None and stream.sock is not None:
            with suppress(KeyError, ValueError):
                waiting.unregister(stream.sock)
        stream.end()
