"""Identifiers: UUID version 7 (RFC 9562), so that rows made later sort later."""

from __future__ import annotations

from uuid import UUID

from uuid_utils.compat import uuid7


def new_id() -> UUID:
    """A fresh UUIDv7."""
    return uuid7()
