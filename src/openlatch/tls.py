"""Whom a connection over TLS trusts."""

from __future__ import annotations

import ssl
from functools import cache

import httpx


@cache
def trusted() -> ssl.SSLContext:
    """The certificate authorities that HTTP clients trust: those of certifi, or of SSL_CERT_FILE and SSL_CERT_DIR.

    They are read once a process, which takes tens of milliseconds: more than most calls. Somebody who changes them
    restarts the processes.
    """
    return httpx.create_ssl_context()
