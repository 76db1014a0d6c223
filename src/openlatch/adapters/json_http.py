"""Services that speak JSON over HTTP, with a bearer token (RFC 6750): calls with limits, and lists in pages.

Lists are as SCIM has them (RFC 7644, section 3.4.2.4): ``startIndex``, ``count``, ``totalResults``, ``Resources``.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

import httpx

from openlatch import retry_after
from openlatch.adapters.limits import CALL_SECONDS, asked
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, parsed
from openlatch.tls import trusted

PAGE = 100
# Attempts to read a list whose pages shift, before the read fails.
PASSES = 4


@contextmanager
def opened(address: str, secret: str, auth: tuple[str, str] | None = None) -> Iterator[httpx.Client]:
    """A client for a service: with a bearer token, or a name and a password. SystemRefused for what is no address."""
    headers = {"Authorization": f"Bearer {secret}"} if secret else {}
    try:
        made = httpx.Client(base_url=address, headers=headers, timeout=CALL_SECONDS / 2, verify=trusted(), auth=auth)
    except httpx.InvalidURL as error:
        raise _not_an_address(error) from error
    except UnicodeEncodeError:
        # The error names a character of the token: it goes no further.
        raise SystemRefused("The token has characters that no token has.", "Copy it again from the service.") from None
    with made as http:
        yield http


def call(
    http: httpx.Client, method: str, path: str, missing: bool = False, refused: bool = False, **given: Any
) -> httpx.Response:
    """One call; waits when the service asks for it and time allows.

    SystemDown when it does not answer or fails, SystemRefused when it says no; with ``missing`` it may say that there
    is no such thing, and with ``refused`` anything.
    """
    deadline = time.monotonic() + CALL_SECONDS
    while True:
        try:
            answer = asked(http, method, path, **given)
        except httpx.InvalidURL as error:
            raise _not_an_address(error) from error
        except httpx.HTTPError as error:
            raise SystemDown(f"The service did not answer: {error}", "It will be tried again.") from error
        if answer.status_code != httpx.codes.TOO_MANY_REQUESTS:
            break
        wait = _wait(answer)
        if time.monotonic() + wait > deadline:
            raise SystemDown(f"The service asks to wait {wait:.0f} s.", "It will be tried again.")
        time.sleep(wait)
    if answer.status_code >= httpx.codes.INTERNAL_SERVER_ERROR:
        raise SystemDown(f"The service answers {answer.status_code}: {said(answer)}", "It will be tried again.")
    is_told = missing and answer.status_code == httpx.codes.NOT_FOUND
    if answer.is_error and not is_told and not refused:
        raise SystemRefused(f"The service refused {method} {path}: {said(answer)}", "Look at the key's rights.")
    return answer


def all_rows(http: httpx.Client, path: str, named: tuple[str, ...] = ("id",), **more: str) -> list[JsonObject]:
    """Every row of a list. SystemDown if its pages keep shifting, so that some would be missed."""
    for _ in range(PASSES):
        found: dict[tuple[object, ...], JsonObject] = {}
        start, total = 1, 1
        while start <= total:
            page = told(call(http, "GET", path, params={"startIndex": start, "count": PAGE, **more}))
            try:
                total = int(page["totalResults"])
                rows = page.get("Resources", ()) if total == 0 else page["Resources"]
                found |= {tuple(row[name] for name in named): row for row in rows}
            except (KeyError, TypeError, ValueError) as error:
                raise not_understood(path) from error
            if not rows:
                break
            # A service may have fewer on a page than were asked for.
            start += len(rows)
        if len(found) == total:
            return list(found.values())
    raise SystemDown(f"{path} changes faster than it can be read.", "Nothing was changed; it will be read again.")


def segment(name: str) -> str:
    """A name as one segment of a path (RFC 3986, 3.3). SystemRefused for a name that would form another path."""
    if name in ("", ".", ".."):
        raise SystemRefused(f"“{name}” can't be named in a path.", "Change it in the service.")
    return quote(name, safe="")


def told(answer: httpx.Response) -> JsonObject:
    """The content of an answer. SystemRefused if it is not understood: that never counts as absence."""
    try:
        found = parsed(answer.content)
    except ValueError as error:
        raise not_understood(answer.request.url.path) from error
    if not isinstance(found, dict):
        raise not_understood(answer.request.url.path)
    return found


def is_gone(answer: httpx.Response) -> bool:
    """Whether the service itself says that there is no such thing. A proxy may answer 404 as well: SystemRefused."""
    if answer.status_code != httpx.codes.NOT_FOUND:
        return False
    if str(told(answer).get("status")) != "404":
        raise not_understood(answer.request.url.path)
    return True


def not_understood(path: str) -> SystemRefused:
    """The error for an answer that means nothing here."""
    return SystemRefused(f"The service's answer to {path} is not understood.", "Nothing is taken for gone.")


def said(answer: httpx.Response) -> str:
    """What a service says about an error."""
    try:
        return str(parsed(answer.content).get("detail", ""))
    except (ValueError, AttributeError):
        return answer.text[:200]


def _not_an_address(error: Exception) -> SystemRefused:
    return SystemRefused(f"The address can't be called: {error}.", "Give it as https://service.example.")


def _wait(answer: httpx.Response) -> float:
    """Seconds that a service asks to wait (RFC 9110, 10.2.3), at least a little."""
    asked = retry_after.seconds(answer.headers.get("Retry-After", ""), datetime.now(UTC))
    return 1.0 if asked is None else max(asked, 0.2)
