"""The token interface by the letter of its standards: RFC 6749, 6750, 7009, 7662, 8693."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

import httpx
import pytest

from openlatch.api.oauth import ACCESS_TOKEN, GRANT_TYPE
from openlatch.client import Client
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import Demo
from tests.conftest import ROLES


@pytest.fixture
def box(stack: Demo, tokens: dict[str, str]) -> str:
    """An account that the delegate reaches."""
    with Client(stack.address, tokens["delegate"]) as client:
        return str(client.list("accounts", filter='name eq "Booking desk mailbox"').rows[0].id)


def post(stack: Demo, place: str, data: Any, token: str = "", **more: str) -> httpx.Response:
    headers = {**({"Authorization": f"Bearer {token}"} if token else {}), **more}
    if isinstance(data, str):
        headers = {"Content-Type": "application/x-www-form-urlencoded", **headers}
        return httpx.post(f"{stack.address}/oauth/{place}", content=data, headers=headers)
    return httpx.post(f"{stack.address}/oauth/{place}", data=data, headers=headers)


def exchange(stack: Demo, token: str, account: str, **more: str) -> httpx.Response:
    whole = {"grant_type": GRANT_TYPE, "subject_token": token, "subject_token_type": ACCESS_TOKEN, "audience": account}
    return post(stack, "token", {name: value for name, value in {**whole, **more}.items() if value})


@pytest.mark.parametrize(
    ("change", "error"),
    [
        ({"grant_type": ""}, "invalid_request"),
        ({"grant_type": "password"}, "unsupported_grant_type"),
        ({"subject_token": ""}, "invalid_request"),
        ({"subject_token": "nonsense"}, "invalid_request"),
        ({"subject_token_type": ""}, "invalid_request"),
        ({"subject_token_type": "x"}, "invalid_request"),
        ({"requested_token_type": "urn:ietf:params:oauth:token-type:saml2"}, "invalid_request"),
        ({"actor_token": "x"}, "invalid_request"),
        ({"resource": "https://x.example"}, "invalid_target"),
        ({"audience": ""}, "invalid_target"),
        ({"audience": "no id"}, "invalid_target"),
        ({"audience": str(uuid4())}, "invalid_target"),
        ({"scope": "to fly"}, "invalid_scope"),
    ],
)
def test_what_is_wrong_with_an_exchange_is_told_by_its_code(
    stack: Demo, tokens: dict[str, str], box: str, change: dict[str, str], error: str
) -> None:
    """RFC 6749, 5.2, and RFC 8693, 2.2.2; never kept by anybody on the way."""
    answer = exchange(stack, tokens["delegate"], box, **change)
    assert (answer.status_code, answer.json()["error"]) == (400, error), answer.text
    assert answer.headers["Cache-Control"] == "no-store"
    assert answer.json()["error_description"]


def test_a_parameter_is_given_once_and_as_a_form(stack: Demo, tokens: dict[str, str]) -> None:
    """RFC 6749, 3.2; and GET is for nothing of it."""
    twice = post(stack, "introspect", "token=a&token=b", tokens["delegate"])
    assert (twice.status_code, twice.json()["error"]) == (400, "invalid_request")
    as_json = post(stack, "token", "{}", **{"Content-Type": "application/json"})
    assert (as_json.status_code, as_json.json()["error"]) == (400, "invalid_request")
    for place in ("token", "introspect", "revoke"):
        answer = httpx.get(f"{stack.address}/oauth/{place}", params={"token": "x"})
        assert answer.status_code == 405
        assert "POST" in answer.headers["Allow"]
        assert "GET" not in answer.headers["Allow"]


@pytest.mark.parametrize("place", ["introspect", "revoke"])
def test_who_asks_has_to_show_a_token(stack: Demo, tokens: dict[str, str], place: str) -> None:
    """RFC 6750, 3: without one nothing more is said, with a bad one that it is bad."""
    none, bad = post(stack, place, {"token": "x"}), post(stack, place, {"token": "x"}, "bad")
    assert none.status_code == bad.status_code == 401
    assert none.headers["WWW-Authenticate"] == 'Bearer realm="Open Latch"'
    assert 'error="invalid_token"' in bad.headers["WWW-Authenticate"]
    # Not taken from an address, which others keep.
    in_address = httpx.post(f"{stack.address}/oauth/{place}?access_token={tokens['delegate']}", data={"token": "x"})
    assert in_address.status_code == 401
    lacking = post(stack, place, {}, tokens["delegate"])
    assert (lacking.status_code, lacking.json()["error"]) == (400, "invalid_request")
    unknown = post(stack, place, {"token": "x"}, tokens["delegate"])
    assert (unknown.status_code, unknown.json()) == (200, {"active": False} if place == "introspect" else {})


def test_calls_of_the_api_say_what_is_wrong_with_a_token(stack: Demo) -> None:
    """And that one for reading may not write."""
    assert (
        'error="invalid_token"'
        in httpx.get(f"{stack.address}/api/v1/me", headers={"Authorization": "Bearer x"}).headers["WWW-Authenticate"]
    )
    body = {"address": ROLES["owner"], "password": PASSWORD, "scope": "read"}
    token = httpx.post(f"{stack.address}/api/v1/tokens", json=body).json()["token"]
    answer = httpx.delete(f"{stack.address}/api/v1/me/switch", headers={"Authorization": f"Bearer {token}"})
    assert answer.status_code == 403
    assert 'error="insufficient_scope"' in answer.headers["WWW-Authenticate"]


def test_a_token_that_is_revoked_opens_nothing(stack: Demo, tokens: dict[str, str]) -> None:
    """Also one of the API's own; and nobody ends anybody else's."""
    body = {"address": ROLES["owner"], "password": PASSWORD}
    token = httpx.post(f"{stack.address}/api/v1/tokens", json=body).json()["token"]
    me = {"headers": {"Authorization": f"Bearer {token}"}}
    assert post(stack, "revoke", {"token": token}, tokens["delegate"]).status_code == 200
    assert httpx.get(f"{stack.address}/api/v1/me", **me).status_code == 200
    assert post(stack, "revoke", {"token": token, "token_type_hint": "odd"}, token).status_code == 200
    assert httpx.get(f"{stack.address}/api/v1/me", **me).status_code == 401
    assert post(stack, "revoke", {"token": token}, token).status_code == 401


def test_a_token_for_less_can_do_less(stack: Demo, tokens: dict[str, str], box: str) -> None:
    """Its scope is what was asked for, for whoever asks, and for what it may do here."""
    whole = exchange(stack, tokens["delegate"], box).json()
    some = whole["scope"].split()[0]
    narrow = exchange(stack, tokens["delegate"], box, scope=some).json()
    assert narrow["scope"] == some
    told = post(stack, "introspect", {"token": narrow["access_token"]}, tokens["delegate"]).json()
    assert (told["active"], told["scope"]) == (True, some)
    for made in (whole, narrow):
        assert post(stack, "revoke", {"token": made["access_token"]}, tokens["delegate"]).status_code == 200


def test_what_there_is_is_described_and_no_private_key_is_in_it(stack: Demo) -> None:
    """RFC 8414, 2 and 3, and RFC 7517, 4 and 5."""
    answer = httpx.get(f"{stack.address}/.well-known/oauth-authorization-server")
    told = answer.json()
    assert (answer.headers["Content-Type"], told["issuer"]) == ("application/json", stack.address)
    assert {"token_endpoint", "response_types_supported", "jwks_uri"} <= told.keys()
    assert all(told[name].startswith(stack.address) for name in told if name.endswith(("_endpoint", "_uri")))
    keys = httpx.get(told["jwks_uri"]).json()["keys"]
    assert len({key["kid"] for key in keys}) == len(keys) >= 2
    assert all(key["kty"] in ("RSA", "OKP") and not {"d", "p", "q", "k"} & key.keys() for key in keys)
