"""Tokens at whoever issued them: whether one is good (RFC 7662), and ending it (RFC 7009)."""

from __future__ import annotations

import httpx

from openlatch.adapters.json_http import call, not_understood, told
from openlatch.json_values import JsonObject


def introspected(http: httpx.Client, path: str, token: str) -> JsonObject:
    """What the issuer says of a token; ``active`` is whether it is good. SystemRefused for an answer of another form.

    A token that is not active is over, unknown, or not ours to ask about: these are told apart by nobody (section 2.2).
    """
    answer = told(call(http, "POST", path, data={"token": token}))
    if not isinstance(answer.get("active"), bool):
        raise not_understood(path)
    return answer


def revoke(http: httpx.Client, path: str, token: str) -> None:
    """Have a token ended. One that is over already is no error (section 2.2)."""
    call(http, "POST", path, data={"token": token})
