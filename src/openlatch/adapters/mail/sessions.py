"""Who is signed in to a mail server: not available by IMAP, but by Dovecot's administration over HTTP.

Its commands ``who`` and ``kick`` are described at https://doc.dovecot.org/admin_manual/doveadm_http_api/. It has
no start times, so a session counts from when it was first seen.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import UTC, datetime

import httpx

from openlatch.adapters.contract import Presence
from openlatch.adapters.limits import CALL_SECONDS, asked
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, parsed
from openlatch.tls import trusted

_ADMINISTRATOR = "doveadm"
# The tag of our commands and their answers.
_TAG = "open latch"
_SECONDS_TO_GO = 3


class MailSessions:
    """The sessions of a mail server whose administration is at ``address``; its password is ``secret``."""

    def __init__(self, address: str, secret: str) -> None:
        self._address = address.rstrip("/")
        self._secret = secret

    def going_on(self, who: str = "") -> list[dict[str, str]]:
        """The present connections: username, service, pid and ip of each; of one login, or of all."""
        mask = {"mask": [who]} if who else {}
        return self._asked("who", {"separateConnections": True, **mask})

    def presences(self, known: set[str]) -> Iterator[Presence]:
        """The sessions of logins that are known, as they are now."""
        now = datetime.now(UTC)
        for row in self.going_on():
            if row["username"] in known:
                handle = {"who": row["username"], "process": row["pid"]}
                key = f"{row['username']}@{row['pid']}"
                yield Presence(key, row["username"], row["service"].upper(), row["ip"], now, now, handle)

    def end(self, handle: JsonObject) -> str:
        """End all sessions of a login, since a remaining one would keep its mailboxes open."""
        self._asked("kick", {"mask": [handle["who"]]})
        # The server answers before the processes have exited.
        deadline = time.monotonic() + _SECONDS_TO_GO
        while self.wrong(handle) is not None and time.monotonic() < deadline:
            time.sleep(0.05)
        return f"Ended the sessions of {handle['who']}."

    def wrong(self, handle: JsonObject) -> str | None:
        """None when the session of a handle is gone."""
        there = any(row["pid"] == handle["process"] for row in self.going_on(handle["who"]))
        return f"{handle['who']} is still signed in" if there else None

    def _asked(self, command: str, parameters: JsonObject) -> list[dict[str, str]]:
        try:
            with httpx.Client(auth=(_ADMINISTRATOR, self._secret), timeout=CALL_SECONDS / 2, verify=trusted()) as http:
                answer = asked(http, "POST", f"{self._address}/doveadm/v1", json=[[command, parameters, _TAG]])
            if answer.status_code in (401, 403):
                raise SystemRefused(
                    "The mail server's administration refused the password.",
                    "Set doveadm_password there to that of Open Latch's login.",
                )
            ((kind, rows, _),) = parsed(answer.raise_for_status().content)
        except (httpx.HTTPError, httpx.InvalidURL, ValueError, TypeError) as error:
            raise SystemDown(
                f"The mail server's administration did not answer: {error}",
                "It will be tried again; look whether it can be reached, or set no address for it.",
            ) from error
        # Exit code 68 (no such user) means that there was no session.
        if kind == "doveadmResponse":
            return list(rows)
        if kind == "error" and isinstance(rows, dict) and rows.get("exitCode") == 68:
            return []
        raise SystemRefused(f"The mail server's administration refused {command}: {rows}", "Look at what it refused.")
