"""Passkeys, with an authenticator in software: registered, and given for a password, a code, or a proof."""

from __future__ import annotations

import hashlib
import json
import secrets
from base64 import urlsafe_b64decode, urlsafe_b64encode
from dataclasses import dataclass, field, replace
from typing import Any

import cbor2
import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from flask.testing import FlaskClient
from sqlalchemy import select

from openlatch.api.app import make_app
from openlatch.errors import Conflict, NotSignedIn
from openlatch.runtime.cluster import Cluster
from openlatch.service.identity import passkeys, recovery, sign_ins
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import JournalEntry, Notice, Passkey, Person, SignIn
from tests.conftest import Clock

ADA, PASSWORD = "ada@example.org", "a long password"
ORIGIN = "http://localhost:8620"


def b64(data: bytes) -> str:
    return urlsafe_b64encode(data).rstrip(b"=").decode()


def plain(text: str) -> bytes:
    return urlsafe_b64decode(text + "=" * (-len(text) % 4))


@dataclass
class Device:
    """An authenticator that has one key, and verifies its owner or is only touched."""

    key: ec.EllipticCurvePrivateKey = field(default_factory=lambda: ec.generate_private_key(ec.SECP256R1()))
    ident: bytes = field(default_factory=lambda: secrets.token_bytes(16))
    owner: str = ""
    count: int = 0
    verifies: bool = True
    origin: str = ORIGIN

    def _data(self, domain: str, more: bytes = b"") -> bytes:
        flags = 0x01 | (0x04 if self.verifies else 0) | (0x40 if more else 0)
        return hashlib.sha256(domain.encode()).digest() + bytes([flags]) + self.count.to_bytes(4, "big") + more

    def _client(self, kind: str, challenge: str) -> bytes:
        return json.dumps({"type": kind, "challenge": challenge, "origin": self.origin}).encode()

    def _credential(self, response: dict[str, str]) -> dict[str, Any]:
        return {"id": b64(self.ident), "rawId": b64(self.ident), "type": "public-key", "response": response}

    def make(self, options: dict[str, Any]) -> dict[str, Any]:
        """What the browser answers to being asked for a new one."""
        self.owner = options["user"]["id"]
        point = self.key.public_key().public_numbers()
        cose = {1: 2, 3: -7, -1: 1, -2: point.x.to_bytes(32, "big"), -3: point.y.to_bytes(32, "big")}
        told = bytes(16) + len(self.ident).to_bytes(2, "big") + self.ident + cbor2.dumps(cose)
        made = {"fmt": "none", "attStmt": {}, "authData": self._data(options["rp"]["id"], told)}
        return self._credential(
            {
                "clientDataJSON": b64(self._client("webauthn.create", options["challenge"])),
                "attestationObject": b64(cbor2.dumps(made)),
            }
        )

    def sign(self, options: dict[str, Any]) -> dict[str, Any]:
        """What it answers to being asked for one that is there."""
        data, client = self._data(options["rpId"]), self._client("webauthn.get", options["challenge"])
        signature = self.key.sign(data + hashlib.sha256(client).digest(), ec.ECDSA(hashes.SHA256()))
        return self._credential(
            {
                "clientDataJSON": b64(client),
                "authenticatorData": b64(data),
                "signature": b64(signature),
                "userHandle": self.owner,
            }
        )


@dataclass
class World:
    """The service, and browsers of people who sign in."""

    service: Service
    itself: Viewer
    app: Any

    def browser(self) -> FlaskClient:
        client: FlaskClient = self.app.test_client()
        return client

    def post(self, browser: FlaskClient, path: str, body: Any = None, method: str = "POST") -> Any:
        csrf = (browser.get("/api/v1/me").json or {}).get("csrf", "")
        return browser.open(f"/api/v1{path}", method=method, json=body, headers={"X-CSRF-Token": csrf})

    def by_password(self, **more: Any) -> Any:
        browser = self.browser()
        return browser, self.post(browser, "/session", {"address": ADA, "password": PASSWORD, **more})

    def by_passkey(self, device: Device, browser: FlaskClient | None = None) -> Any:
        browser = browser or self.browser()
        return browser, self.post(browser, "/session", {"passkey": self.answered(browser, "/sign-in/passkey", device)})

    def answered(self, browser: FlaskClient, path: str, device: Device) -> dict[str, Any]:
        asked = self.post(browser, path).json
        return {"state": asked["state"], "credential": device.sign(asked["options"])}

    def with_passkey(self, device: Device, name: str = "Phone") -> tuple[FlaskClient, str]:
        browser, answer = self.by_password()
        assert answer.status_code == 200, answer.text
        asked = self.post(browser, "/me/passkeys/begin").json
        body = {"name": name, "state": asked["state"], "credential": device.make(asked["options"])}
        made = self.post(browser, "/me/passkeys", body)
        assert made.status_code == 201, made.text
        assert self.post(browser, "/me/passkeys", body).status_code == 422
        return browser, made.json["id"]


