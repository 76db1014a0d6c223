"""What all calls share: one request, and a list page by page."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime
from typing import TypeVar

from pydantic import BaseModel

from openlatch import schemas
from openlatch.client.transport import Transport
from openlatch.json_values import JsonObject

Answer = TypeVar("Answer", bound=BaseModel)


def end(until: date | datetime | None, prefix: str = "") -> JsonObject:
    """An end as calls take it: an instant, or a last day, which counts to its end where the account is."""
    is_instant = isinstance(until, datetime)
    names = {f"{prefix}until": until if is_instant else None, f"{prefix}last_day": None if is_instant else until}
    return {name: value.isoformat() if value else None for name, value in names.items()}


def _written(value: object) -> str:
    return value.isoformat() if isinstance(value, datetime) else str(value).lower() if value is True else str(value)


def is_iterator(method: Callable[..., object]) -> bool:
    """Whether a method of ``Client`` gives one thing after the other."""
    return str(inspect.signature(method).return_annotation).startswith(("Iterator[", "Generator["))


class Calls:
    """The base of ``Client``."""

    _transport: Transport

    def _ask(
        self, model: type[Answer], method: str, path: str, body: BaseModel | None = None, version: int | None = None
    ) -> Answer:
        # An edit says no more than what changes.
        edits = method == "PATCH" or isinstance(body, schemas.EditMany)
        more: JsonObject = {}
        if body is not None:
            more["json"] = body.model_dump(mode="json", exclude_unset=edits)
        if version is not None:
            more["headers"] = {"If-Match": f'"{version}"'}
        return model.model_validate(self._transport.call(method, path, **more))

    def _get(self, model: type[Answer], path: str, **query: object) -> Answer:
        given = {key: _written(value) for key, value in query.items() if value not in (None, "", False)}
        return model.model_validate(self._transport.call("GET", path, params=given))

    def _page(self, path: str, row: type[Answer], options: Mapping[str, object]) -> schemas.Rows[Answer]:
        given = {key: _written(value) for key, value in options.items() if value not in ("", None, False)}
        found = self._transport.call("GET", path, params=given)
        return schemas.Rows[row].model_validate(found)  # type: ignore[valid-type]

    def _every(self, path: str, row: type[Answer], options: Mapping[str, object]) -> Iterator[Answer]:
        options = {"limit": 500, **options}
        while True:
            page = self._page(path, row, options)
            yield from page.rows
            if not page.next:
                return
            options["cursor"] = page.next
