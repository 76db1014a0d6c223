"""The web server's worker: gunicorn's threaded worker, with limits on how long a client may take to send a request.

A request that has waited too long for a thread is refused at once (503 with Retry-After): whoever sent it may be gone,
and answering it would make all others wait as long. So a service that is asked more than it can answer goes on
answering what it can. Malformed requests are answered with problem documents, too. A connection taken over by the event
stream is left to it.
"""

from __future__ import annotations

import io
import json
import random
import socket
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager, suppress
from typing import Any

from gunicorn import util
from gunicorn.workers.gthread import ThreadWorker

from openlatch.api.paths import is_call
from openlatch.json_values import JsonObject

# Seconds within which a request without a large body must have arrived; otherwise its thread is freed.
SECONDS_TO_ASK = 20.0
LARGEST_BODY_AT_ONCE = (1 << 20) + 1
# Seconds after which a call that waited too long may be sent again.
SECONDS_TO_RETRY = (1, 2, 3)
_REMEDY = {
    414: "Send at most 4,094 bytes in the first line.",
    431: "Send at most 100 headers, of 8,190 bytes each.",
    503: "Nothing was done; send it again after the seconds in Retry-After.",
}
# gunicorn is not typed.
Untyped = Any
App = Callable[[JsonObject, Untyped], Iterable[bytes]]


class Reaper:
    """Closes connections whose client is too slow, so that the waiting thread is freed."""

    def __init__(self) -> None:
        self._until: dict[socket.socket, float] = {}
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    @contextmanager
    def limit(self, sock: socket.socket, seconds: float = SECONDS_TO_ASK) -> Iterator[None]:
        """Bound the time that the body of the ``with`` may take."""
        with self._lock:
            self._until[sock] = time.monotonic() + seconds
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._reap, name="reaper", daemon=True)
                self._thread.start()
        try:
            yield
        finally:
            self.let(sock)

    def let(self, sock: socket.socket) -> None:
        """Lift the limit for the rest of the request."""
        with self._lock:
            self._until.pop(sock, None)

    def _reap(self) -> None:
        while True:
            time.sleep(1.0)
            now = time.monotonic()
            with self._lock:
                late = [sock for sock, until in self._until.items() if until <= now]
                for sock in late:
                    del self._until[sock]
                    with suppress(OSError):
                        sock.shutdown(socket.SHUT_RDWR)


REAPER = Reaper()


def prompt(app: App) -> App:
    """The application, called only once a small body has been received completely."""

    def called(environ: JsonObject, start_response: Untyped) -> Iterable[bytes]:
        length = environ.get("CONTENT_LENGTH") or ""
        is_small = not length or (length.isascii() and length.isdigit() and int(length) < LARGEST_BODY_AT_ONCE)
        has_body = length or "chunked" in environ.get("HTTP_TRANSFER_ENCODING", "").lower()
        if is_small and has_body and "/imports/" not in environ.get("PATH_INFO", ""):
            with REAPER.limit(environ["gunicorn.socket"]):
                body = environ["wsgi.input"].read(LARGEST_BODY_AT_ONCE)
            environ["wsgi.input"] = io.BytesIO(body)
        return app(environ, start_response)

    return called


def _problem(sock: socket.socket, status: int, reason: str, said: str, kind: str = "http", more: str = "") -> None:
    """The problem document (RFC 9457) for a request that does not get as far as the application."""
    body = json.dumps(
        {
            "type": f"urn:openlatch:problem:{kind}",
            "title": reason,
            "status": status,
            "detail": said or reason,
            "remedy": _REMEDY.get(status, "Send a request by HTTP/1.1."),
            "fields": {},
            "breaches": [],
        }
    ).encode()
    head = (
        f"HTTP/1.1 {status} {reason}\r\nConnection: close\r\nContent-Type: application/problem+json\r\n"
        f"Content-Length: {len(body)}\r\n{more}\r\n"
    )
    util.write_nonblock(sock, head.encode() + body)


# gunicorn has no setting for its answer to malformed requests.
util.write_error = _problem


class Worker(ThreadWorker):  # type: ignore[misc]
    """gunicorn's threaded worker, with the limits above.

    A call may wait ``seconds_in_line`` for a thread. Pages and their files are always answered: browsers don't ask for
    a script twice. So is what supervisors ask: a process that is taken out leaves more to the others.
    """

    seconds_in_line = 1.0

    def enqueue_req(self, conn: Untyped) -> None:
        """Let a connection wait for a thread."""
        conn.in_line_since = time.monotonic()
        super().enqueue_req(conn)

    def handle(self, conn: Untyped) -> Any:
        """Handle one request of a connection, from its first byte."""
        conn.waited = time.monotonic() - conn.in_line_since
        with REAPER.limit(conn.sock):
            return super().handle(conn)

    def handle_request(self, req: Untyped, conn: Untyped) -> Any:
        """Handle a request whose headers have arrived."""
        REAPER.let(conn.sock)
        if conn.waited > self.seconds_in_line and is_call(req.path):
            retry = f"Retry-After: {random.choice(SECONDS_TO_RETRY)}\r\n"  # noqa: S311  so that not all come at once
            said = "The service has more requests than it can answer just now."
            _problem(conn.sock, 503, "Service Unavailable", said, "busy", retry)
            return False
        return super().handle_request(req, conn)

    def finish_request(self, conn: Untyped, fs: Future[Any]) -> None:
        """A connection that was taken over is not closed here."""
        if conn.sock.fileno() == -1:
            self.nr_conns -= 1
            return
        super().finish_request(conn, fs)
