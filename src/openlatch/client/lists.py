"""Lists, search, saved filters, exports."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any
from urllib.parse import urlencode
from uuid import UUID

from pydantic import BaseModel

from openlatch import schemas
from openlatch.client.base import Calls

LISTS: dict[str, type[BaseModel]] = {
    "accounts": schemas.AccountRow,
    "people": schemas.PersonRow,
    "teams": schemas.TeamRow,
    "grants": schemas.GrantRow,
    "apps": schemas.AppRow,
    "sessions": schemas.SessionRow,
    "flags": schemas.FlagRow,
    "rounds": schemas.RoundRow,
    "revocations": schemas.RevocationRow,
    "journal": schemas.JournalRow,
    "systems": schemas.SystemRow,
    "levels": schemas.LevelRow,
    "offers": schemas.OfferRow,
    "requests": schemas.RequestRow,
    "notices": schemas.NoticeRow,
    "resources": schemas.ResourceRow,
    "groups": schemas.GroupRow,
    "latches": schemas.LatchRow,
    "tasks": schemas.TaskRow,
    "visits": schemas.VisitRow,
    "schedules": schemas.ScheduleRow,
    "exposures": schemas.ExposureRow,
    "questions": schemas.QuestionRow,
}


class ListsCalls(Calls):
    """Lists, search, saved filters, exports."""

    def list(self, name: str, **options: Any) -> schemas.Rows[Any]:
        """A page of a list: ``filter``, ``search``, ``sort``, ``limit``, ``cursor``, ``count``."""
        return self._page(f"/{name}", LISTS[name], options)

    def every(self, name: str, **options: object) -> Iterator[Any]:
        """Every row of a list, page after page."""
        return self._every(f"/{name}", LISTS[name], options)

    def today(self) -> schemas.Today:
        """What needs a person today."""
        return schemas.Today.model_validate(self._transport.call("GET", "/today"))

    def search(self, words: str) -> schemas.Found:
        """What fits some words, of every kind."""
        return self._get(schemas.Found, "/search", q=words)

    def attributes(self, of: str) -> Sequence[schemas.AttributeOf]:
        """The attributes that filters of a list may name."""
        return self._get(schemas.Attributes, f"/attributes/{of}").attributes

    def values(self, of: str, attribute: str, words: str = "") -> Sequence[str]:
        """Some values of an attribute, of those that contain some words."""
        return self._get(schemas.Values, f"/attributes/{of}/values", attribute=attribute, words=words or None).values

    def export(self, name: str, form: str = "csv", **options: object) -> bytes:
        """A list as it is filtered, whole, as CSV or JSON."""
        given = {key: value for key, value in options.items() if value}
        return self._transport.content(f"/exports/{name}?{urlencode({'format': form, **given})}")

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
