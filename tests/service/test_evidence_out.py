"""The journal for other programs: OCSF events as others wrote the schema down, and over syslog."""

from __future__ import annotations

import json
import os
import re
import shutil
import socket
import ssl
import subprocess
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from sqlalchemy import select

from openlatch.core.journal import ocsf, syslog
from openlatch.errors import SystemDown
from openlatch.processes import free_port
from openlatch.service.journal import events
from openlatch.service.journal import syslog as forwarding
from openlatch.store import journal
from openlatch.store.database import transaction
from openlatch.store.tables import Grant
from tests.service import ocsf_classes
from tests.service.conftest import Small
from tests.waiting import until

# The ABNF of RFC 5424, section 6, with one element of structured data.
SYSLOG = re.compile(
    r"<(?P<level>\d{1,3})>1 (?P<at>\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,6})?(Z|[+-]\d\d:\d\d)) (?P<host>[!-~]{1,255}) "
    r"(?P<program>[!-~]{1,48}) (-|[!-~]{1,128}) (?P<kind>[!-~]{1,32}) "
    r"\[(?P<element>[!-~]{1,32}?) (?P<name>[!-~]{1,32}?)=\"(?P<value>[^\"\\\]]*)\"\] \ufeff(?P<text>.*)",
    re.DOTALL,
)


def all_events(small: Small) -> list[Any]:
    with transaction(small.service.engine, small.itself.organisation) as db:
        assert small.itself.organisation is not None
        return events.after(small.service, db, small.itself.organisation, 0)


def told(action: str, **facts: object) -> Any:
    entry = {
        "organisation": "o",
        "position": 7,
        "at": "2026-03-31T10:15:00.250000Z",
        "actor": {"id": None, "name": "Open Latch"},
        "action": action,
        "subject": {"kind": action.partition(".")[0], "id": "g", "name": "Mailbox", "account": "a"},
        "facts": facts,
        "hash": "00",
    }
    return ocsf.event(entry, "1.0", {"kind": "person", "id": "p", "name": "Bo"} if action.startswith("grant") else None)


def test_every_entry_is_an_event_of_the_schema(small: Small) -> None:
    """With what its class and its objects need and nothing that they don't know, by what others wrote down from it."""
    small.signed_in("mara")
    found = all_events(small)
    found += [told(action) for action in ocsf._OWN]
    found += [told(f"thing.{done}") for done in (*ocsf._CREATE, *ocsf._READ, *ocsf._DELETE, "changed")]
    privileges = [told("grant.given_there"), told("grant.revoked", proof="confirmed", origin="192.0.2.7")]
    assert [one["unmapped"]["actor"]["user"]["name"] for one in privileges] == ["Open Latch"] * 2
    found += privileges
    assert len(found) > 50
    schema = ocsf_classes.Schema(ocsf_classes.read())
    for one in found:
        event = schema.event(one["class_uid"])
        assert list(schema.faults(event, one)) == []
        activity = schema.activities(event)[one["activity_id"]]
        assert one["activity_name"].lower().replace(" ", "_") == activity.lower()
        assert one["type_uid"] == one["class_uid"] * 100 + one["activity_id"]
        assert (one["category_uid"], one["metadata"]["version"]) == (3, "1.2.0")
        assert one["severity_id"] in (1, 2, 3, 4)
        assert one["status_id"] in (0, 1, 2)
    assert [one["metadata"]["sequence"] for one in all_events(small)] == sorted(
        one["metadata"]["sequence"] for one in all_events(small)
    )
    assert told("x.y")["time"] == int(datetime(2026, 3, 31, 10, 15, 0, 250_000, tzinfo=UTC).timestamp() * 1000)


