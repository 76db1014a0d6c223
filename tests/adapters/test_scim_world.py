"""What the SCIM adapter does beyond what every adapter does, on a server that others wrote."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from openlatch.adapters import Reading
from openlatch.adapters.scim.adapter import ScimAdapter
from openlatch.conformance import World
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.runtime.cluster import Cluster
from tests.adapters.worlds import scim


@pytest.fixture
def world(tmp_path: Path, make_telemetry: Callable[[str], Cluster]) -> Iterator[World]:
    made = scim(tmp_path, make_telemetry)
    yield made
    made.stop()


def test_groups_in_groups_entitlements_and_marks_are_read(world: World) -> None:
    """Whatever opens something is an account, and who has it a holder."""
    reading = Reading.of(world.adapter().read())
    names = {account.handle: account.comment for account in reading.accounts}
    crew = f"group:{world.extra['crew']}"
    assert names["entitlement:books.pay"] == "Entitlement Paying"
    assert (world.account, crew, True) in {(h.account, h.holder, h.holder_is_account) for h in reading.holdings}
    assert ("entitlement:books.pay", world.stays) in {(h.account, h.holder) for h in reading.holdings}
    assert {login.marks["address"] for login in reading.logins} == {"ann@example.org", "bob@example.org"}


def test_an_entitlement_and_a_group_in_a_group_are_taken_away_and_given_again(world: World) -> None:
    """Confirmed by what the server shows."""
    adapter = world.adapter()
    http: httpx.Client = world.extra["http"]
    pays = {"account": "entitlement:books.pay", "login": world.stays}
    adapter.apply(StepKind.REMOVE, pays)
    assert adapter.confirm(StepKind.REMOVE, pays) is None
    assert http.get(f"Users/{world.stays}").json().get("entitlements", []) == []
    adapter.apply(StepKind.GIVE, pays)
    assert adapter.confirm(StepKind.GIVE, pays) is None
    nested = {"account": world.account, "login": f"group:{world.extra['crew']}"}
    adapter.apply(StepKind.REMOVE, nested)
    assert world.asked(world.extra["crew"]) == ""
    assert world.asked(world.stays) == "member"


def test_a_user_is_deleted_once(world: World) -> None:
    """A group that still names whoever is gone is told so, until it does not."""
    adapter = world.adapter()
    for said in ("Deleted", "already"):
        assert said in adapter.apply(StepKind.DROP, {"login": world.goes})
    held = {"account": world.account, "login": world.goes}
    if adapter.confirm(StepKind.REMOVE, held) is not None:
        adapter.apply(StepKind.REMOVE, held)
    assert adapter.confirm(StepKind.REMOVE, held) is None


REAL = httpx.Client


class Chunks(httpx.SyncByteStream):
    """A body as it comes from the network."""

    def __init__(self, body: bytes) -> None:
        self.body = body

    def __iter__(self) -> Iterator[bytes]:
        yield self.body


class Odd:
    """A server that answers as it is told."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, answers: dict[str, Any]) -> None:
        self.asked: list[httpx.Request] = []

        def handle(request: httpx.Request) -> httpx.Response:
            self.asked.append(request)
            given = answers.get(f"{request.method} {request.url.path}", (404, {"detail": "no such page"}))
            status, body = given if isinstance(given, tuple) else (200, given)
            return httpx.Response(status, stream=Chunks(json.dumps(body).encode()), headers={"ETag": 'W/"7"'})

        def client(**given: Any) -> httpx.Client:
            return REAL(**{**given, "transport": httpx.MockTransport(handle)})

        monkeypatch.setattr("openlatch.adapters.json_http.httpx.Client", client)
        self.adapter = ScimAdapter({"address": "https://scim.example.org/v2"}, "s")


