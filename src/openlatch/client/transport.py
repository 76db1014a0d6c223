"""Sending calls and telling errors apart.

OpenLatchError
├── CallFailed     the service said no; carries its problem document
└── Unreachable    no service answered at the address
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from uuid import uuid4

import httpx

from openlatch.errors import OpenLatchError
from openlatch.json_values import JsonObject, JsonValue
from openlatch.schemas import Problem
from openlatch.tls import trusted

PREFIX = "/api/v1"


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


class Transport:
    """One service at one address, as whoever a token belongs to."""

    def __init__(self, address: str, token: str = "", transport: httpx.BaseTransport | None = None) -> None:
        headers = {"Accept": "application/json", "User-Agent": "openlatch"}
        if token:
            headers["Authorization"] = f"Bearer {token}"
        self._http = httpx.Client(base_url=address, headers=headers, timeout=60, verify=trusted(), transport=transport)

    def close(self) -> None:
        """Give the connections back."""
        self._http.close()

    def call(self, method: str, path: str, **more: Any) -> JsonValue:
        """One call; gives the decoded answer. A POST is safe to send again: it carries a key of its own."""
        headers = {"Idempotency-Key": str(uuid4())} if method == "POST" and "json" in more else {}
        headers.update(more.pop("headers", {}))
        with self._telling():
            response = self._http.request(method, PREFIX + path, headers=headers, **more)
        _refuse(response)
        return response.json()

    def form(self, path: str, fields: dict[str, str]) -> JsonObject:
        """A call of the token interface, which takes forms and answers errors by RFC 6749 section 5.2."""
        with self._telling():
            response = self._http.post(path, data=fields)
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
        with self._telling():
            response = self._http.get(path)
        _refuse(response)
        keys: list[dict[str, str]] = response.json()["keys"]
        return keys

    def content(self, path: str) -> bytes:
        """An answer that is not JSON, whole."""
        with self._telling():
            response = self._http.get(PREFIX + path, timeout=httpx.Timeout(60, read=600))
        _refuse(response)
        return response.content

    def lines(self, path: str) -> Iterator[str]:
        """The lines of a streamed answer."""
        with self._telling(), self._http.stream("GET", PREFIX + path) as response:
            if response.is_error:
                response.read()
            _refuse(response)
            yield from response.iter_lines()

    @contextmanager
    def _telling(self) -> Iterator[None]:
        try:
            yield
        except httpx.TransportError as error:
            raise Unreachable(
                f"No service answered at {self._http.base_url}: {error}",
                "Look whether it runs, and whether the address is right (OPENLATCH_URL, or openlatch login --url).",
            ) from error


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
