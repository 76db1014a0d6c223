"""Which paths are calls of the service; all others are pages of the console."""

from __future__ import annotations

# What supervisors ask.
SIGNS_OF_LIFE = ("/healthz/", "/readyz/", "/metrics/")
FILES = ("/assets/", "/docs/")
CALLS = (
    *("/api/", "/oauth/", "/scim/", "/.well-known/", "/calendar/", "/oidc/"),
    *("/signals/receive/", "/signals/stream/", "/signals/status/", "/signals/subjects/", "/signals/verify/"),
    "/signals/poll/",
)


def is_call(path: str) -> bool:
    """Whether a path, as it was asked for, is a call: neither a page nor a file, nor what supervisors ask."""
    return f"{path}/".startswith(CALLS)
