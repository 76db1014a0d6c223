"""Security events of others: taken as the standards have them, once, and acted on at once."""

from __future__ import annotations

import json
import threading
from base64 import urlsafe_b64encode
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from uuid import UUID, uuid4

import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec
from flask.testing import FlaskClient
from sqlalchemy import select

from openlatch import schemas
from openlatch.api.app import make_app
from openlatch.core import signals as core
from openlatch.errors import BadInput, NotAllowed
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.people import erasure, held_data
from openlatch.service.signals import sources, transmitter
from openlatch.store.tables import Account, JournalEntry, Notice, Person, ReceivedSignal, Revocation, SignIn, WebSession
from tests.service.conftest import Small

DISABLED = f"{core.RISC}account-disabled"
REVOKED = f"{core.CAEP}session-revoked"
MARA = {"format": "email", "email": "Mara@example.org"}


def made_key() -> ec.EllipticCurvePrivateKey:
    """A key to sign with."""
    return ec.generate_private_key(ec.SECP256R1())


@dataclass
class Transmitter:
    """Somebody who tells events, signed by PyJWT."""

    key: ec.EllipticCurvePrivateKey = field(default_factory=made_key)
    port: int = 0

    @property
    def issuer(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def answer(self, path: str) -> dict[str, Any] | None:
        if path == "/.well-known/ssf-configuration":
            return {"issuer": self.issuer, "jwks_uri": f"{self.issuer}/keys"}
        public = json.loads(jwt.algorithms.ECAlgorithm.to_jwk(self.key.public_key()))
        return {"keys": [{**public, "kid": "k1", "use": "sig"}]} if path == "/keys" else None

    def token(self, small: Small, event: str = DISABLED, typ: str = "secevent+jwt", **changed: Any) -> str:
        now = int(small.clock().timestamp())
        claims = {
            "iss": self.issuer,
            "aud": small.service.address,
            "jti": str(uuid4()),
            "iat": now,
            "sub_id": MARA,
            "events": {event: {"event_timestamp": now - 60, "reason_admin": {"en": "Lost phone"}}},
        }
        key = changed.pop("key", self.key)
        told = {name: value for name, value in {**claims, **changed}.items() if value is not None}
        return jwt.encode(told, key, "ES256", headers={"typ": typ, "kid": "k1"})


@pytest.fixture
def sender() -> Iterator[Transmitter]:
    made = Transmitter()

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            found = made.answer(self.path)
            body = json.dumps(found or {}).encode()
            self.send_response(200 if found else 404)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    made.port = server.server_port
    threading.Thread(target=server.serve_forever, daemon=True).start()
    transmitter._keys.clear()
    transmitter._asked_anew.clear()
    yield made
    server.shutdown()
    server.server_close()


@dataclass
class Receiver:
    """The service with a source, as a transmitter finds it."""

    small: Small
    http: FlaskClient
    address: str
    secret: str

    def push(self, token: str, secret: str = "", kind: str = "application/secevent+jwt") -> tuple[int, str]:
        headers = {"Authorization": f"Bearer {secret or self.secret}", "Content-Type": kind}
        answer = self.http.post(self.address, data=token, headers=headers)
        return answer.status_code, (answer.get_json(silent=True) or {}).get("err", "")

    def received(self) -> list[tuple[str, str]]:
        with self.small.service.unit(self.small.itself) as unit:
            return [(r.event.rpartition("/")[2], r.outcome) for r in unit.db.scalars(select(ReceivedSignal))]


@pytest.fixture
def receiver(small: Small, sender: Transmitter) -> Receiver:
    wish = schemas.SetSignalSource(
        name="Fellside",
        issuer=sender.issuer,
        reactions={REVOKED: "end_sessions", f"{core.RISC}account-purged": "end_access"},
    )
    with small.service.unit(small.itself) as unit:
        made = sources.add(unit, wish)
    app = make_app(small.service, "")
    return Receiver(small, app.test_client(), made.source.address.removeprefix(small.service.address), made.token)


def test_somebody_who_is_reported_is_flagged_told_and_cleared(receiver: Receiver, sender: Transmitter) -> None:
    """Once, however often it is pushed; the flags clear when somebody says that it is dealt with."""
    small = receiver.small
    token = sender.token(small)
    assert receiver.push(token) == receiver.push(token) == (202, "")
    assert receiver.received() == [("account-disabled", "Everything that they hold is flagged.")]
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    (flag,) = small.open_flags("reported")
    assert flag.startswith("Mara, who holds “Run” on Box, was reported on")
    assert flag.endswith("Fellside: the account was disabled.")
    with small.service.unit(small.itself) as unit:
        told = set(unit.db.scalars(select(Notice.sentence)))
        assert "Fellside reports about Mara: the account was disabled. Everything that they hold is flagged." in told
        entry = unit.db.scalars(select(JournalEntry).where(JournalEntry.action == "signal.received")).one()
        assert (entry.actor_name, entry.facts["reaction"]) == ("Fellside", "flag")
        assert [one.is_open for one in sources.received(unit).signals] == [True]
        sources.clear_report(unit, small.person("mara"))
        assert [one.is_open for one in sources.received(unit).signals] == [False]
    evaluate_flags.evaluate_all(small.service, small.itself.organisation)
    assert small.open_flags("reported") == set()


def test_an_account_that_is_enabled_again_is_reported_no_more(receiver: Receiver, sender: Transmitter) -> None:
    """By the service that reported it, and later than that: another one, or an older event, changes nothing."""
    small = receiver.small
    enabled = f"{core.RISC}account-enabled"
    now = int(small.clock().timestamp())
    with small.service.unit(small.itself) as unit:
        made = sources.add(unit, schemas.SetSignalSource(name="Other", issuer=sender.issuer))
    other = replace(receiver, address=made.source.address.removeprefix(small.service.address), secret=made.token)

    def is_reported() -> bool:
        with small.service.unit(small.itself) as unit:
            return unit.db.get_one(Person, small.person("mara")).reported_at is not None

    receiver.push(sender.token(small))
    assert other.push(sender.token(small, enabled)) == (202, "")
    assert is_reported()
    receiver.push(sender.token(small, enabled, events={enabled: {"event_timestamp": now - 600}}))
    assert is_reported()
    receiver.push(sender.token(small, enabled, events={enabled: {"event_timestamp": now - 30}}))
    assert not is_reported()
    # An event that was longer on its way: it is over by now.
    receiver.push(sender.token(small))
    assert not is_reported()
    assert receiver.received()[-1] == ("account-disabled", "Their account was enabled again since.")


def test_sessions_end_and_access_ends_where_it_is_set(receiver: Receiver, sender: Transmitter) -> None:
    """At once; whoever does not sign in here is told so."""
    small = receiver.small
    small.signed_in("mara")
    receiver.push(sender.token(small, REVOKED))
    with small.service.unit(small.itself) as unit:
        sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == small.person("mara"))).one()
        assert unit.db.scalars(select(WebSession).where(WebSession.sign_in_id == sign_in.id)).all() == []
    receiver.push(sender.token(small, REVOKED, sub_id={"format": "email", "email": "owen@example.net"}))
    purged, owen = f"{core.RISC}account-purged", {"format": "account", "uri": "acct:owen@example.net"}
    assert receiver.push(sender.token(small, purged, sub_id=owen)) == (202, "")
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(Revocation)).all() == []
        unit.db.get_one(Account, small.account("rota")).owner_id = small.person("ines")
    assert receiver.push(sender.token(small, purged, sub_id=owen)) == (202, "")
    assert receiver.received() == [
        ("session-revoked", "Their sessions and tokens here were ended."),
        ("session-revoked", "They have no sign-in here."),
        ("account-purged", "Their access could not be ended at once: Nobody would answer for Rota."),
        ("account-purged", "All their access is being ended."),
    ]
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(Revocation)).one().reason.startswith("Fellside reports about Owen")


