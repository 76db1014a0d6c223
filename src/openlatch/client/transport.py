"""Sending calls, sending them again where the service asks for that, and telling errors apart.

OpenLatchError
├── CallFailed     the service said no; carries its problem document
└── Unreachable    no service answered at the address
"""

from __future__ import annotations

import time
from collections.abc import Generator, Iterable, Iterator, Mapping
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from typing import IO, TypeAlias, TypedDict, Unpack
from urllib.parse import urljoin, urlsplit
from uuid import uuid4

import httpx

from openlatch import retry_after
from openlatch.client import greenlets
from openlatch.errors import OpenLatchError
from openlatch.json_values import JsonObject, JsonValue
from openlatch.schemas import Problem
from openlatch.tls import trusted

PREFIX = "/api/v1"
# What a call waits for in all, by default, where the service asks for it.
PATIENCE = 30.0
# Answers after which the same call may be sent again: nothing was done.
_LATER = (429, 503)


class CallFailed(OpenLatchError):
    """The service said no. ``problem`` is its problem document by RFC 9457."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail, problem.remedy)
        self.problem = problem
        self.status = problem.status
        self.title = problem.title


class Unreachable(OpenLatchError):
    """No service answered."""

    title = "No service answered"


# What stands behind ``?`` in an address.
Query: TypeAlias = str | int | float | bool | None


class Options(TypedDict, total=False):
    """What a call is made with; the names are httpx's."""

    json: JsonValue
    data: Mapping[str, str]
    files: Mapping[str, tuple[str, IO[bytes] | bytes]]
    content: bytes | IO[bytes] | Iterable[bytes]
    params: Mapping[str, Query]
    headers: dict[str, str]
    timeout: httpx.Timeout


class Transport:
    """One service at one address, as whoever a token belongs to.

    A call that is refused for now (429, 503) is sent again after as many seconds as ``Retry-After`` says (RFC 9110,
    10.2.3), while that is no more than ``patience`` seconds in all.
    """

    def __init__(
        self,
        address: str,
        token: str = "",
        transport: httpx.BaseTransport | None = None,
        patience: float = PATIENCE,
        language: str = "",
    ) -> None:
        self.patience = patience
        self._http = httpx.Client(transport=transport, **_settings(address, token, language))

    def close(self) -> None:
        """Give the connections back."""
        self._http.close()

    def wait(self, seconds: float) -> None:
        """Let time pass."""
        time.sleep(seconds)

    def _send(self, method: str, path: str, **more: Unpack[Options]) -> httpx.Response:
        return self._http.request(method, path, **more)

    def _read_lines(self, path: str) -> Generator[str, None, None]:
        with self._http.stream("GET", path) as response:
            if response.is_error:
                response.read()
            _refuse(response)
            yield from response.iter_lines()

    def _patiently(self, method: str, path: str, **more: Unpack[Options]) -> httpx.Response:
        left = self.patience
        while True:
            with self._telling():
                response = self._send(method, path, **more)
            seconds = _seconds_to_wait(response)
            if seconds is None or seconds > left:
                return response
            left -= seconds
            self.wait(seconds)

    def call(self, method: str, path: str, **more: Unpack[Options]) -> JsonValue:
        """One call; gives the decoded answer. A POST is safe to send again: it carries a key of its own."""
        headers = {"Idempotency-Key": str(uuid4())} if method == "POST" and "json" in more else {}
        more["headers"] = headers | more.get("headers", {})
        response = self._patiently(method, PREFIX + path, **more)
        _refuse(response)
        return response.json()

    def form(self, path: str, fields: dict[str, str]) -> JsonObject:
        """A call of the token interface, which takes forms and answers errors by RFC 6749 section 5.2."""
        response = self._patiently("POST", path, data=fields)
        found: JsonObject = response.json()
        if "error" in found:
            detail = f"{found['error']}: {found.get('error_description', '')}"
            raise CallFailed(
                Problem(type="about:blank", title=str(found["error"]), status=response.status_code, detail=detail)
            )
        _refuse(response)
        return found

    def published(self, path: str) -> list[dict[str, str]]:
        """The keys of a JSON Web Key Set (RFC 7517), which anybody may ask for."""
        response = self._patiently("GET", path)
        _refuse(response)
        keys: list[dict[str, str]] = response.json()["keys"]
        return keys

    def content(self, path: str) -> bytes:
        """An answer that is not JSON, whole."""
        response = self._patiently("GET", PREFIX + path, timeout=httpx.Timeout(60, read=600))
        _refuse(response)
        return response.content

    def lines(self, path: str) -> Generator[str, None, None]:
        """The lines of a streamed answer."""
        with self._telling(), closing(self._read_lines(PREFIX + path)) as lines:
            yield from lines

    @contextmanager
    def _telling(self) -> Iterator[None]:
        try:
            yield
        except httpx.TransportError as error:
            raise Unreachable(
                f"No service answered at {self._base()}: {error}",
                "Look whether it runs, and whether the address is right (OPENLATCH_URL, or openlatch login --url).",
            ) from error

    def _base(self) -> httpx.URL:
        return self._http.base_url


