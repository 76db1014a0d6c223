"""What is announced is told: to whom, how often, and before what."""

from __future__ import annotations

import asyncio
import threading
import time
from uuid import UUID

import pytest

from openlatch.worker import announcements
from openlatch.worker.announcements import Precedence, Receivers, Telling
from tests.waiting import until

ORGANISATION, RECEIVER = UUID(int=1), UUID(int=2)


def test_a_receiver_made_while_they_are_looked_up_is_not_forgotten() -> None:
    told: list[Receivers] = []
    found: list[Receivers] = [[], [(RECEIVER, "journal")]]
    asked, goes_on = threading.Event(), threading.Event()

    def find(organisation: UUID) -> Receivers:
        asked.set()
        goes_on.wait(60)
        return found.pop(0)

    async def follow() -> None:
        telling = Telling(find, lambda _, receivers: told.append(receivers), Precedence())
        telling.begin(ORGANISATION)
        await asyncio.to_thread(asked.wait, 60)
        telling.forget(ORGANISATION)
        goes_on.set()
        await asyncio.to_thread(until, lambda: told)
        # They are known by now, and not looked up again.
        telling.begin(ORGANISATION)
        await asyncio.to_thread(until, lambda: len(told) == 2)

    asyncio.run(follow())
    assert told == [[(RECEIVER, "journal")]] * 2


def test_a_task_waits_for_what_is_told_but_not_for_long(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(announcements, "SECONDS_BEFORE", 60.0)
    first = Precedence()
    first.wait()
    first.begin()
    waited = threading.Thread(target=first.wait, daemon=True)
    waited.start()
    waited.join(0.2)
    assert waited.is_alive()
    first.end()
    waited.join(60)
    assert not waited.is_alive()
    monkeypatch.setattr(announcements, "SECONDS_BEFORE", 0.01)
    first.begin()
    began = time.monotonic()
    first.wait()
    assert time.monotonic() - began < 60
