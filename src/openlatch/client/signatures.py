"""``python -m openlatch.client.signatures``: writes the types of ``AsyncClient``, from those of ``Client``."""

from __future__ import annotations

import inspect
from collections.abc import Iterator

from openlatch.client.base import is_iterator
from openlatch.client.client import Client

_HEAD = '''"""The types of ``AsyncClient``. Written by ``python -m openlatch.client.signatures``; not to be edited."""

import builtins
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from datetime import date, datetime
from types import TracebackType
from typing import Any, Self
from uuid import UUID

import httpx

from openlatch import schemas
from openlatch.client.records import AnyRecord
from openlatch.json_values import JsonObject, JsonView

class AsyncClient:
    def __init__(
        self,
        address: str,
        token: str = "",
        transport: httpx.AsyncBaseTransport | None = None,
        patience: float = 30.0,
        language: str = "",
    ) -> None: ...
    async def __aenter__(self) -> Self: ...
    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...
'''


def written() -> str:
    """The text of ``async_client.pyi``."""
    return _HEAD + "\n".join(_methods()) + "\n"


def _methods() -> Iterator[str]:
    for name, method in inspect.getmembers(Client, inspect.isfunction):
        if name.startswith("_") or name == "close":
            continue
        signature = inspect.signature(method)
        # What a default is, is the business of the call.
        arguments = [one.replace(default=...) if one.default is not one.empty else one for one in _each(signature)]
        told = str(signature.replace(parameters=arguments)).replace("'", "").replace("Ellipsis", "...")
        # One of the methods is called list.
        told = (
            told.replace(" list[", " builtins.list[").replace("Generator[", "Iterator[").replace(", None, None]", "]")
        )
        head, answer = ("def", "Async") if is_iterator(method) else ("async def", "")
        given, _, found = told.rpartition(" -> ")
        yield f"    {head} {name}{given} -> {answer}{found}: ..."


def _each(signature: inspect.Signature) -> list[inspect.Parameter]:
    return list(signature.parameters.values())


if __name__ == "__main__":
    print(written(), end="")
