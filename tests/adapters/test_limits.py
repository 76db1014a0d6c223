"""Systems that stall, break off, slow down or answer nonsense: told as down within a limit, and never as gone."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest

from openlatch.adapters import Adapter, Reading, json_http, limits
from openlatch.adapters.cloud import adapter as cloud
from openlatch.adapters.directory import adapter as directory
from openlatch.adapters.mail import adapter as mailboxes
from openlatch.adapters.mail import sessions
from openlatch.adapters.postgresql import adapter as postgresql
from openlatch.adapters.webdav import adapter as dav
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.runtime.cluster import Cluster
from tests.adapters.proxy import Fault, Proxy, now, seconds_of
from tests.adapters.worlds import WORLDS, World

KINDS = ("postgresql", "directory", "mailboxes", "cloud", "dav")
LIMIT = 0.5


@pytest.fixture(scope="module", params=KINDS)
def world(
    request: pytest.FixtureRequest,
    tmp_path_factory: pytest.TempPathFactory,
    make_telemetry: Callable[[str], Cluster],
    folder: Path,
) -> Iterator[World]:
    place = folder / f"limits-{request.param}-{tmp_path_factory.mktemp('world').name}"
    place.mkdir()
    place.chmod(0o755)
    made = WORLDS[request.param](place, make_telemetry)
    yield made
    made.stop()


@pytest.fixture
def proxy(world: World) -> Iterator[Proxy]:
    address = urlsplit(str(world.settings.get("address", "")))
    made = Proxy(address.port or int(world.settings["port"]))
    yield made
    made.stop()


@pytest.fixture
def behind(world: World, proxy: Proxy) -> Adapter:
    """The world's adapter, through the proxy."""
    changed: dict[str, Any] = {"port": proxy.port}
    if "address" in world.settings:
        address = urlsplit(str(world.settings["address"]))
        changed = {"address": address._replace(netloc=f"127.0.0.1:{proxy.port}").geturl()}
    return world.adapter(**changed)


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    """Limits of half a second instead of twenty."""
    for module in (cloud, dav, directory, json_http, limits, sessions, mailboxes, postgresql):
        for name in ("CALL_SECONDS", "CONNECT_SECONDS", "STATEMENT_SECONDS", "READING_SECONDS"):
            if hasattr(module, name):
                # Some libraries count whole seconds; PostgreSQL's own lets nobody in faster than in two.
                least = 2 if module is postgresql else 1
                is_whole = name in ("CONNECT_SECONDS", "STATEMENT_SECONDS") or module is directory
                monkeypatch.setattr(module, name, least if is_whole else LIMIT)
    monkeypatch.setattr(limits.asked, "__defaults__", (LIMIT,))
    monkeypatch.setattr(limits.cut_off_after.__wrapped__, "__defaults__", (LIMIT,))  # type: ignore[attr-defined]
    connection = postgresql.PostgresqlAdapter._connection.__wrapped__  # type: ignore[attr-defined]
    monkeypatch.setattr(connection, "__defaults__", (LIMIT,))


@pytest.mark.usefixtures("short")
@pytest.mark.parametrize("how", ["stall", "slow", "cut"])
@pytest.mark.parametrize("after", [0, 60, 700])
def test_a_system_that_stalls_is_down_within_its_limit(
    world: World, proxy: Proxy, behind: Adapter, how: str, after: int
) -> None:
    """While it lets us in, in its first answer, or half-way through a reading."""
    proxy.fault = Fault(how, after)
    began = now()
    with pytest.raises((SystemDown, SystemRefused)):
        Reading.of(behind.read())
    assert now() - began < seconds_of(LIMIT)


def test_no_fault_is_taken_for_gone(
    world: World, proxy: Proxy, behind: Adapter, request: pytest.FixtureRequest
) -> None:
    """What is there is there, or unknown: an answer that is cut off or spoilt anywhere confirms nothing."""
    holding = next(
        h for h in Reading.of(world.adapter().read()).holdings if (h.account, h.holder) == (world.account, world.goes)
    )
    (*_, move) = world.adapter().plan(StepKind.REMOVE, holding.handle)
    assert world.adapter().confirm(move.kind, move.detail) is not None
    request.getfixturevalue("short")
    chance = random.Random(world.kind)
    faults = 0
    for _ in range(90):
        proxy.fault = Fault(chance.choice(["cut", "spoil"]), int(chance.expovariate(1 / 400)))
        try:
            said = behind.confirm(move.kind, move.detail)
        except (SystemDown, SystemRefused):
            faults += 1
            continue
        assert said is not None, proxy.fault
    # How many meet the answer depends on its length, which differs from run to run.
    assert faults > 20
    assert world.asked(world.goes)
