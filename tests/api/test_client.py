"""The client library: patient where the service asks for it, on asyncio as without, and told what happens."""

from __future__ import annotations

import asyncio
from contextlib import closing
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path

import httpx
import pytest

from openlatch import schemas
from openlatch.client import AsyncClient, CallFailed, Client, Unreachable, async_client, signatures
from openlatch.runtime.demo import Demo

BUSY = {"type": "about:blank", "title": "Busy", "status": 503, "detail": "Too much at once."}


class Busy:
    """A service that is busy for some calls, and remembers their idempotency keys."""

    def __init__(self, *waits: str) -> None:
        self.waits, self.keys = list(waits), []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.keys.append(request.headers.get("Idempotency-Key"))
        if self.waits:
            headers = {"Retry-After": self.waits.pop(0), "Content-Type": "application/problem+json"}
            return httpx.Response(503, json=BUSY, headers=headers)
        return httpx.Response(200, json={"done": True})


@pytest.fixture
def slept(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    taken: list[float] = []
    monkeypatch.setattr("time.sleep", taken.append)
    return taken


def test_a_call_is_sent_again_as_the_service_asks_and_with_the_same_key(slept: list[float]) -> None:
    """Seconds or a date, by all waits together no longer than the patience."""
    until = format_datetime(datetime.now(UTC) + timedelta(seconds=5), usegmt=True)
    busy = Busy("2", until)
    with Client("http://x", "t", httpx.MockTransport(busy)) as client:
        client.verify_signal_receiver("x")  # type: ignore[arg-type]
    assert (slept[0], 3 < slept[1] <= 5, len(busy.keys)) == (2, True, 3)
    busy = Busy("2", "2")
    with Client("http://x", "t", httpx.MockTransport(busy)) as client:
        client._ask(schemas.Done, "POST", "/x", schemas.HoldSignalReceiver())
    assert len(set(busy.keys)) == 1
    assert busy.keys[0] is not None


@pytest.mark.parametrize("wait", ["3600", "", "soon"])
def test_it_waits_no_longer_than_it_may(slept: list[float], wait: str) -> None:
    client = Client("http://x", "t", httpx.MockTransport(Busy(wait)), patience=10)
    with client, pytest.raises(CallFailed, match="Too much at once"):
        client.me()
    assert slept == []


def test_the_types_of_the_asynchronous_client_are_those_of_the_other() -> None:
    """Written anew when a call changes: python -m openlatch.client.signatures."""
    there = Path(async_client.__file__).with_suffix(".pyi")
    assert there.read_text() == signatures.written()


def test_calls_are_coroutines_and_lists_asynchronous_iterators(
    stack: Demo, client: Client, tokens: dict[str, str]
) -> None:
    """With the same answers and errors; several go on at once."""

    async def both() -> tuple[list[str], list[schemas.Me], str]:
        async with AsyncClient(stack.address, tokens["administrator"]) as there:
            names = [row.name async for row in there.every("accounts")]
            several = await asyncio.gather(*(there.me() for _ in range(5)))
            with pytest.raises(CallFailed) as failed:
                await there.verify_signal_receiver("no-id")  # type: ignore[arg-type]
        return names, several, str(failed.value.status)

    names, several, status = asyncio.run(both())
    assert names == [row.name for row in client.every("accounts")]
    assert {one.person.name for one in several} == {client.me().person.name}
    assert status == "404"

    async def nobody() -> None:
        async with AsyncClient("http://127.0.0.1:1") as there:
            await there.me()

    with pytest.raises(Unreachable):
        asyncio.run(nobody())


def test_what_is_journalled_is_followed_as_it_happens(stack: Demo, client: Client, tokens: dict[str, str]) -> None:
    """From a position on, each entry once, in order; a task that is cancelled lets go of its connection."""
    with closing(client.changes()) as changes:
        assert next(changes).kinds == ["everything"]
    position = next(iter(client.list("journal", limit=1).rows)).position

    async def follow() -> list[int]:
        found: list[int] = []
        async with AsyncClient(stack.address, tokens["administrator"]) as there:

            async def watch() -> None:
                async for event in there.follow_journal(position):
                    found.append(event["metadata"]["sequence"])  # noqa: PERF401  seen while it goes on

            task = asyncio.create_task(watch())
            await asyncio.sleep(0.5)
            for name in ("First follower", "Second follower"):
                made = await there.add_signal_receiver(name)
                await there.remove_signal_receiver(made.receiver.id)
            for _ in range(100):
                if len(found) >= 4:
                    break
                await asyncio.sleep(0.1)
            task.cancel()
            with pytest.raises(asyncio.CancelledError):
                await task
        return found

    found = asyncio.run(follow())
    assert len(found) >= 4
    assert found == list(range(position + 1, position + 1 + len(found)))
