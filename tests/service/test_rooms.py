"""One system's trouble stays its own: others go on meanwhile, and the worker stops when it is told to."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from openlatch.adapters import ADAPTERS, Adapter
from openlatch.service.revocations import execute
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import System
from openlatch.worker import tasks
from openlatch.worker.queue import Queue
from tests.adapters.worlds import World
from tests.conftest import Clock
from tests.service.ending import carry_on, connect, start_ending
from tests.waiting import until


class Stalled:
    """A system that takes every call and gives no answer, until it is let go on."""

    def __init__(self, real: Adapter, goes_on: threading.Event, waiting: Callable[[], None]) -> None:
        self._real, self._goes_on, self._waiting = real, goes_on, waiting

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)

    def _stall(self) -> None:
        self._waiting()
        self._goes_on.wait(60)

    def apply(self, *told: Any) -> str:
        self._stall()
        return self._real.apply(*told)

    def confirm(self, *told: Any) -> str | None:
        self._stall()
        return self._real.confirm(*told)

    def read(self, since: Any) -> Iterator[Any]:
        self._stall()
        return self._real.read(since)


def stalling(service: Service, kind: str, goes_on: threading.Event, waiting: Callable[[], None]) -> Service:
    made = {**ADAPTERS, kind: lambda settings, secret: Stalled(ADAPTERS[kind](settings, secret), goes_on, waiting)}
    return replace(service, adapters=made)


def test_a_system_that_stalls_holds_up_no_other(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """Two wait for it, and that is all the room it has; whoever comes then comes back later."""
    stuck, well = make("host"), make("directory")
    system = connect(service, organisation, stuck)
    connect(service, organisation, well)
    waiting: list[None] = []
    goes_on = threading.Event()
    slow = stalling(service, "host", goes_on, lambda: waiting.append(None))
    ended = [start_ending(service, organisation, stuck, who)[1] for who in (stuck.goes, stuck.stays)]
    threads = [threading.Thread(target=execute.carry_out, args=(slow, organisation.organisation, one)) for one in ended]
    for thread in threads:
        thread.start()
    until(lambda: len(waiting) == 2)
    try:
        assert readings.read(slow, organisation.organisation, system) is None
        assert len(waiting) == 2
        with service.unit(organisation) as unit:
            # It is no fault of the system's, and stays due.
            assert unit.db.get_one(System, system).down_since is None
            assert system in readings.due(unit)
        _, other = start_ending(service, organisation, well, well.goes)
        assert carry_on(slow, organisation, clock, other) == "confirmed"
        assert well.asked(well.goes) == ""
    finally:
        goes_on.set()
        for thread in threads:
            thread.join(30)
    assert carry_on(service, organisation, clock, ended[0]) == "confirmed"


def test_the_worker_stops_when_it_is_told_to_whatever_hangs(
    make: Callable[[str], World],
    service: Service,
    organisation: Viewer,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    app_url: str,
) -> None:
    """What hangs is cut off; the system stays due for the next one."""
    connect(service, organisation, make("host"))
    with service.unit(organisation) as unit:
        (system,) = unit.db.query(System).filter(System.kind == "host")
        system.next_read_at = None
    hangs = tmp_path / "hangs"
    slow = stalling(service, "host", threading.Event(), hangs.touch)
    monkeypatch.setattr(tasks, "SECONDS_TO_STOP", 1.0)
    service.engine.dispose()
    child = os.fork()
    if child == 0:
        try:
            tasks.run(replace(slow, wake=Queue(app_url).wake), app_url)
        finally:
            os._exit(1)
    until(hangs.exists)
    os.kill(child, signal.SIGTERM)
    began = time.monotonic()
    _, status = os.waitpid(child, 0)
    assert time.monotonic() - began < 15
    assert os.WIFEXITED(status)
    assert os.WEXITSTATUS(status) == 0
