"""``AsyncClient``: the calls of ``Client`` as coroutines, and its iterators as asynchronous ones.

They are made of the methods of ``Client``. ``async_client.pyi`` has their types; ``python -m
openlatch.client.signatures`` writes it.
"""

from __future__ import annotations

import inspect
from collections.abc import AsyncIterator, Callable, Coroutine, Iterator
from functools import wraps
from typing import Any, Self

import httpx

from openlatch.client import greenlets
from openlatch.client.base import is_iterator
from openlatch.client.client import Client
from openlatch.client.transport import PATIENCE, AsyncTransport

_END = object()


class AsyncClient:
    """The service at ``address``, as whoever ``token`` belongs to, for programs on asyncio.

    Methods, arguments, answers and errors are those of ``Client``. Needs the extra ``async``.
    """

    def __init__(
        self,
        address: str,
        token: str = "",
        transport: httpx.AsyncBaseTransport | None = None,
        patience: float = PATIENCE,
        language: str = "",
    ) -> None:
        self._calls = Client.over(AsyncTransport(address, token, transport, patience, language))

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *_: object) -> None:
        await greenlets.run(self._calls.close)


def _coroutine(method: Callable[..., object]) -> Callable[..., Coroutine[Any, Any, object]]:
    @wraps(method)
    async def call(self: AsyncClient, *args: object, **more: object) -> object:
        return await greenlets.run(method, self._calls, *args, **more)

    return call


def _iterator(method: Callable[..., Iterator[object]]) -> Callable[..., AsyncIterator[object]]:
    @wraps(method)
    async def call(self: AsyncClient, *args: object, **more: object) -> AsyncIterator[object]:
        rows = await greenlets.run(method, self._calls, *args, **more)
        try:
            while (row := await greenlets.run(next, rows, _END)) is not _END:
                yield row
        finally:
            await greenlets.run(rows.close)  # type: ignore[attr-defined]

    return call


for _name, _method in inspect.getmembers(Client, inspect.isfunction):
    if not _name.startswith("_") and _name != "close":
        setattr(AsyncClient, _name, _iterator(_method) if is_iterator(_method) else _coroutine(_method))
