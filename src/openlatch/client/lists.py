"""The calls about finding things, and about people as they move on. ``Client`` has them all."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any
from urllib.parse import urlencode
from uuid import UUID

import httpx

from openlatch import schemas
from openlatch.client.asking import Asking


class Finding(Asking):
    """Search, kept filters, how somebody moves, and what is held about them."""

    def search(self, words: str) -> schemas.Found:
        """What fits some words, of every kind."""
        return self._get(schemas.Found, "/search", q=words)

    def export(self, name: str, form: str = "csv", **options: Any) -> bytes:
        """A list as it is filtered, whole, as CSV or JSON."""
        given = {key: value for key, value in options.items() if value}
        return self._transport.content(f"/exports/{name}?{urlencode({'format': form, **given})}")

    def export_register(self) -> Iterator[str]:
        """The whole register, line by line, without secrets; after a fresh proof."""
        return self._transport.lines("/register/export")

    def register_schema(self) -> str:
        """The format of a whole register, as JSON Schema."""
        return self._transport.content("/register/schema").decode()

    def import_register(self, content: Iterable[bytes]) -> schemas.RegisterBrought:
        """Fill an organisation that is empty yet from a whole register."""
        found = self._transport.call("POST", "/register/import", content=content, timeout=httpx.Timeout(60, read=3600))
        return schemas.RegisterBrought.model_validate(found)

    def saved_filters(self, of: str | None = None) -> Sequence[schemas.FilterKept]:
        """Filters that are kept, of one list or of all."""
        return self._get(schemas.FiltersKept, "/filters", list=of).filters

    def keep_filter(self, wish: schemas.KeepFilter) -> schemas.FilterKept:
        """Keep a filter by a name."""
        return self._ask(schemas.FilterKept, "POST", "/filters", wish)

    def change_filter(self, ident: UUID, wish: schemas.KeepFilter, version: int | None = None) -> schemas.FilterKept:
        """Change one of one's own filters."""
        return self._ask(schemas.FilterKept, "PUT", f"/filters/{ident}", wish, version)

    def remove_filter(self, ident: UUID) -> None:
        """Remove one of one's own filters."""
        self._ask(schemas.Done, "DELETE", f"/filters/{ident}")

    def mail_filter(self, ident: UUID, every: str) -> schemas.FilterKept:
        """Have mail of what matches: day, week or never."""
        body = schemas.MailOfFilter.model_validate({"every": every})
        return self._ask(schemas.FilterKept, "PUT", f"/filters/{ident}/mail", body)

    def preview_move(self, person: UUID, wish: schemas.MoveWish | None = None) -> schemas.MovePlan:
        """What a move of somebody comes to."""
        return self._ask(schemas.MovePlan, "POST", f"/people/{person}/move/preview", wish or schemas.MoveWish())

    def preview_erasing(self, person: UUID) -> schemas.Erased:
        """What erasing somebody would take away."""
        return self._ask(schemas.Erased, "POST", f"/people/{person}/erase/preview")

    def erase_person(self, person: UUID) -> schemas.Erased:
        """Erase what identifies somebody who left. It can't be undone."""
        return self._ask(schemas.Erased, "POST", f"/people/{person}/erase")

    def held_data(self, person: UUID) -> schemas.HeldData:
        """All that is held about somebody."""
        return self._ask(schemas.HeldData, "POST", f"/people/{person}/held-data")
