"""Time stamps by RFC 3161, over HTTP (section 3.4): an authority states that something existed at a time."""

from __future__ import annotations

import hashlib

import httpx
from rfc3161_client import TimestampRequestBuilder, decode_timestamp_response
from rfc3161_client.base import HashAlgorithm

from openlatch.errors import SystemDown, SystemRefused
from openlatch.tls import trusted

SECONDS = 10


def stamp(authority: str, message: bytes) -> bytes:
    """An authority's time-stamp response for a message, DER-encoded.

    SystemDown when it does not answer, SystemRefused when it refuses, or answers about something else.
    """
    request = TimestampRequestBuilder().data(message).hash_algorithm(HashAlgorithm.SHA256).nonce(nonce=True).build()
    try:
        answer = httpx.post(
            authority,
            content=request.as_bytes(),
            headers={"Content-Type": "application/timestamp-query"},
            timeout=SECONDS,
            verify=trusted(),
        )
        answer.raise_for_status()
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise SystemDown(f"The time-stamping authority did not answer: {error}", "It is asked again.") from error
    try:
        response = decode_timestamp_response(answer.content)
        imprint = response.tst_info.message_imprint.message
        nonce = response.tst_info.nonce
    except ValueError as error:
        raise SystemRefused(f"The time-stamping authority refused: {error}", "Look at its log.") from error
    if response.status not in (0, 1) or imprint != hashlib.sha256(message).digest() or nonce != request.nonce:
        raise SystemRefused("The time-stamping authority answered about something else.", "Look at its log.")
    return answer.content