@pytest.fixture
def world(service: Service, organisation: Viewer, cluster: Cluster, database: str) -> World:
    return World(service, organisation, make_app(service, cluster.url(database)))


def test_a_passkey_that_knows_its_owner_is_enough_and_a_password_alone_is_not_any_more(world: World) -> None:
    device = Device(count=1)
    world.with_passkey(device)
    with world.service.unit(world.itself) as unit:
        assert unit.db.scalars(select(Person.second_factor).where(Person.name == "Ada Admin")).one()
    device.count = 2
    browser, answer = world.by_passkey(device)
    assert (answer.status_code, browser.get("/api/v1/me").json["person"]["name"]) == (200, "Ada Admin")
    assert browser.get("/api/v1/me/sign-in").json["passkeys"][0]["last_used_at"]
    # What is there already is not added again, and is not known by what it is called.
    asked = world.post(browser, "/me/passkeys/begin").json
    assert [plain(one["id"]) for one in asked["options"]["excludeCredentials"]] == [device.ident]
    _, refused = world.by_password()
    assert (refused.status_code, refused.json["title"]) == (401, "A code is needed")
    asked = refused.json["passkey"]
    touched = replace(device, count=3, verifies=False)
    answer = {"state": asked["state"], "credential": touched.sign(asked["options"])}
    _, opened = world.by_password(passkey=answer)
    assert opened.status_code == 200, opened.text
    assert world.by_password(passkey=answer)[1].status_code == 401


@pytest.mark.parametrize(
    "spoilt",
    ["only touched", "another key", "another site", "somebody else", "unknown", "counted before", "twice", "too late"],
)
def test_what_is_not_that_passkey_here_and_now_lets_nobody_in(world: World, clock: Clock, spoilt: str) -> None:
    device = Device(count=5)
    world.with_passkey(device)
    tried = replace(device, count=6)
    match spoilt:
        case "only touched":
            tried.verifies = False
        case "another key":
            tried.key = Device().key
        case "another site":
            tried.origin = "https://latch.example.net"
        case "somebody else":
            tried.owner = b64(bytes(16))
        case "unknown":
            tried.ident = secrets.token_bytes(16)
        case "counted before":
            tried.count = 5
    browser = world.browser()
    answer = world.answered(browser, "/sign-in/passkey", tried)
    if spoilt == "twice":
        assert world.post(world.browser(), "/session", {"passkey": answer}).status_code == 200
    if spoilt == "too late":
        sealed = world.service.cipher.decrypt(answer["state"].encode())
        answer["state"] = world.service.cipher.encrypt_at_time(sealed, 1).decode()
    refused = world.post(browser, "/session", {"passkey": answer})
    assert refused.status_code == 401, refused.text
    assert browser.get("/api/v1/me").status_code == 401
    with world.service.unit(world.itself) as unit:
        told = list(unit.db.scalars(select(Notice.sentence).where(Notice.sentence.contains("copied"))))
        assert len(told) == (spoilt == "counted before")


def test_nonsense_is_told_and_breaks_nothing(world: World) -> None:
    """Every part of an answer replaced by something else, in signing in and in adding one."""
    device = Device()
    browser, _ = world.with_passkey(device)
    deep = [urlsafe_b64encode(step * 3000).decode() for step in (b"[", b"\x81")]
    odd = [None, "", "\u0000", "ü", "A" * 5000, 7, [], {}, "AAAA", *deep]
    shared, added = ("id", "rawId", "type", "response", "clientDataJSON"), ("attestationObject",)
    wrong = []

    def spoilt(credential: dict[str, Any], name: str, value: Any) -> dict[str, Any]:
        (credential if name in credential else credential["response"])[name] = value
        return credential

    for value in odd:
        # An empty handle is none: the key alone says whose it is.
        for name in (*shared, "authenticatorData", "signature", *(["userHandle"] if value else [])):
            asked = passkeys.ask(world.service, passkeys.Purpose.SIGN_IN, None)
            given = Given(asked.state, spoilt(device.sign(asked.options), name, value))
            with pytest.raises(NotSignedIn):
                passkeys.check(world.service, given, passkeys.Purpose.SIGN_IN)
        for name in (*shared, *added):
            began = world.post(browser, "/me/passkeys/begin").json
            made = spoilt(Device().make(began["options"]), name, value)
            status = world.post(browser, "/me/passkeys", {"name": "X", "state": began["state"], "credential": made})
            if status.status_code not in (400, 422):
                wrong.append((name, value, status.text))
    assert wrong == []


