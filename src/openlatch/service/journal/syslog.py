"""The journal to a syslog server: messages by RFC 5424 over TLS by RFC 5425, each with an OCSF event."""

from __future__ import annotations

import socket
import ssl
import time
from collections.abc import Iterable
from contextlib import suppress
from urllib.parse import urlsplit
from uuid import UUID

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from openlatch.core.journal.syslog import Server, message
from openlatch.errors import SystemDown
from openlatch.service.journal import events
from openlatch.service.unit import Service
from openlatch.store.database import transaction
from openlatch.store.tables import JournalHead, SyslogPosition

SECONDS = 10.0
# For everything that is sent in one go.
LONGEST = 60.0


def due(service: Service, organisation: UUID) -> bool:
    """Whether there is something to forward."""
    if service.syslog is None:
        return False
    with transaction(service.engine, organisation) as db:
        told = db.scalar(select(SyslogPosition.position).where(SyslogPosition.organisation_id == organisation))
        return (db.scalar(select(func.max(JournalHead.position))) or 0) > (told or 0)


def forward(service: Service, organisation: UUID) -> int:
    """Forward the next entries; returns how many. SystemDown when the server does not take them: they are kept.

    The protocol has no answers: what was sent when a connection broke is sent again, with the same ids.
    """
    if service.syslog is None:
        return 0
    with transaction(service.engine, organisation) as db:
        db.execute(insert(SyslogPosition).values(organisation_id=organisation).on_conflict_do_nothing())
        mine = select(SyslogPosition).where(SyslogPosition.organisation_id == organisation)
        # One process at a time; another one leaves it alone.
        row = db.scalars(mine.with_for_update(skip_locked=True)).one_or_none()
        if row is None:
            return 0
        found = events.after(service, db, organisation, row.position)
        if found:
            host = urlsplit(service.address).hostname or "-"
            _send(service.syslog, (message(one, host) for one in found))
            row.position = int(found[-1]["metadata"]["sequence"])
    return len(found)


def _send(server: Server, messages: Iterable[bytes]) -> None:
    try:
        trusting = ssl.create_default_context(cafile=server.authorities or None)
        trusting.minimum_version = ssl.TLSVersion.TLSv1_2
        with (
            socket.create_connection((server.host, server.port), SECONDS) as plain,
            trusting.wrap_socket(plain, server_hostname=server.host) as connection,
        ):
            until = time.monotonic() + LONGEST
            for one in messages:
                if time.monotonic() > until:
                    raise TimeoutError(f"it takes longer than {LONGEST:.0f} seconds")
                connection.sendall(one)
            # A server that still has something to read when it closes resets the connection. Some close without the
            # goodbye that the standard wants of them.
            with suppress(ssl.SSLEOFError):
                connection.unwrap()
    except OSError as error:
        raise SystemDown(
            f"The syslog server at {server.host}:{server.port} did not take the journal: {error}",
            "Look whether it can be reached, and whether its certificate is one of syslog_authorities.",
        ) from error