def nested(depth: int, by: str) -> Any:
    """Somebody named by a subject that holds a subject, and so on."""
    named: Any = dict(MARA)
    for _ in range(depth):
        named = {"format": "complex", by: named} if by == "user" else {"format": "aliases", by: [named]}
    return named


@pytest.mark.parametrize(
    ("changed", "error"),
    [
        ({"aud": "https://elsewhere.example.org"}, "invalid_audience"),
        ({"iss": "https://other.example.org"}, "invalid_issuer"),
        ({"typ": "JWT"}, "invalid_request"),
        ({"exp": 4_000_000_000}, "invalid_request"),
        ({"jti": None}, "invalid_request"),
        ({"iat": 1}, "invalid_request"),
        ({"events": {}}, "invalid_request"),
        ({"sub_id": {"format": "email"}}, "invalid_request"),
        ({"sub_id": None}, "invalid_request"),
        ({"sub_id": nested(600, "user")}, "invalid_request"),
        ({"sub_id": nested(400, "identifiers")}, "invalid_request"),
        ({"sub_id": nested(2, "identifiers")}, "invalid_request"),
        ({"key": made_key()}, "invalid_key"),
    ],
)
def test_what_is_not_of_the_transmitter_for_us_and_now_is_refused(
    receiver: Receiver, sender: Transmitter, changed: dict[str, Any], error: str
) -> None:
    """With the error of RFC 8935; nothing happens."""
    assert receiver.push(sender.token(receiver.small, **changed)) == (400, error)
    assert receiver.received() == []