@dataclass
class Given:
    """An answer as the service takes it."""

    state: str
    credential: dict[str, Any]


def test_an_answer_to_one_question_is_none_to_another(world: World) -> None:
    """Neither for another purpose, nor for somebody else's password."""
    device = Device()
    browser, _ = world.with_passkey(device)
    for_proof = world.answered(browser, "/me/proof/passkey", device)
    assert world.post(world.browser(), "/session", {"passkey": for_proof}).status_code == 401
    assert world.by_password(passkey=for_proof)[1].status_code == 401
    for_sign_in = world.answered(browser, "/sign-in/passkey", device)
    assert world.post(browser, "/me/proof", {"passkey": for_sign_in}).status_code == 401
    with world.service.unit(world.itself) as unit:
        row = unit.db.scalars(select(Passkey)).one()
        other = SignIn(organisation_id=row.organisation_id, address="bo@example.org", password_hash="x", role="member")
        person = Person(organisation_id=row.organisation_id, name="Bo", inside=True)
        unit.db.add(person)
        unit.db.flush()
        other.person_id = person.id
        unit.db.add(other)
        unit.db.flush()
        row.sign_in_id = other.id
    assert world.post(browser, "/me/proof", {"passkey": for_proof}).status_code == 401


def test_a_passkey_does_not_wait_for_the_tries_of_others_and_a_wrong_one_tells_nothing(world: World) -> None:
    """During a wait the right password with another passkey is answered as the wrong one is."""
    device = Device(count=1)
    world.with_passkey(device)
    asked = world.by_password()[1].json["passkey"]
    for _ in range(12):
        last = world.by_password(password="not the password")[1]
    assert last.status_code == 429
    wrong = {"state": asked["state"], "credential": Device(owner=device.owner).sign(asked["options"])}
    right = {"state": asked["state"], "credential": replace(device, count=2).sign(asked["options"])}
    for given, status in (
        ({}, 429),
        ({"password": "not the password", "passkey": right}, 429),
        ({"passkey": wrong}, 429),
        ({"passkey": right}, 200),
    ):
        assert world.by_password(**given)[1].status_code == status, given


def test_a_passkey_proves_who_one_is(world: World, clock: Clock) -> None:
    device = Device()
    browser, ident = world.with_passkey(device)
    clock.forward(minutes=20)
    assert world.post(browser, f"/me/passkeys/{ident}", method="DELETE").json["title"] == "Prove that it is you"
    proved = world.post(browser, "/me/proof", {"passkey": world.answered(browser, "/me/proof/passkey", device)})
    assert proved.status_code == 200, proved.text
    renamed = world.post(browser, f"/me/passkeys/{ident}", {"name": "Old phone"}, "PUT")
    assert renamed.json["name"] == "Old phone"
    assert world.post(browser, f"/me/passkeys/{ident}", method="DELETE").status_code == 200
    assert world.by_password()[1].status_code == 200
    with world.service.unit(world.itself) as unit:
        assert not unit.db.scalars(select(Person.second_factor).where(Person.name == "Ada Admin")).one()
        actions = [one for one in unit.db.scalars(select(JournalEntry.action)) if one.startswith("passkey")]
    assert sorted(actions) == ["passkey.added", "passkey.removed", "passkey.renamed"]


def test_whoever_lost_it_has_recovery_codes_or_an_administrator(world: World, clock: Clock) -> None:
    world.with_passkey(Device())
    with world.service.unit(world.itself) as unit:
        sign_in = unit.db.scalars(select(SignIn)).one()
        who = Viewer(sign_in.organisation_id, "Ada Admin", sign_in.person_id, sign_in.id, administrator=True)
    with world.service.unit(who) as unit:
        code = recovery.make(unit)[0]
    assert world.by_password(code="not-it")[1].status_code == 401
    assert world.by_password(code=code)[1].status_code == 200
    with world.service.unit(who) as unit:
        assert not sign_ins.reset_factor(unit, sign_in.id).second_factor
    assert world.by_password()[1].status_code == 200


def test_an_address_without_a_name_has_no_passkeys(service: Service) -> None:
    """On this machine alone they are those of localhost."""
    with pytest.raises(Conflict, match="need a host name"):
        passkeys.party(replace(service, address="http://192.0.2.7:8620"))
    assert passkeys.party(replace(service, address="https://latch.example.org")) == passkeys.Party(
        "latch.example.org", "https://latch.example.org"
    )