def test_privileges_are_revoked_only_where_the_system_showed_it() -> None:
    """What somebody says, or nobody could prove, is something done to the grant, with how it is known."""
    classes = {
        name: (one["class_uid"], one["activity_id"], one["status"], one.get("status_detail"))
        for name, one in {
            "confirmed": told("grant.revoked", proof="confirmed"),
            "stated": told("grant.ended", proof="stated"),
            "unproved": told("grant.ended", proof="unproved"),
            "said to be there": told("grant.given_there", stated_by="Bo"),
            "said to be away": told("grant.taken_there", stated_by="Bo"),
            "decided": told("grant.given"),
            "shown": told("grant.given_there"),
            "trimmed": told("grant.trimmed", proof="confirmed"),
        }.items()
    }
    assert classes == {
        "confirmed": (3005, 2, "Success", "proof: confirmed"),
        "stated": (3004, 3, "Unknown", "proof: stated"),
        "unproved": (3004, 3, "Unknown", "proof: unproved"),
        "said to be there": (3004, 3, "Unknown", None),
        "said to be away": (3004, 3, "Unknown", None),
        "decided": (3004, 3, "Success", None),
        "shown": (3005, 1, "Success", None),
        "trimmed": (3004, 3, "Success", "proof: confirmed"),
    }
    assert told("grant.revoked", proof="confirmed")["user"]["name"] == "Bo"
    assert told("system.tried")["status"] == "Success"
    assert told("grant.owed")["status"] == "Unknown"
    assert (told("sign_in.tried")["status_id"], told("sign_in.tried")["severity"]) == (2, "Medium")


def test_a_grant_and_a_sign_in_are_told_with_whose_they_are(small: Small) -> None:
    with small.service.unit(small.itself) as unit:
        grant = unit.db.scalars(select(Grant).where(Grant.person_id == small.person("owen"))).first()
        assert grant is not None
        unit.record("grant.given_there", "grant", grant.id, "Mailbox", grant.account_id)
    mara = small.signed_in("mara")
    with small.service.unit(small.itself) as unit:
        unit.record("passkey.added", "sign_in", mara.sign_in, "Mara", passkey="Phone")
    found = all_events(small)
    last = next(one for one in reversed(found) if one["class_uid"] == 3005)
    assert (found[-1]["class_uid"], found[-1]["user"]["uid"]) == (3001, str(small.person("mara")))
    assert (last["class_uid"], last["user"]["uid"], last["resource"]["uid"]) == (
        3005,
        str(small.person("owen")),
        str(grant.account_id),
    )


@dataclass
class SyslogServer:
    """A server of others: TLS, and what came, cut into messages by their lengths."""

    port: int
    authorities: Path
    got: list[str] = field(default_factory=list)
    cuts_off: bool = False


