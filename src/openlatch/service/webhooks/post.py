"""One message, posted to a receiver: never into a private network unless its host is allowed by name."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache
from ipaddress import ip_address
from urllib.parse import urlsplit, urlunsplit

import httpx

from openlatch import retry_after
from openlatch.core.webhooks import may_be_called
from openlatch.service.webhooks.signatures import Message
from openlatch.tls import trusted

# For a whole call to one of its addresses, however slowly somebody answers.
SECONDS = 10.0
# So many of the addresses of a name are tried.
MOST_NUMBERS = 3
_TIMEOUT = httpx.Timeout(SECONDS).as_dict()


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of a call: the status, 0 without an answer, a sentence, and for how long the receiver asks to be left
    alone, in seconds.
    """

    status: int
    words: str
    wait: float = 0.0

    @property
    def is_taken(self) -> bool:
        """Whether the receiver has taken it."""
        return 200 <= self.status < 300

    @property
    def is_down(self) -> bool:
        """Whether the receiver takes nothing now, so that the next message need not be tried."""
        return self.status in (0, 408, 429) or self.status >= 500


def post(message: Message, body: bytes, allowed: Sequence[str]) -> Outcome:
    """Post a message. Redirects are not followed: they could lead anywhere."""
    parts = urlsplit(message.url)
    host = parts.hostname or ""
    port = parts.port or (443 if parts.scheme == "https" else 80)
    try:
        found = [entry[4][0] for entry in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
    except (OSError, UnicodeError) as error:
        return Outcome(0, f"the name {host} is not found: {error}")
    private = [one for one in found if not may_be_called(ip_address(str(one).partition("%")[0]))]
    if private and host not in allowed:
        return Outcome(0, f"{host} leads into a private network ({private[0]})")
    outcome = Outcome(0, f"the name {host} leads nowhere")
    # What was looked at is what is called: a name that leads elsewhere the next moment changes nothing.
    for number in list(dict.fromkeys(map(str, found)))[:MOST_NUMBERS]:
        try:
            return _posted(message, body, number, port)
        except httpx.ConnectError as error:
            outcome = Outcome(0, f"it did not answer: {error}")
        except httpx.TimeoutException:
            return Outcome(0, f"it did not answer within {SECONDS:.0f} seconds")
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            return Outcome(0, f"it did not answer: {error}")
    return outcome


def _posted(message: Message, body: bytes, number: str, port: int) -> Outcome:
    """What a receiver at an address of the network answers."""
    parts = urlsplit(message.url)
    numbered = f"[{number}]" if ":" in number else number
    target = urlunsplit((parts.scheme, f"{numbered}:{port}", parts.path or "/", parts.query, ""))
    headers = {**message.headers, "Host": parts.netloc, "User-Agent": "openlatch"}
    sockets: list[socket.socket] = []

    def note(name: str, told: Mapping[str, object]) -> None:
        stream = told.get("return_value")
        if name in ("connection.connect_tcp.complete", "connection.start_tls.complete") and stream is not None:
            sockets.append(stream.get_extra_info("socket"))  # type: ignore[attr-defined]

    request = httpx.Request("POST", target, content=body, headers=headers)
    request.extensions |= {"sni_hostname": parts.hostname, "trace": note, "timeout": _TIMEOUT}
    with _time_limit(sockets):
        answer = _transport().handle_request(request)
        try:
            said = f"it answered {answer.status_code} {answer.reason_phrase}".strip()
            wait = retry_after.seconds(answer.headers.get("Retry-After", ""), datetime.now(UTC)) or 0.0
            return Outcome(answer.status_code, said, wait)
        finally:
            answer.close()


@cache
def _transport() -> httpx.HTTPTransport:
    """What calls go out by: nothing of one is left for the next, neither connections nor cookies."""
    return httpx.HTTPTransport(verify=trusted(), trust_env=False, limits=httpx.Limits(max_keepalive_connections=0))


@contextmanager
def _time_limit(sockets: Sequence[socket.socket]) -> Iterator[None]:
    """Cut connections off when time is up: an answer that trickles in outlasts every timeout of its parts."""

    def cut_off() -> None:
        for one in sockets:
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)

    timer = threading.Timer(SECONDS, cut_off)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
