"""The public keys that evidence and tree heads have to be signed with: kept in a file, once somebody trusts them."""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

from openlatch.cli import session
from openlatch.errors import BadInput, Conflict

_BYTES_OF_KEY = 32


def path() -> Path:
    """Where they are kept: beside what was saved on signing in."""
    return session.path().with_name("trusted-keys.json")


def kept() -> dict[str, dict[str, str]]:
    """The keys that are trusted (``x`` of their JSON Web Keys), each with whose it is and since when."""
    try:
        found: dict[str, dict[str, str]] = json.loads(path().read_text())
        return {key: {"whose": about["whose"], "since": about["since"]} for key, about in found.items()}
    except FileNotFoundError:
        return {}
    except (ValueError, AttributeError, TypeError, KeyError) as error:
        raise BadInput(f"{path()} can't be read: {error}", "Fix it, or delete it and trust the keys again.") from None


def checked(key: str) -> str:
    """A public key as it was given. BadInput when it is none: 32 bytes as base64url (RFC 8037)."""
    try:
        raw = base64.b64decode(key.strip() + "=" * (-len(key.strip()) % 4), altchars=b"-_", validate=True)
    except (binascii.Error, ValueError):
        raw = b""
    if len(raw) != _BYTES_OF_KEY:
        raise BadInput(f"{key!r} is no public key.", "Give the x of the JSON Web Key, 43 letters and digits.")
    return key.strip().rstrip("=")


def trust(key: str, whose: str, replace: bool) -> bool:
    """Keep a key as somebody's; gives whether it is new. BadInput when it is none.

    Conflict when another key is kept as theirs: that is what a forged one looks like, unless they have a new one.
    """
    key, keys = checked(key), kept()
    if key in keys:
        return False
    others = [known for known, about in keys.items() if about["whose"] == whose]
    if others and not replace:
        raise Conflict(
            f"{whose} had another key: {others[0]}, trusted since {keys[others[0]]['since']}.",
            "Ask them whether they have a new one; then trust it with --replace.",
        )
    keys[key] = {"whose": whose, "since": f"{datetime.now(UTC):%Y-%m-%d}"}
    path().parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    path().write_text(json.dumps(keys, indent=2) + "\n")
    return True


def keys(given: str) -> list[str]:
    """The keys to verify with: the one given, else those that are kept. BadInput when what was given is none."""
    return [checked(given)] if given else list(kept())


def whose(key: str) -> str:
    """Whose a key is, in words."""
    about = kept().get(key)
    return f"{about['whose']}, trusted since {about['since']}" if about else "the key that you gave"


def of_service(published: Iterable[dict[str, str]]) -> str:
    """The key that a service signs evidence with, out of those that it publishes. BadInput without one."""
    for one in published:
        if one.get("purpose") == "evidence":
            return one["x"]
    raise BadInput("The service publishes no key for evidence.", "Start its worker, which signs it.")
