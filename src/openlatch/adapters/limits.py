"""How long a system may take: to let us in, for a call, for a whole reading. Whoever stalls is down, not waited for."""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import httpx

CONNECT_SECONDS = 5
STATEMENT_SECONDS = 20
CALL_SECONDS = 20
# A whole reading, or a step with everything that it has to look up.
READING_SECONDS = 300
MOST_BYTES = 64_000_000


def asked(http: httpx.Client, method: str, address: str, seconds: float = CALL_SECONDS, **given: Any) -> httpx.Response:
    """A call over HTTP with a limit for all of it: also for an answer that comes drop by drop.

    httpx.HTTPError as httpx has it; httpx.ReadTimeout when the time is up.
    """
    deadline = time.monotonic() + seconds
    with http.stream(method, address, **given) as answer:
        body = bytearray()
        for chunk in answer.iter_raw():
            body += chunk
            if time.monotonic() > deadline or len(body) > MOST_BYTES:
                raise httpx.ReadTimeout("the answer takes too long", request=answer.request)
    headers = {name: value for name, value in answer.headers.items() if name != "transfer-encoding"}
    return httpx.Response(answer.status_code, headers=headers, content=bytes(body), request=answer.request)


@contextmanager
def cut_off_after(number: Callable[[], int], seconds: float = READING_SECONDS) -> Iterator[None]:
    """Shut a connection down from outside when the time is up: whoever waits on it is told that it is gone.

    ``number`` gives the file descriptor of the socket. A limit of the server's own does not hold one that stalls.
    """
    # A descriptor of our own: that of the connection may be closed, and be another's, by the time that it is needed.
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
    # It may be over in the same moment: then there is nothing to cut off.
    with suppress(OSError):
        watched.shutdown(socket.SHUT_RDWR)
