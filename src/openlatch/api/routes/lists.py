"""The calls about finding things, and about people as they move on."""

from __future__ import annotations

from uuid import UUID

from flask import Response

from openlatch import schemas
from openlatch.api.routing import api, if_match
from openlatch.json_values import JsonValue
from openlatch.service.lists import export, register, saved_filters
from openlatch.service.lists import search as searching
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import ListQuery, Page

MIME = {"csv": "text/csv; charset=utf-8", "json": "application/json"}


# Lists whose rows belong to accounts: inside an account they show its part.
INSIDE = frozenset(
    {
        "accounts",
        "people",
        "teams",
        "grants",
        "apps",
        "sessions",
        "flags",
        "revocations",
        "journal",
        "levels",
        "offers",
        "requests",
        "resources",
        "groups",
        "latches",
        "visits",
        "tasks",
    }
)


@api.add("GET", "/search", "Search over everything", schemas.Found, query=schemas.SearchFor)
def search(unit: Unit, query: schemas.SearchFor) -> schemas.Found:
    """People, accounts, apps, teams, grants, flags, reviews and systems, of what you may see."""
    return searching.search(unit, query.q)


@api.add("GET", "/attributes/<name>", "The attributes of a list", schemas.Attributes, inside=True)
def get_attributes(unit: Unit, name: str) -> schemas.Attributes:
    """As filters name them, with what they hold and how they may be compared."""
    return register.attributes(name)


@api.add(
    "GET", "/attributes/<name>/values", "Values of an attribute", schemas.Values, query=schemas.ValuesOf, inside=True
)
def get_values(unit: Unit, name: str, query: schemas.ValuesOf) -> schemas.Values:
    """Up to twenty that occur among the rows that you may see."""
    return register.values(unit, name, query.attribute, query.words)


def _add_export(name: str) -> None:
    def handler(unit: Unit, query: schemas.ExportOptions) -> Response:
        held = export.export(unit, name, ListQuery(query.filter, query.search, query.sort), query.format)
        headers = {"Content-Disposition": f'attachment; filename="{name}-{unit.now:%Y-%m-%d}.{query.format}"'}
        response = Response(held, content_type=MIME[query.format], headers=headers)
        response.call_on_close(held.close)
        return response

    handler.__name__ = f"take_{name}_away"
    handler.__doc__ = f"All {name} that match, as filtered and sorted, as CSV or JSON."
    api.add(
        "GET",
        f"/exports/{name}",
        f"Take a list of {name} away",
        None,
        query=schemas.ExportOptions,
        inside=name in INSIDE,
    )(handler)


for _name in register.LISTS:
    if _name != "items":
        _add_export(_name)


@api.add("GET", "/filters", "Filters that are kept", schemas.FiltersKept, query=schemas.FiltersOf)
def get_filters(unit: Unit, query: schemas.FiltersOf) -> schemas.FiltersKept:
    """Your own, and those that others share."""
    return saved_filters.every(unit, query.list)


def _query(body: schemas.KeepFilter) -> ListQuery:
    return ListQuery(body.filter, body.search, body.sort)


@api.add("POST", "/filters", "Keep a filter", schemas.FilterKept, body=schemas.KeepFilter, status=201)
def keep_filter(unit: Unit, body: schemas.KeepFilter) -> schemas.FilterKept:
    """By a name, for yourself or for everybody."""
    return saved_filters.keep(unit, body.name, body.list, _query(body), body.is_shared)


@api.add("PUT", "/filters/<uuid:ident>", "Change a kept filter", schemas.FilterKept, body=schemas.KeepFilter)
def change_filter(unit: Unit, ident: UUID, body: schemas.KeepFilter) -> schemas.FilterKept:
    """One of your own; it stays with its list."""
    return saved_filters.change(unit, ident, body.name, _query(body), body.is_shared, if_match())


@api.add("DELETE", "/filters/<uuid:ident>", "Remove a kept filter", schemas.Done)
def remove_filter(unit: Unit, ident: UUID) -> schemas.Done:
    """One of your own, with the mail that comes of it."""
    saved_filters.remove(unit, ident)
    return schemas.Done(done=True)


@api.add(
    "PUT", "/filters/<uuid:ident>/mail", "Have mail of what matches", schemas.FilterKept, body=schemas.MailOfFilter
)
def mail_filter(unit: Unit, ident: UUID, body: schemas.MailOfFilter) -> schemas.FilterKept:
    """Daily, weekly or never; only when something matches."""
    return saved_filters.set_mail(unit, ident, body.every)


def list_query(options: schemas.ListOptions) -> ListQuery:
    """What somebody wants to see of a list."""
    return ListQuery(**options.model_dump())


def _list(name: str, row: JsonValue, what: str) -> None:
    def handler(unit: Unit, query: schemas.ListOptions) -> Page:
        return register.page(unit, name, list_query(query))

    handler.__name__ = f"list_{name}"
    handler.__doc__ = f"Those {what} that you may see, filtered, searched, sorted and paged."
    api.add("GET", f"/{name}", f"List {what}", schemas.Rows[row], query=schemas.ListOptions, inside=name in INSIDE)(
        handler
    )


for _listed, _row, _what in (
    ("accounts", schemas.AccountRow, "accounts"),
    ("people", schemas.PersonRow, "people"),
    ("teams", schemas.TeamRow, "teams and partner organisations"),
    ("grants", schemas.GrantRow, "grants"),
    ("apps", schemas.AppRow, "connected apps"),
    ("sessions", schemas.SessionRow, "sessions"),
    ("flags", schemas.FlagRow, "flags"),
    ("rounds", schemas.RoundRow, "review rounds"),
    ("revocations", schemas.RevocationRow, "revocations"),
    ("journal", schemas.JournalRow, "journal entries"),
    ("systems", schemas.SystemRow, "systems"),
    ("levels", schemas.LevelRow, "levels"),
    ("offers", schemas.OfferRow, "offers"),
    ("requests", schemas.RequestRow, "requests for access"),
    ("notices", schemas.NoticeRow, "notices to you"),
    ("resources", schemas.ResourceRow, "resources"),
    ("groups", schemas.GroupRow, "groups of resources"),
    ("latches", schemas.LatchRow, "latches"),
    ("schedules", schemas.ScheduleRow, "schedules of reviews"),
    ("tasks", schemas.TaskRow, "what is to be done by hand"),
    ("visits", schemas.VisitRow, "visits to accounts"),
    ("questions", schemas.QuestionRow, "questions about items of reviews"),
):
    _list(_listed, _row, _what)