def test_without_patch_a_group_is_put_as_it_was_read(monkeypatch: pytest.MonkeyPatch) -> None:
    """Conditional on the version that was read, so that nobody else's change is lost."""
    group = {"id": "g", "displayName": "Desk", "members": [{"value": "a"}, {"value": "b"}]}
    odd = Odd(
        monkeypatch,
        {
            "GET /v2/ServiceProviderConfig": {"patch": {"supported": False}},
            "GET /v2/Groups/g": group,
            "PUT /v2/Groups/g": {},
        },
    )
    odd.adapter.apply(StepKind.REMOVE, {"account": "group:g", "login": "a"})
    put = next(one for one in odd.asked if one.method == "PUT")
    assert put.headers["If-Match"] == 'W/"7"'
    assert b'"value":"b"' in put.content.replace(b" ", b"")
    assert b'"value":"a"' not in put.content.replace(b" ", b"")


@pytest.mark.parametrize(
    ("answers", "detail", "kind"),
    [
        ({"GET /v2/Groups/g": {"members": "all"}}, {"account": "group:g", "login": "a"}, StepKind.REMOVE),
        ({"GET /v2/Groups/g": (404, {"detail": "proxy"})}, {"account": "group:g", "login": "a"}, StepKind.REMOVE),
        ({"GET /v2/Users/a": {"id": "a"}}, {"login": "a"}, StepKind.LOCK),
        ({"GET /v2/Users/a": (404, {"error": "gateway"})}, {"login": "a"}, StepKind.DROP),
        (
            {"GET /v2/Groups/g": {"members": []}, "GET /v2/Users/a": {"groups": "none"}},
            {"account": "group:g", "login": "a"},
            StepKind.REMOVE,
        ),
    ],
)
def test_what_is_not_understood_never_counts_as_gone(
    monkeypatch: pytest.MonkeyPatch, answers: dict[str, Any], detail: dict[str, str], kind: StepKind
) -> None:
    """An odd answer, a proxy's page, an attribute that is not there."""
    with pytest.raises(SystemRefused, match="not understood"):
        Odd(monkeypatch, answers).adapter.confirm(kind, detail)


def test_a_group_whose_list_leaves_out_a_member_is_partial(monkeypatch: pytest.MonkeyPatch) -> None:
    """What a user says and the list does not is unknown, not absent; a list is asked for by its name."""
    mine = [{"value": "g", "type": "direct"}, {"value": "h", "type": "indirect"}]
    users = {"totalResults": 1, "Resources": [{"id": "a", "userName": "ann", "groups": mine}]}
    groups = {"totalResults": 2, "Resources": [{"id": "g"}, {"id": "h"}]}
    odd = Odd(
        monkeypatch, {"GET /v2/Users": users, "GET /v2/Groups": groups, "GET /v2/Groups/h": {}, "GET /v2/Users/a": {}}
    )
    partial = {one.account: one.is_partial for one in Reading.of(odd.adapter.read()).coverage}
    assert (partial["group:g"], partial["group:h"]) == (True, False)
    assert odd.adapter.confirm(StepKind.REMOVE, {"account": "group:h", "login": "a"}) is None
    assert next(one for one in odd.asked if one.url.path == "/v2/Groups/h").url.params["attributes"] == "members"


def test_a_token_that_no_header_holds_is_refused_without_a_part_of_it() -> None:
    """It is a secret."""
    with pytest.raises(SystemRefused, match="characters that no token has") as refused:
        ScimAdapter({"address": "https://scim.example.org/v2"}, "s\u00fcss").check()
    assert "\u00fc" not in f"{refused.value!r} {refused.value.__cause__!r}"


def test_a_service_without_groups_and_odd_members_are_told(monkeypatch: pytest.MonkeyPatch) -> None:
    """A member whom nobody knows leaves its group partial."""
    users = {"totalResults": 1, "Resources": [{"id": "a", "userName": "ann", "roles": [{"display": "?"}]}]}
    groups = {"totalResults": 1, "Resources": [{"id": "g", "members": [{"value": "zz"}]}]}
    answers = {"GET /v2/Users": users, "GET /v2/Groups": groups}
    reading = Reading.of(Odd(monkeypatch, answers).adapter.read())
    assert {one.account: one.is_partial for one in reading.coverage} == {"group:g": True, "": True}
    without = {**answers, "GET /v2/Groups": (404, {"status": "404"})}
    assert Reading.of(Odd(monkeypatch, without).adapter.read()).accounts == ()