class AsyncTransport(Transport):
    """The same over asyncio: whatever waits lets other tasks go on. Used within ``greenlets.run``."""

    def __init__(
        self,
        address: str,
        token: str = "",
        transport: httpx.AsyncBaseTransport | None = None,
        patience: float = PATIENCE,
        language: str = "",
    ) -> None:
        self.patience = patience
        self._async = httpx.AsyncClient(transport=transport, **_settings(address, token, language))

    def close(self) -> None:
        """Give the connections back."""
        greenlets.wait_for(self._async.aclose())

    def wait(self, seconds: float) -> None:
        """Let time pass."""
        greenlets.wait_for(greenlets.sleep(seconds))

    def _send(self, method: str, path: str, **more: Unpack[Options]) -> httpx.Response:
        return greenlets.wait_for(self._async.request(method, path, **more))

    def _read_lines(self, path: str) -> Generator[str, None, None]:
        opened = self._async.stream("GET", path)
        response = greenlets.wait_for(opened.__aenter__())
        try:
            if response.is_error:
                greenlets.wait_for(response.aread())
            _refuse(response)
            lines = response.aiter_lines()
            while (line := greenlets.wait_for(anext(lines, None))) is not None:
                yield line
        finally:
            greenlets.wait_for(opened.__aexit__(None, None, None))

    def _base(self) -> httpx.URL:
        return self._async.base_url


def service_at(address: str) -> str:
    """The address of the service at which an organisation is, where ``address`` leads to several of them
    (https://latch.example.org/hollin-fell); else the address itself.

    Unreachable when nothing answers, CallFailed when it knows no such organisation, or leads from TLS to none.
    """
    parts = urlsplit(address)
    if parts.path in ("", "/"):
        return address
    try:
        answer = httpx.get(address, timeout=60, verify=trusted())
    except (httpx.TransportError, httpx.InvalidURL) as error:
        raise Unreachable(
            f"There is no answer from {address}: {error}", "Look whether the address is right."
        ) from error
    _refuse(answer)
    there = urlsplit(urljoin(address, answer.headers.get("Location", address)))
    if not answer.is_redirect:
        return address
    if parts.scheme == "https" and there.scheme != "https":
        raise CallFailed(
            Problem(
                type="about:blank",
                title="Not followed",
                status=answer.status_code,
                detail=f"{address} leads to {there.geturl()}, which is without TLS.",
            )
        )
    return f"{there.scheme}://{there.netloc}"


def _settings(address: str, token: str, language: str) -> JsonObject:
    headers = {"Accept": "application/json", "User-Agent": "openlatch"}
    if token:
        headers["Authorization"] = f"Bearer {token}"
    if language:
        headers["Accept-Language"] = language
    return {"base_url": address, "headers": headers, "timeout": 60, "verify": trusted()}


def _seconds_to_wait(response: httpx.Response) -> float | None:
    """How long the service asks to wait, as seconds or until a date; None where it does not."""
    if response.status_code not in _LATER:
        return None
    return retry_after.seconds(response.headers.get("Retry-After", ""), datetime.now(UTC))


def _refuse(response: httpx.Response) -> None:
    if not response.is_error:
        return
    if response.headers.get("Content-Type", "").startswith("application/problem+json"):
        raise CallFailed(Problem.model_validate_json(response.content))
    raise CallFailed(
        Problem(
            type="about:blank",
            title=response.reason_phrase,
            status=response.status_code,
            detail=f"The service answered {response.status_code} {response.reason_phrase}.",
        )
    )
