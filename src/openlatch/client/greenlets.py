"""Running what is written without ``await`` in an event loop: where it waits, its loop goes on with other tasks.

Each run has a greenlet of its own, which hands what it waits for to the coroutine that started it, and is switched back
to with the outcome. So the calls of the client are written once.
"""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Awaitable, Callable
from contextvars import copy_context
from typing import ParamSpec, TypeVar, cast

P = ParamSpec("P")
T = TypeVar("T")


async def run(function: Callable[P, T], *args: P.args, **more: P.kwargs) -> T:
    """What a function returns that waits by ``wait_for``."""
    # Only who uses this needs it (the extra "async").
    from greenlet import getcurrent, greenlet  # type: ignore[import-untyped]  # has no types of its own

    inner = greenlet(function, getcurrent())
    inner.gr_context = copy_context()
    found = inner.switch(*args, **more)
    while not inner.dead:
        try:
            outcome = await found
        except BaseException:  # noqa: BLE001  also a cancellation: the function ends what it has begun
            found = inner.throw(*sys.exc_info())
        else:
            found = inner.switch(outcome)
    return cast(T, found)


def wait_for(awaitable: Awaitable[T]) -> T:
    """The outcome of something awaitable, inside of ``run``."""
    from greenlet import getcurrent

    parent = getcurrent().parent
    assert parent is not None, "only inside of run"
    return cast(T, parent.switch(awaitable))


async def sleep(seconds: float) -> None:
    """Let time pass."""
    await asyncio.sleep(seconds)
