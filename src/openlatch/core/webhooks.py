"""Webhooks: which entries of the journal a receiver gets, where it may be, and when it is tried again."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv6Address, ip_address
from urllib.parse import urlsplit

from openlatch.core import retries
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject

# After so many tries a delivery is given up: about three hours, of which most waits take fifteen minutes.
MOST_TRIES = 20
MOST_FILTERS = 50
LONGEST_ASKED = timedelta(hours=1)
# What may stand in a URL (RFC 3986): names of other scripts are written as their xn-- form.
_URL = re.compile(r"([A-Za-z0-9._~:/?#\[\]@!$&'()*+,;=-]|%[0-9A-Fa-f]{2})+")
_ACTION = re.compile(r"[a-z][a-z_]*(\.[a-z_]+)?")


def filters_of(written: Iterable[str]) -> list[str]:
    """Which entries a receiver wants: actions ("grant.given"), or all of a kind ("grant"). BadInput for others."""
    found = sorted({one.strip() for one in written if one.strip()})
    wrong = [one for one in found if not _ACTION.fullmatch(one)]
    if wrong or len(found) > MOST_FILTERS:
        raise BadInput(
            f"{wrong[0]!r} is no action." if wrong else f"There are more than {MOST_FILTERS} actions.",
            "Give actions as the journal has them, such as grant.given, or a kind, such as grant.",
            {"actions": "can't be used"},
        )
    return found


def wants(filters: Sequence[str], action: str) -> bool:
    """Whether a receiver with these filters gets an action; one without filters gets all."""
    return not filters or action in filters or action.partition(".")[0] in filters


def without_query(url: str) -> str:
    """A URL as others may see it: what comes after the path can be a secret of the receiver's."""
    return urlsplit(url)._replace(query="").geturl()


def checked_url(url: str, allowed: Sequence[str]) -> str:
    """The URL of a receiver, as it may be: https, or http to a host that the server's settings allow by name.

    BadInput for another one. Where the name leads is found out only when it is called.
    """
    try:
        parts = urlsplit(url.strip())
        host, port = parts.hostname or "", parts.port
    except ValueError:
        host, port = "", None
    if (
        not _URL.fullmatch(url.strip())
        or not host
        or parts.scheme not in ("https", "http")
        or parts.username
        or parts.fragment
        or port == 0
    ):
        raise BadInput(
            f"{url!r} is no URL of a receiver.",
            "Give one as https://receiver.example.org/open-latch.",
            {"url": "can't be used"},
        )
    if parts.scheme == "http" and host not in allowed:
        raise BadInput(
            "What the journal says would go out in clear.",
            "Give an https URL, or have the host allowed by name in private_receivers.",
            {"url": "is not https"},
        )
    try:
        is_private = not may_be_called(ip_address(host)) and host not in allowed
    except ValueError:
        is_private = False
    if is_private:
        raise BadInput(
            f"{host} is in a private network.",
            "Have the host allowed by name in private_receivers.",
            {"url": "is private"},
        )
    return url.strip()


def may_be_called(address: IPv4Address | IPv6Address) -> bool:
    """Whether an address is of the open Internet, also when it is written as an IPv6 one."""
    mapped = address.ipv4_mapped if isinstance(address, IPv6Address) else None
    return (mapped or address).is_global and not (mapped or address).is_multicast


def next_try(tries: int, now: datetime, asked: float = 0.0) -> datetime | None:
    """When a delivery that has failed so often is tried again; None when it is given up.

    ``asked``: for how many seconds the receiver asks to be left alone, of which an hour is granted.
    """
    wait = min(timedelta(seconds=min(asked, 1e6)), LONGEST_ASKED)
    return None if tries >= MOST_TRIES else now + max(retries.wait_after(tries), timedelta(seconds=5), wait)


def event(source: str, entry: JsonObject) -> JsonObject:
    """An entry of the journal as an event (CloudEvents 1.0, structured JSON). The same entry has the same id always."""
    return {
        "specversion": "1.0",
        "id": f"{entry['organisation']}/{entry['position']}",
        "source": source,
        "type": f"openlatch.{entry['action']}",
        "time": entry["at"],
        "datacontenttype": "application/json",
        "data": entry,
    }