def test_a_wrong_token_type_size_or_source_is_refused(receiver: Receiver, sender: Transmitter) -> None:
    """Before anything is read."""
    token = sender.token(receiver.small)
    assert receiver.push(token, "wrong") == (401, "authentication_failed")
    assert receiver.push(token, kind="application/json") == (400, "invalid_request")
    assert receiver.push("x" * 70_000) == (400, "invalid_request")
    assert receiver.push("no.token.at-all") == (400, "invalid_key")
    deep = urlsafe_b64encode(b"[" * 20_000).decode()
    assert receiver.push(f"{deep}.{deep}.x") == (400, "invalid_key")
    elsewhere = replace(receiver, address=f"/signals/receive/{uuid4()}")
    assert elsewhere.push(token) == (401, "authentication_failed")
    # A new key of the issuer's is asked for, but not at once again.
    transmitter._asked_anew.clear()
    sender.key = made_key()
    assert receiver.push(sender.token(receiver.small)) == (202, "")


@pytest.mark.parametrize(
    ("subject", "who"),
    [
        ({"format": "aliases", "identifiers": [{"format": "phone_number", "phone_number": "+441"}, MARA]}, "mara"),
        ({"format": "complex", "user": MARA, "device": {"format": "opaque", "id": "d"}}, "mara"),
        ({"format": "email", "email": "stranger@example.org"}, None),
        ({"format": "opaque", "id": "m.arlen"}, None),
        ({"format": "uri", "uri": "https://fellside.example.org/people/1"}, None),
    ],
)
def test_whom_it_is_about(receiver: Receiver, sender: Transmitter, subject: dict[str, Any], who: str | None) -> None:
    """By any of the ways in which somebody is named; nobody is guessed."""
    assert receiver.push(sender.token(receiver.small, sub_id=subject)) == (202, "")
    with receiver.small.service.unit(receiver.small.itself) as unit:
        (row,) = unit.db.scalars(select(ReceivedSignal))
        assert row.person_id == (receiver.small.person(who) if who else None)


def test_a_verification_is_taken_and_does_nothing(receiver: Receiver, sender: Transmitter) -> None:
    """With its state, or a subject of the stream."""
    token = sender.token(receiver.small, core.VERIFICATION, sub_id={"format": "opaque", "id": "stream"})
    assert receiver.push(token) == (202, "")
    assert receiver.received() == []


def test_sources_are_for_administrators_and_asked_before_they_are_kept(small: Small, sender: Transmitter) -> None:
    """What is no event, and an issuer that says that it is another, are refused."""
    wish = schemas.SetSignalSource(name="Fellside", issuer=sender.issuer)
    for bad in (
        wish.model_copy(update={"issuer": f"{sender.issuer}/tenant"}),
        wish.model_copy(update={"issuer": "http://127.0.0.1:1"}),
        wish.model_copy(update={"issuer": "https://[bad"}),
        wish.model_copy(update={"issuer": "http://login.example.org"}),
        wish.model_copy(update={"reactions": {"nonsense": "flag"}}),
        wish.model_copy(update={"system": UUID(int=7)}),
    ):
        with pytest.raises(BadInput), small.service.unit(small.itself) as unit:
            sources.add(unit, bad)
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        sources.add(unit, wish)
    with small.service.unit(small.itself) as unit:
        made = sources.add(unit, wish).source
        changed = sources.change(
            unit, made.id, wish.model_copy(update={"reactions": {DISABLED: "notify"}}), made.version
        )
        assert changed.reactions[DISABLED] == "notify"
        sources.remove(unit, made.id)
        assert sources.rows(unit).sources == []


def test_what_was_told_of_somebody_is_theirs_to_see_and_erased_with_them(
    receiver: Receiver, sender: Transmitter
) -> None:
    """With the words in which it was told."""
    small = receiver.small
    owen = {"format": "email", "email": "owen@example.net"}
    receiver.push(sender.token(small, sub_id=owen))
    with small.service.unit(small.itself) as unit:
        assert "Lost phone" in str(held_data.of_person(unit, small.person("owen")))
        row = unit.db.get_one(Person, small.person("owen"))
        erasure._forget_names(unit, row, "Somebody")
        assert (row.reported_at, row.reported) == (None, "")
        assert unit.db.scalars(select(ReceivedSignal)).all() == []
