"""Time limits in seconds for systems: to connect, for a call, for a whole read. A system that stalls counts as down."""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    # Only for its types here: what runs on hosts has no packages.
    import httpx

CONNECT_SECONDS = 5
STATEMENT_SECONDS = 20
CALL_SECONDS = 20
# For a whole read, or a step with all its lookups.
READING_SECONDS = 300
MOST_BYTES = 64_000_000


def asked(http: httpx.Client, method: str, address: str, seconds: float = CALL_SECONDS, **given: Any) -> httpx.Response:
    """An HTTP call with a total time limit, which also covers an answer that trickles in.

    Raises httpx.HTTPError like httpx, and httpx.ReadTimeout when time is up.
    """
    import httpx

    deadline = time.monotonic() + seconds
    with http.stream(method, address, **given) as answer:
        body = bytearray()
        for chunk in answer.iter_raw():
            body += chunk
            if time.monotonic() > deadline or len(body) > MOST_BYTES:
                raise httpx.ReadTimeout("the answer takes too long", request=answer.request)
    # As they came: a header may hold bytes that are no ASCII.
    headers = [(name, value) for name, value in answer.headers.raw if name.lower() != b"transfer-encoding"]
    return httpx.Response(answer.status_code, headers=headers, content=bytes(body), request=answer.request)


@contextmanager
def cut_off_after(number: Callable[[], int], seconds: float = READING_SECONDS) -> Iterator[None]:
    """Shut down a connection from another thread when time is up, so that whoever waits on it gets an error.

    ``number`` returns the socket's file descriptor. A timeout on the server does not help against one that stalls.
    """
    # A duplicated descriptor: by then the connection's own may be closed and reused.
    watched = socket.socket(fileno=os.dup(number()))
    timer = threading.Timer(seconds, _shut, [watched])
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
        watched.close()


def _shut(watched: socket.socket) -> None:
    # The connection may end at the same moment; then there is nothing to shut down.
    with suppress(OSError):
        watched.shutdown(socket.SHUT_RDWR)
