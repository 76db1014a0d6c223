"""Events as messages for a syslog server: RFC 5424, framed as RFC 5425 has it."""

from __future__ import annotations

import json
from dataclasses import dataclass

from openlatch.core.journal import ocsf
from openlatch.json_values import JsonObject

# Log audit, by RFC 5424.
FACILITY = 13
_SEVERITIES = {
    ocsf.Severity.INFORMATIONAL: 6,
    ocsf.Severity.LOW: 5,
    ocsf.Severity.MEDIUM: 4,
    ocsf.Severity.HIGH: 3,
}
# The sequence of messages is counted up to this, and begins anew (RFC 5424, 7.3.1).
LARGEST_SEQUENCE = 2_147_483_647


@dataclass(frozen=True, slots=True)
class Server:
    """A syslog server, and the file of the authorities that its certificate is checked by; empty: the system's."""

    host: str
    port: int
    authorities: str = ""

    @classmethod
    def of(cls, written: str, authorities: str) -> Server | None:
        """From ``host:port``, of which the port may be left out; None for an empty one."""
        host, _, port = written.strip().rpartition(":")
        if not written.strip():
            return None
        return cls(host, int(port), authorities) if host and port.isdigit() else cls(written.strip(), 6514, authorities)


def message(event: JsonObject, host: str) -> bytes:
    """An event as a message, framed by its length."""
    level = FACILITY * 8 + _SEVERITIES[ocsf.Severity(event["severity_id"])]
    at = str(event["unmapped"]["at"])
    sequence = (int(event["metadata"]["sequence"]) - 1) % LARGEST_SEQUENCE + 1
    kind = str(event["metadata"]["event_code"])[:32]
    head = f'<{level}>1 {at} {host[:255] or "-"} openlatch - {kind} [meta sequenceId="{sequence}"] '
    told = json.dumps(event, separators=(",", ":"), ensure_ascii=False)
    # The mark says that what follows is UTF-8.
    body = head.encode("ascii", "replace") + b"\xef\xbb\xbf" + told.encode()
    return b"%d %s" % (len(body), body)
