"""Programs that somebody's browser lets in (RFC 8628)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlalchemy import func, select

from openlatch.api.app import make_app
from openlatch.runtime.cluster import Cluster
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import ApiToken, DeviceRequest, JournalEntry, SignIn
from tests.conftest import Clock

KIND = "urn:ietf:params:oauth:grant-type:device_code"
SIGN_IN = {"address": "ada@example.org", "password": "a long password"}


@dataclass
class World:
    """The service, a program without a browser, and a browser."""

    service: Service
    itself: Viewer
    browser: FlaskClient
    program: FlaskClient
    clock: Clock

    def begin(self, **more: str) -> dict[str, Any]:
        answer = self.program.post("/oauth/device_authorization", data={"client_id": "printer", **more})
        assert answer.status_code == 200, answer.text
        found: dict[str, Any] = answer.json
        return found

    def collect(self, code: str, seconds: int = 6) -> Any:
        self.clock.forward(seconds=seconds)
        form = {"grant_type": KIND, "device_code": code, "client_id": "printer"}
        return self.program.post("/oauth/token", data=form)

    def error(self, code: str, seconds: int = 6) -> str:
        answer = self.collect(code, seconds)
        return str(answer.json.get("error", answer.status_code))

    def post(self, path: str, body: Any) -> Any:
        csrf = (self.browser.get("/api/v1/me").json or {}).get("csrf", "")
        return self.browser.post(f"/api/v1{path}", json=body, headers={"X-CSRF-Token": csrf})

    def answer(self, code: str, allows: bool = True) -> Any:
        return self.post("/devices/answer", {"user_code": code, "allows": allows})


@pytest.fixture
def world(service: Service, organisation: Viewer, cluster: Cluster, database: str, clock: Clock) -> World:
    app = make_app(service, cluster.url(database))
    found = World(service, organisation, app.test_client(), app.test_client(), clock)
    assert found.post("/session", SIGN_IN).status_code == 200
    return found


def test_a_program_is_let_in_by_what_it_shows_and_collects_its_token_once(world: World) -> None:
    begun = world.begin(scope="read")
    assert begun["verification_uri_complete"] == f"{begun['verification_uri']}?code={begun['user_code']}"
    assert world.error(begun["device_code"]) == "authorization_pending"
    assert world.error(begun["device_code"], 1) == "slow_down"
    assert world.error(begun["device_code"], 6) == "slow_down"
    shown = world.post("/devices/look", {"user_code": begun["user_code"].lower().replace("-", " ")})
    assert (shown.json["program"], shown.json["scope"]) == ("printer", "read")
    assert world.answer(begun["user_code"]).status_code == 200
    assert world.answer(begun["user_code"]).status_code == 404
    made = world.collect(begun["device_code"], 30).json
    assert (made["token_type"], made["scope"]) == ("Bearer", "read")
    held = {"Authorization": f"Bearer {made['access_token']}"}
    assert world.program.get("/api/v1/me", headers=held).json["person"]["name"] == "Ada Admin"
    assert world.program.post("/api/v1/me/tokens", json={"name": "x"}, headers=held).status_code == 403
    assert world.error(begun["device_code"]) == "invalid_grant"
    with world.service.unit(world.itself) as unit:
        assert unit.db.scalar(select(func.count(ApiToken.id))) == 1
        assert unit.db.scalar(select(func.count(DeviceRequest.id))) == 0
        assert "device.allowed" in list(unit.db.scalars(select(JournalEntry.action)))


def test_a_refusal_and_a_late_answer_give_nothing(world: World) -> None:
    refused, late = world.begin(), world.begin()
    assert world.answer(refused["user_code"], allows=False).status_code == 200
    assert world.error(refused["device_code"]) == "access_denied"
    assert world.error(refused["device_code"]) == "invalid_grant"
    world.clock.forward(seconds=600)
    assert world.answer(late["user_code"]).status_code in (403, 404)
    assert world.error(late["device_code"]) == "expired_token"
    assert world.error("nonsense") == "invalid_grant"


def test_letting_in_needs_a_fresh_proof_and_codes_are_not_guessed(world: World) -> None:
    begun = world.begin()
    for _ in range(12):
        last = world.answer("BBBB-BBBB")
    assert (last.status_code, "Retry-After" in last.headers) == (429, True)
    world.clock.forward(minutes=20)
    begun = world.begin()
    assert world.answer(begun["user_code"]).json["title"] == "Prove that it is you"
    assert world.error(begun["device_code"]) == "authorization_pending"


def test_whoever_was_shut_out_meanwhile_lets_nothing_in(world: World) -> None:
    begun = world.begin()
    assert world.answer(begun["user_code"]).status_code == 200
    with world.service.unit(world.itself) as unit:
        unit.db.scalars(select(SignIn)).one().suspended_at = unit.now
    assert world.error(begun["device_code"]) == "access_denied"


def test_whoever_ended_all_tokens_meanwhile_lets_nothing_in(world: World) -> None:
    """What was let in and not collected yet counts among them."""
    begun = world.begin()
    assert world.answer(begun["user_code"]).status_code == 200
    ident = world.browser.get("/api/v1/sign-ins").json["rows"][0]["id"]
    csrf = world.browser.get("/api/v1/me").json["csrf"]
    ended = world.browser.delete(f"/api/v1/sign-ins/{ident}/tokens", headers={"X-CSRF-Token": csrf})
    assert ended.status_code == 200, ended.text
    assert world.error(begun["device_code"]) == "invalid_grant"


def test_what_is_asked_is_as_the_standard_has_it(world: World) -> None:
    for form, error in (({}, "invalid_request"), ({"client_id": "x", "scope": "everything"}, "invalid_scope")):
        answer = world.program.post("/oauth/device_authorization", data=form)
        assert (answer.status_code, answer.json["error"]) == (400, error)
    described = world.program.get("/.well-known/oauth-authorization-server").json
    assert described["device_authorization_endpoint"].endswith("/oauth/device_authorization")
    assert KIND in described["grant_types_supported"]
    for _ in range(40):
        answer = world.program.post("/oauth/device_authorization", data={"client_id": "x"})
    assert answer.status_code == 400
    assert "Wait" in answer.json["error_description"]
