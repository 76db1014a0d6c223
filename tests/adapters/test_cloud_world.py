"""A cloud service with odd names, roles and scopes: what is read is what its own calls say, and what is gone is."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx
import pytest

from openlatch.adapters import Reading
from openlatch.adapters.cloud.adapter import CloudAdapter
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.processes import free_port
from openlatch.test_systems.cloud import Cloud, CloudServer, Manners

PLAN = json.loads((Path(__file__).parent / "data" / "cloud.json").read_text())
# What each role and scope lets somebody do, by the service's own description.
ROLES = {"guest": {"see"}, "viewer": {"see"}, "editor": {"see", "change"}, "full": {"see", "change", "pay", "admit"}}
SCOPES = {"read": "see", "write": "change", "pay": "pay", "admit": "admit"}
RIGHTS = ("see", "change", "pay", "admit")


@pytest.fixture
def cloud() -> Iterator[CloudServer]:
    made = CloudServer(Cloud("key of the world"), free_port())
    made.cloud.load(PLAN)
    made.start()
    yield made
    made.stop()


@pytest.fixture
def adapter(cloud: CloudServer) -> CloudAdapter:
    return CloudAdapter({"address": cloud.address}, "key of the world")


class Asked:
    """The service, by its own calls."""

    def __init__(self, cloud: CloudServer) -> None:
        self.http = httpx.Client(base_url=cloud.address, headers={"Authorization": "Bearer key of the world"})

    def role(self, space: str, person: str) -> str:
        rows = self.http.get(f"/spaces/{quote(space, safe='')}/members").json()["Resources"]
        return next((row["role"] for row in rows if row["id"] == person), "")

    def scopes(self, space: str, app: str) -> set[str]:
        rows = self.http.get("/tokens").json()["Resources"]
        good = [row["id"] for row in rows if (row["space"], row["app"]) == (space, app)]
        told = [self.http.post("/oauth/introspect", data={"token": token}).json() for token in good]
        return {scope for one in told if one["active"] for scope in one["scope"].split()}


def test_what_a_reading_says_is_what_the_service_says(
    cloud: CloudServer, adapter: CloudAdapter, record_testsuite_property: Callable[[str, object], None]
) -> None:
    """For everybody and every app, in each space, for each right."""
    reading, asked = Reading.of(adapter.read()), Asked(cloud)
    levels = {level.key: {key for key, _, _ in level.permissions} for level in reading.levels}
    held = {(h.account, h.holder): levels[h.level] for h in reading.holdings}
    compared, wrong = 0, []
    for space in PLAN["spaces"]:
        for who in (*PLAN["people"], *{f"app:{token['app']}" for token in PLAN["tokens"].values()}):
            if who.startswith("app:"):
                says = {SCOPES.get(scope, scope) for scope in asked.scopes(space, who.removeprefix("app:"))}
            else:
                role = asked.role(space, who)
                says = ROLES.get(role, {f"role {role}"} if role else set())
            tells = held.get((space, who), set())
            compared += len(RIGHTS)
            wrong += [f"{who}: {right} in {space}" for right in says ^ tells]
    record_testsuite_property("facts in cloud services", compared)
    assert wrong == []
    assert compared > 150
    logins = {login.handle: login for login in reading.logins}
    assert {who for who, login in logins.items() if login.locked} == {"p2"}
    assert len(reading.presences) == 2
    (whole,) = [c for c in reading.coverage if not c.account]
    assert not whole.is_partial
    assert any("one by one" in gap.words for gap in whole.gaps)


MANNERS = ["", "reduce_first", "waits_for_person", "says_done", "delay"]


@pytest.mark.parametrize("manner", MANNERS)
def test_what_is_confirmed_gone_is_gone(cloud: CloudServer, adapter: CloudAdapter, manner: str) -> None:
    """Whatever its manners: what it does at once, later, only in words, or not at all."""
    cloud.cloud.manners = Manners(**{manner: 0.1 if manner == "delay" else True} if manner else {})
    asked, confirmed = Asked(cloud), 0
    for holding in Reading.of(adapter.read()).holdings:
        *_, last = moves = adapter.plan(StepKind.REMOVE, holding.handle)
        for move in moves:
            try:
                adapter.apply(move.kind, move.detail)
            except SystemRefused:
                assert adapter.confirm(move.kind, move.detail) is not None
            if manner == "delay":
                time.sleep(0.11)
        is_app = holding.holder.startswith("app:")
        if all(adapter.confirm(move.kind, move.detail) is None for move in ([last] if not is_app else moves)):
            confirmed += 1
            if is_app:
                assert asked.scopes(holding.account, holding.holder.removeprefix("app:")) == set()
            else:
                assert asked.role(holding.account, holding.holder) == ""
    assert confirmed == (0 if manner == "says_done" else 20)
    for presence in Reading.of(adapter.read()).presences:
        adapter.apply(StepKind.END_SESSIONS, presence.handle)
        if manner == "delay":
            time.sleep(0.2)
        left = {row["id"] for row in asked.http.get("/sessions").json()["Resources"]}
        told = adapter.confirm(StepKind.END_SESSIONS, presence.handle)
        assert (presence.key in left) == (told is not None)


def test_what_is_not_understood_is_a_gap_of_its_space(cloud: CloudServer, adapter: CloudAdapter) -> None:
    """And the rest is read."""
    state: Any = cloud.cloud.state
    state.members["s1"]["p1"] = None
    state.tokens["t4"]["scope"] = ["read"]
    state.sessions["x1"]["device"] = None
    reading = Reading.of(adapter.read())
    partial = {
        c.account: [gap.words for gap in c.gaps if "supported" not in gap.words]
        for c in reading.coverage
        if c.is_partial
    }
    assert partial == {
        "s1": ["a member in p1: not understood"],
        "s6": ["a token in t4: not understood"],
        "": ["a session in x1: not understood"],
    }
    assert len([h for h in reading.holdings if h.account == "s 2"]) == 4
    assert "still in the space" in str(adapter.confirm(StepKind.REMOVE, {"space": "s1", "person": "p1"}))


@pytest.mark.parametrize("active", [None, 0, "false", []])
def test_a_lock_is_what_the_service_calls_one(cloud: CloudServer, adapter: CloudAdapter, active: Any) -> None:
    """Anything but a plain no is not understood."""
    cloud.cloud.state.people["p1"]["active"] = active
    with pytest.raises(SystemRefused, match="not understood"):
        adapter.confirm(StepKind.LOCK, {"login": "p1"})


@pytest.mark.parametrize("name", ["", ".", ".."])
def test_a_name_is_never_taken_for_another_path(adapter: CloudAdapter, name: str) -> None:
    """As that of the list of all of them."""
    with pytest.raises((SystemRefused, SystemDown)):
        adapter.confirm(StepKind.REMOVE, {"space": name, "person": "p1"})