def certificate(folder: Path) -> tuple[Path, Path]:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    (folder / "cert.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    (folder / "key.pem").write_bytes(private)
    return folder / "cert.pem", folder / "key.pem"


@pytest.fixture
def server(tmp_path: Path) -> Iterator[SyslogServer]:
    cert, key = certificate(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    listening = socket.create_server(("127.0.0.1", 0))
    made = SyslogServer(listening.getsockname()[1], cert)

    def serve() -> None:
        while True:
            try:
                plain, _ = listening.accept()
            except OSError:
                return
            try:
                with context.wrap_socket(plain, server_side=True) as connection:
                    if made.cuts_off:
                        connection.recv(10)
                        continue
                    data = b""
                    while chunk := connection.recv(65_536):
                        data += chunk
                    while data:
                        length, _, rest = data.partition(b" ")
                        made.got.append(rest[: int(length)].decode("utf-8"))
                        data = rest[int(length) :]
                    connection.unwrap()
            except OSError:
                continue

    threading.Thread(target=serve, daemon=True).start()
    yield made
    listening.close()


def test_the_journal_goes_to_a_syslog_server_in_order_and_nothing_is_lost(small: Small, server: SyslogServer) -> None:
    """Over TLS with a certificate that is checked; what was not taken goes again."""
    organisation = small.itself.organisation
    assert organisation is not None
    away = replace(small.service, syslog=syslog.Server("localhost", 1, str(server.authorities)))
    with pytest.raises(SystemDown, match="did not take the journal"):
        forwarding.forward(away, organisation)
    unknown = replace(small.service, syslog=syslog.Server("localhost", server.port))
    with pytest.raises(SystemDown, match="certificate"):
        forwarding.forward(unknown, organisation)
    service = replace(small.service, syslog=syslog.Server("localhost", server.port, str(server.authorities)))
    server.cuts_off = True
    with pytest.raises(SystemDown):
        forwarding.forward(service, organisation)
    server.cuts_off = False
    assert forwarding.due(service, organisation)
    count = forwarding.forward(service, organisation)
    assert not forwarding.due(service, organisation)
    with small.service.unit(small.itself) as unit:
        unit.record("sign_in.tried", "sign_in", None, "Ündine", origin="192.0.2.7")
    assert forwarding.forward(service, organisation) == 1
    parsed = [match for one in server.got if (match := SYSLOG.fullmatch(one))]
    assert len(parsed) == len(server.got) == count + 1
    with transaction(small.service.engine, organisation) as db:
        position, _ = journal.head(db)
    assert {(one["element"], one["name"]) for one in parsed} == {("meta", "sequenceId")}
    assert [int(one["value"]) for one in parsed] == list(range(1, position + 1))
    last = parsed[-1]
    # Log audit, warning.
    assert (last["program"], last["kind"], int(last["level"])) == ("openlatch", "sign_in.tried", 13 * 8 + 4)
    assert json.loads(last["text"])["user"]["name"] == "Ündine"


@pytest.fixture
def rsyslog(tmp_path: Path) -> Iterator[tuple[syslog.Server, Path]]:
    """A syslog server that others wrote, over TLS, and the file that it writes messages to as it understood them."""
    program = shutil.which("rsyslogd", path=f"{os.environ['PATH']}:/usr/sbin")
    assert program, "Install Debian's packages rsyslog and rsyslog-gnutls"
    cert, key = certificate(tmp_path)
    port, written = free_port(), tmp_path / "messages"
    config = tmp_path / "rsyslog.conf"
    config.write_text(
        f"""
global(workDirectory="{tmp_path}" maxMessageSize="64k" DefaultNetstreamDriver="gtls"
    DefaultNetstreamDriverCAFile="{cert}" DefaultNetstreamDriverCertFile="{cert}" DefaultNetstreamDriverKeyFile="{key}")
module(load="imtcp" StreamDriver.Name="gtls" StreamDriver.Mode="1" StreamDriver.AuthMode="anon")
template(name="fields" type="string"
    string="%syslogfacility-text% %syslogseverity-text% %app-name% %msgid% %structured-data% %msg%\\n")
ruleset(name="all") {{ action(type="omfile" file="{written}" template="fields") }}
input(type="imtcp" port="{port}" address="127.0.0.1" ruleset="all")
"""
    )
    child = subprocess.Popen([program, "-n", "-f", str(config), "-i", str(tmp_path / "pid")])
    until(lambda: socket.create_connection(("127.0.0.1", port), 1).close() or True, OSError)
    yield syslog.Server("localhost", port, str(cert)), written
    child.terminate()
    child.wait(20)


def test_a_syslog_server_that_others_wrote_understands_it(small: Small, rsyslog: tuple[syslog.Server, Path]) -> None:
    """Each message is cut off where it ends, with its severity, kind and number; and nothing is sent twice."""
    server, written = rsyslog
    organisation = small.itself.organisation
    assert organisation is not None
    with small.service.unit(small.itself) as unit:
        unit.record("sign_in.tried", "sign_in", None, "Ündine", origin="192.0.2.7")
    service = replace(small.service, syslog=server)
    count = forwarding.forward(service, organisation)
    assert count > 10
    assert forwarding.forward(service, organisation) == 0
    until(lambda: written.exists() and len(written.read_text().splitlines()) >= count)
    lines = written.read_text().splitlines()
    assert len(lines) == count
    head, _, text = lines[-1].partition("{")
    assert head.split()[:3] == ["audit", "warning", "openlatch"]
    assert f'sign_in.tried [meta sequenceId="{count}"]' in head
    assert json.loads("{" + text)["user"]["name"] == "Ündine"


def test_a_server_is_written_with_or_without_its_port() -> None:
    assert syslog.Server.of("", "") is None
    assert syslog.Server.of("log.example.org", "x") == syslog.Server("log.example.org", 6514, "x")
    assert syslog.Server.of("log.example.org:1514", "") == syslog.Server("log.example.org", 1514)
