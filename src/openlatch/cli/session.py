"""The service and the sign-in in use, saved in a file that only its owner can read."""

from __future__ import annotations

import functools
import json
import os
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, dataclass
from datetime import date, datetime, time
from pathlib import Path
from typing import Any, Protocol, TypeVar
from uuid import UUID
from zoneinfo import ZoneInfo

import click

from openlatch.client import CallFailed, Client
from openlatch.core.day_words import EXAMPLES, EXAMPLES_OF_PAST, read_day
from openlatch.core.time_windows import zone_of
from openlatch.errors import BadInput, NotSignedIn
from openlatch.json_values import JsonList
from openlatch.languages.terminal import chosen, say

# Seconds that somebody at a terminal waits where the service is busy.
PATIENCE = 10.0
DEFAULT_URL = "http://127.0.0.1:8620"


@dataclass(frozen=True, slots=True)
class Saved:
    """An address and a token, and the time zone of the organisation that it is for."""

    url: str
    token: str = ""
    token_id: str = ""
    time_zone: str = ""


def path() -> Path:
    """The path of the file, under XDG_CONFIG_HOME (XDG base directory specification)."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "openlatch" / "session.json"


def load() -> Saved:
    """What was saved, with OPENLATCH_URL and OPENLATCH_TOKEN over it."""
    try:
        saved = Saved(**json.loads(path().read_text()))
    except FileNotFoundError:
        saved = Saved(DEFAULT_URL)
    except (json.JSONDecodeError, TypeError) as error:
        raise BadInput(f"{path()} can't be read: {error}", "Sign in again: openlatch login") from None
    url, token = os.environ.get("OPENLATCH_URL"), os.environ.get("OPENLATCH_TOKEN")
    # Another service or token may be for another organisation.
    zone = "" if url or token else saved.time_zone
    return Saved(url or saved.url, token or saved.token, saved.token_id, zone)


def save(saved: Saved) -> None:
    """Save it, readable only by its owner from the start."""
    path().parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    descriptor = os.open(path(), os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        json.dump(asdict(saved), file)


def forget() -> None:
    """Remove the file."""
    path().unlink(missing_ok=True)


def client() -> Client:
    """A client for whoever is signed in. NotSignedIn when nobody is."""
    saved = load()
    if not saved.token:
        raise NotSignedIn("Nobody is signed in.", "Sign in: openlatch login (or set OPENLATCH_TOKEN).")
    return Client(saved.url, saved.token, patience=PATIENCE, language=chosen())


@functools.cache
def zone() -> ZoneInfo:
    """The time zone of the organisation: days and times are read and written in it."""
    saved = load()
    if saved.time_zone:
        return zone_of(saved.time_zone)
    with client() as service:
        return zone_of(service.me().organisation.time_zone)


# How much of an id is shown, and enough to name one: its end, since ids of the same time begin alike.
REFERENCE = 8
# The end of an id, as lists show it.
_END = re.compile(r"[0-9a-f]{6,31}")


def find(service: Client, kind: str, given: str) -> UUID:
    """The id of something given by id or by name. BadInput when no name fits, or several do."""
    try:
        return UUID(given)
    except ValueError:
        pass
    if kind not in _SINGULAR:
        raise BadInput(f"{given!r} is no id.", f"Name one of the {kind} by its id.")
    exact = json.dumps(given)
    rows: JsonList = service.list(kind, filter=f"name eq {exact}", limit=2).rows
    if not rows and _END.fullmatch(given.lower()):
        rows = service.list(kind, filter=f'id ew "{given.lower()}"', limit=6).rows
    if not rows:
        rows = service.list(kind, filter=f"name co {exact}", limit=6).rows
    if not rows and kind in _ARCHIVED:
        rows = service.list(kind, filter=f"name eq {exact} and archived eq true", limit=6).rows
    if len(rows) == 1:
        ident: UUID = rows[0].id
        return ident
    if not rows:
        raise BadInput(f"None of the {kind} is called {given!r}.", f"Look at: openlatch {_SINGULAR[kind]} list")
    names = ", ".join(f"{row.name} ({str(row.id)[-REFERENCE:]})" for row in rows[:5])
    raise BadInput(f"Several {kind} fit {given!r}: {names}.", "Give the whole name, or the id.")


class HasId(Protocol):
    """A row with an id."""

    @property
    def id(self) -> UUID:
        """Its id."""


WithId = TypeVar("WithId", bound=HasId)


def among(words: str, rows: Iterable[WithId], what: str, named: Callable[[WithId], Sequence[str]]) -> UUID:
    """The id of one of a few rows, given by it, by the end of it as lists show it, or by a name. BadInput where none or
    several fit.
    """
    told = words.casefold()
    found = list(rows)
    is_end = re.fullmatch(r"[0-9a-f-]{6,36}", told) is not None
    # A name may be spelled like the end of another's id: then somebody has to say which is meant.
    fits = [
        row
        for row in found
        if told in (name.casefold() for name in named(row)) or (is_end and str(row.id).endswith(told))
    ]
    if len(fits) != 1:
        known = ", ".join(
            f"{str(row.id)[-REFERENCE:]}" + "".join(f" ({name})" for name in named(row)[:1])
            for row in (fits or found)[:5]
        )
        raise BadInput(
            f"{'Several' if fits else 'None'} of the {what} fit{'' if fits else 's'} {words!r}.",
            f"Give one of: {known}." if known else "There are none.",
        )
    return fits[0].id


class Reference(click.ParamType[UUID]):
    """Something that a list shows: by its id, by the end of it as lists show it, or by its name where it has one."""

    name = "reference"

    def __init__(self, kind: str) -> None:
        self.kind = kind

    def convert(self, value: str | UUID, param: click.Parameter | None, ctx: click.Context | None) -> UUID:
        """The id. BadInput where nothing fits, or several do."""
        if isinstance(value, UUID):
            return value
        try:
            return UUID(value)
        except ValueError:
            pass
        with client() as service:
            if not _END.fullmatch(value.lower()):
                if self.kind in _SINGULAR:
                    return find(service, self.kind, value)
                self.fail(f"{value!r} is neither an id nor the end of one, as lists show it.", param, ctx)
            fits = service.list(self.kind, filter=f'id ew "{value}"', limit=2).rows
            if not fits and self.kind in _SINGULAR:
                # A name may be spelled like a reference.
                return find(service, self.kind, value)
        if len(fits) != 1:
            what = _SINGULAR.get(self.kind, self.kind.rstrip("s"))
            remedy = f"See: openlatch {what} list --ids"
            if fits:
                raise BadInput(f"Several of the {self.kind} end in {value!r}.", remedy)
            raise BadInput(f"None of the {self.kind} ends in {value!r}.", remedy)
        ident: UUID = fits[0].id
        return ident


_SINGULAR = {
    "accounts": "account",
    "people": "person",
    "apps": "app",
    "teams": "team",
    "systems": "system",
    "rounds": "round",
    "levels": "level",
    "resources": "resource",
    "groups": "resource group",
    "schedules": "schedule",
}

# Of these, a name that nothing else has may be that of an archived one.
_ARCHIVED = ("accounts", "apps", "teams", "levels", "resources", "groups")

Answer = TypeVar("Answer")


def proving(service: Client, call: Callable[[], Answer]) -> Answer:
    """Make a call; when it needs a fresh proof, ask for the password and make it again."""
    try:
        return call()
    except CallFailed as error:
        if not error.problem.type.endswith(":proof-needed"):
            raise
        click.echo(error.detail, err=True)
        password = click.prompt(say("Your password"), hide_input=True, err=True)
        code = click.prompt(
            say("Code of your second factor (empty if you have none)"), default="", show_default=False, err=True
        )
        service.prove(password, code)
        return call()


def day_of_words(words: str, is_past: bool) -> date:
    """A day as people write it; which one is said on standard error. BadInput for what is none."""
    day = read_day(words, datetime.now(zone()).date(), is_past=is_past)
    click.echo(f"{words}: {day:%A %-d %B %Y}", err=True)
    return day


class LastDay(click.ParamType[date | datetime]):
    """A last day, which counts to its end where the account is, or an instant."""

    name = "day"
    is_past = False

    def convert(self, value: str | date, param: click.Parameter | None, ctx: click.Context | None) -> date | datetime:
        """A date, or an aware datetime; one without a zone is meant where the organisation is."""
        if isinstance(value, date):
            return value
        try:
            if len(value) == len("2026-03-31"):
                return date.fromisoformat(value)
            parsed = datetime.fromisoformat(value)
        except ValueError:
            return self._of_words(value, param, ctx)
        return parsed if parsed.tzinfo else parsed.replace(tzinfo=zone())

    def _of_words(self, words: str, param: click.Parameter | None, ctx: click.Context | None) -> date:
        """A day as people write it."""
        try:
            return day_of_words(words, self.is_past)
        except BadInput as fault:
            self.fail(f"{fault.detail} {fault.remedy} An instant is like 2026-03-31T18:00:00Z.", param, ctx)


class Day(LastDay):
    """A whole day: a last one, and no instant."""

    def convert(self, value: str | date, param: click.Parameter | None, ctx: click.Context | None) -> date:
        """A date, never an instant."""
        found = super().convert(value, param, ctx)
        if isinstance(found, datetime):
            self.fail(
                f"{value!r} is an instant; write a day, like {EXAMPLES_OF_PAST if self.is_past else EXAMPLES}",
                param,
                ctx,
            )
        return found


class PastDay(Day):
    """A day of the past, or today."""

    is_past = True


class ClockTime(click.DateTime):
    """A time as clocks show it, or the first moment of a day, wherever that is."""

    name = "time"

    def __init__(self, is_past: bool) -> None:
        self.is_past = is_past
        super().__init__(["%Y-%m-%d", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S%z"])

    def get_metavar(self, param: click.Parameter, ctx: click.Context) -> str:
        """Its name, which says more than its formats."""
        return self.name.upper()

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        """A datetime, as the service takes it."""
        try:
            return super().convert(value, param, ctx)
        except click.BadParameter:
            try:
                return datetime.combine(day_of_words(str(value), self.is_past), time())
            except BadInput as fault:
                self.fail(f"{fault.detail} {fault.remedy} An instant is like 2026-03-31T18:00.", param, ctx)


class Instant(ClockTime):
    """An instant, or the first moment of a day; without a zone where the organisation is."""

    name = "instant"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        """An aware datetime."""
        found = super().convert(value, param, ctx)
        return found if found.tzinfo else found.replace(tzinfo=zone())


class Start(LastDay):
    """A first day, which counts from its beginning where the organisation is, or an instant."""

    def convert(self, value: str | date, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        """An aware datetime."""
        found = super().convert(value, param, ctx)
        return found if isinstance(found, datetime) else datetime.combine(found, time(), zone())
