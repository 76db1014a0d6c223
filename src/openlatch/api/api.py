"""The calls of the API. Each is a line or two: what there is to decide is decided in ``service``."""

from __future__ import annotations

import dataclasses
import tempfile
from collections.abc import Iterator
from datetime import datetime
from typing import Any, BinaryIO, cast
from uuid import UUID

import orjson
from flask import Response, request

from openlatch import schemas
from openlatch.api.routing import COOKIE, PREFIX, Routes, origin, the_service, viewer
from openlatch.core.journal import chain
from openlatch.core.journal import tree_heads as tree_heads_core
from openlatch.errors import TooLarge
from openlatch.service import imports, today
from openlatch.service.accounts.app_page import app_page
from openlatch.service.accounts.page import account_page
from openlatch.service.flags import flags
from openlatch.service.identity import authentication
from openlatch.service.journal import signed_heads
from openlatch.service.lists import register
from openlatch.service.people.page import person_page
from openlatch.service.records import file_columns
from openlatch.service.revocations import revoke as revoke_access
from openlatch.service.revocations import steps
from openlatch.service.unit import Unit, Viewer
from openlatch.store import journal
from openlatch.store.database import transaction
from openlatch.store.lists.engine import ListQuery, Page

# By this a device is known on which somebody has signed in before: others' tries don't slow it down.
DEVICE = "openlatch_device"
DEVICE_SECONDS = 365 * 24 * 3600
LARGEST_IMPORT = 4 << 30
# Of a file that is only looked at its beginning suffices.
LARGEST_LOOK = 1 << 20
api = Routes()


def list_query(options: schemas.ListOptions) -> ListQuery:
    """What somebody wants to see of a list."""
    return ListQuery(**options.model_dump())


# Signing in.


@api.add("POST", "/session", "Sign in with a browser", schemas.Me, body=schemas.SignInWith, open=True)
def sign_in(body: schemas.SignInWith) -> Response:
    """Sets the session's cookie."""
    service = the_service()
    device = request.cookies.get(DEVICE, "")
    who = authentication.check_password(
        service, body.address, body.password, origin(), body.code, device, body.organisation
    )
    return signed_in(who)


def signed_in(who: Viewer, proved: bool = True, **more: Any) -> Response:
    """The answer to somebody who is signed in from now on: the session's cookie, who they are, and ``more``."""
    service = the_service()
    opened = authentication.open_session(service, who, request.user_agent.string, origin(), proved)
    with service.unit(who) as unit:
        found = {**authentication.describe(unit), "csrf": authentication.csrf_of(opened.token), **more}
    response = Response(orjson.dumps(found), content_type="application/json")
    response.set_cookie(
        COOKIE,
        opened.token,
        expires=opened.expires_at,
        httponly=True,
        samesite="Strict",
        secure=request.is_secure,
    )
    response.set_cookie(
        DEVICE,
        authentication.remember_device(service, who),
        max_age=DEVICE_SECONDS,
        path=f"{PREFIX}/",
        httponly=True,
        samesite="Strict",
        secure=request.is_secure,
    )
    return response


@api.add("DELETE", "/session", "Sign out", schemas.Done, inside=True)
def sign_out(unit: Unit) -> Response:
    """Ends the session at once."""
    token = request.cookies.get(COOKIE)
    if token:
        authentication.close_session(unit.service, unit.viewer, token)
    response = Response(orjson.dumps({"done": True}), content_type="application/json")
    response.delete_cookie(COOKIE)
    return response


@api.add("GET", "/me", "Who is signed in, and as what", schemas.Me, inside=True)
def me(unit: Unit) -> dict[str, Any]:
    """With the token that calls from a page have to carry."""
    token = request.cookies.get(COOKIE)
    return {**authentication.describe(unit), "csrf": authentication.csrf_of(token) if token else ""}


@api.add("POST", "/tokens", "Make an API token", schemas.Token, body=schemas.MakeToken, status=201, open=True)
def make_token(body: schemas.MakeToken) -> dict[str, Any]:
    """By address and password."""
    service = the_service()
    who = authentication.check_password(service, body.address, body.password, origin(), body.code, at=body.organisation)
    ident, token, ends = authentication.make_token(service, who, body.name, body.scope)
    return {"id": ident, "token": token, "expires_at": ends}


@api.add("DELETE", "/tokens/<uuid:ident>", "End one of your API tokens", schemas.Done)
def end_token(unit: Unit, ident: UUID) -> dict[str, Any]:
    """At once."""
    authentication.end_token(unit, ident)
    return {"done": True}


# The register.


@api.add("GET", "/today", "What needs a person today", schemas.Today)
def get_today(unit: Unit) -> dict[str, Any]:
    """Of what you may see."""
    return today.page(unit)


# Lists of what belongs to an account: whoever acts in one sees its own part of them.
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
        "latches",
        "visits",
        "tasks",
    }
)


def _list(name: str, row: Any, what: str) -> None:
    def handler(unit: Unit, query: schemas.ListOptions) -> Page:
        return register.page(unit, name, list_query(query))

    handler.__name__ = f"list_{name}"
    handler.__doc__ = f"Those {what} that you may see, filtered, searched, sorted and paged."
    api.add("GET", f"/{name}", f"List {what}", schemas.Rows[row], query=schemas.ListOptions, inside=name in INSIDE)(
        handler
    )


_list("accounts", schemas.AccountRow, "accounts")
_list("people", schemas.PersonRow, "people")
_list("teams", schemas.TeamRow, "teams and partner organisations")
_list("grants", schemas.GrantRow, "grants")
_list("apps", schemas.AppRow, "connected apps")
_list("sessions", schemas.SessionRow, "sessions")
_list("flags", schemas.FlagRow, "flags")
_list("rounds", schemas.RoundRow, "review rounds")
_list("revocations", schemas.RevocationRow, "revocations")
_list("journal", schemas.JournalRow, "journal entries")
_list("systems", schemas.SystemRow, "systems")
_list("levels", schemas.LevelRow, "levels")
_list("offers", schemas.OfferRow, "offers")
_list("requests", schemas.RequestRow, "requests for access")
_list("notices", schemas.NoticeRow, "notices to you")
_list("resources", schemas.ResourceRow, "resources")
_list("latches", schemas.LatchRow, "latches")
_list("schedules", schemas.ScheduleRow, "schedules of reviews")
_list("tasks", schemas.TaskRow, "what is to be done by hand")
_list("visits", schemas.VisitRow, "visits to accounts")
_list("questions", schemas.QuestionRow, "questions about items of reviews")


@api.add(
    "GET",
    "/accounts/<uuid:ident>",
    "An account, with everyone and everything that can reach it",
    schemas.AccountPage,
    inside=True,
)
def get_account(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Owners and administrators see all paths; others their own."""
    return account_page(unit, ident)


@api.add(
    "GET", "/people/<uuid:ident>", "A person, with everything that they can reach", schemas.PersonPage, inside=True
)
def get_person(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Among the accounts that you may see."""
    return person_page(unit, ident)


@api.add("GET", "/apps/<uuid:ident>", "An app, with its links", schemas.AppPage, inside=True)
def get_app(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Each link is a grant on an account."""
    return app_page(unit, ident)


@api.add("GET", "/grants/<uuid:ident>", "A grant", schemas.GrantRow, inside=True)
def get_grant(unit: Unit, ident: UUID) -> dict[str, Any]:
    """With its version as the ETag."""
    return register.one(unit, "grants", ident)


@api.add("GET", "/sessions/<uuid:ident>", "A session", schemas.SessionRow, inside=True)
def get_session(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Whether it goes on or has ended."""
    return register.one(unit, "sessions", ident)


# Flags.


@api.add("GET", "/flags/<uuid:ident>", "A flag", schemas.FlagRow, inside=True)
def get_flag(unit: Unit, ident: UUID) -> dict[str, Any]:
    """With its facts and the parts of its score."""
    return flags.shown(unit, ident)


@api.add(
    "POST",
    "/flags/<uuid:ident>/accept",
    "Accept a flag until a day",
    schemas.FlagRow,
    body=schemas.AcceptFlag,
    inside=True,
)
def accept_flag(unit: Unit, ident: UUID, body: schemas.AcceptFlag) -> dict[str, Any]:
    """It opens again when the time is over."""
    return flags.accept(unit, [ident], body.reason, body.until)[0]


@api.add("POST", "/flags/<uuid:ident>/reopen", "Take the acceptance of a flag back", schemas.FlagRow, inside=True)
def reopen_flag(unit: Unit, ident: UUID) -> dict[str, Any]:
    """It is open at once."""
    return flags.open_again(unit, ident)


@api.add("POST", "/flags/accept", "Accept flags until a day", schemas.Flags, body=schemas.AcceptFlags, inside=True)
def accept_flags(unit: Unit, body: schemas.AcceptFlags) -> dict[str, Any]:
    """All of them, or none."""
    return {"flags": flags.accept(unit, body.flags, body.reason, body.until)}


@api.add("POST", "/flags/assign", "Say who sees to flags", schemas.Flags, body=schemas.AssignFlags, inside=True)
def assign_flags(unit: Unit, body: schemas.AssignFlags) -> dict[str, Any]:
    """All of them, or none."""
    return {"flags": flags.assign(unit, body.flags, body.person)}


# Revocations.


def _wish(body: schemas.RevokeWish) -> revoke_access.Wish:
    return revoke_access.Wish(tuple(body.grants), tuple(body.sessions), body.trim_level, body.trim_until)


@api.add(
    "POST", "/revocations/preview", "What a revocation would do", schemas.Preview, body=schemas.RevokeWish, inside=True
)
def preview_revocation(unit: Unit, body: schemas.RevokeWish) -> dict[str, Any]:
    """Nothing happens yet."""
    return revoke_access.preview(unit, _wish(body))


@api.add(
    "POST", "/revocations", "End or trim access", schemas.RevocationPage, body=schemas.Revoke, status=201, inside=True
)
def revoke(unit: Unit, body: schemas.Revoke) -> dict[str, Any]:
    """Its steps are carried out in the background until a read of the system confirms them."""
    ident = revoke_access.start(unit, _wish(body), body.reason, fingerprint=body.fingerprint)
    return steps.page(unit, ident)


@api.add("GET", "/revocations/<uuid:ident>", "A revocation with its steps", schemas.RevocationPage, inside=True)
def get_revocation(unit: Unit, ident: UUID) -> dict[str, Any]:
    """With the preview that was shown."""
    return steps.page(unit, ident)


@api.add("POST", "/revocations/<uuid:ident>/retry", "Try waiting steps now", schemas.RevocationPage, inside=True)
def retry_revocation(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Instead of when they are due."""
    steps.retry(unit, ident)
    return steps.page(unit, ident)


@api.add(
    "POST",
    "/revocations/<uuid:ident>/steps/<uuid:step>/done",
    "Say that a step was done by hand",
    schemas.RevocationPage,
    body=schemas.DoneByHand,
    inside=True,
)
def step_done(unit: Unit, ident: UUID, step: UUID, body: schemas.DoneByHand) -> dict[str, Any]:
    """With what was seen."""
    steps.done_by_hand(unit, ident, step, body.proof)
    return steps.page(unit, ident)


# Imports, the journal.


@api.add(
    "POST",
    "/imports/<kind>",
    "Bring a file of records",
    schemas.ImportReport,
    query=schemas.ImportOptions,
    streams=True,
)
def bring(unit: Unit, kind: str, query: schemas.ImportOptions) -> dict[str, Any]:
    """The body is the file itself, CSV or JSON Lines; it is streamed to disk, not held in memory."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_IMPORT
    with tempfile.TemporaryFile() as held:
        while block := request.stream.read(1 << 20):
            held.write(block)
        held.seek(0)
        matching = file_columns.matching_from(query.matching)
        file = cast(BinaryIO, held)
        report = imports.bring(unit, kind, query.form, file, query.keep_good, query.try_only, matching)
    if report.kept and matching and query.keep_matching:
        file_columns.keep(unit, kind, matching)
    return dataclasses.asdict(report)


@api.add(
    "POST",
    "/imports/<kind>/look",
    "Look at the columns of a file",
    schemas.FileLook,
    query=schemas.FileForm,
    streams=True,
)
def look_at_file(unit: Unit, kind: str, query: schemas.FileForm) -> dict[str, Any]:
    """The body is the file, or its beginning; each column comes with the field that it is taken for."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_LOOK
    with tempfile.TemporaryFile() as held:
        held.write(request.stream.read())
        held.seek(0)
        return file_columns.look(unit, kind, query.form, cast(BinaryIO, held))


@api.add(
    "POST",
    "/imports/<kind>/refused",
    "Take the refused lines of a file away",
    None,
    query=schemas.FileForm,
    streams=True,
)
def refused_lines(unit: Unit, kind: str, query: schemas.FileForm) -> Response:
    """As they are, each with why: a file of the same form. Nothing is kept."""
    unit.sight.require_administrator()
    request.max_content_length = LARGEST_IMPORT
    with tempfile.TemporaryFile() as held:
        while block := request.stream.read(1 << 20):
            held.write(block)
        held.seek(0)
        matching = file_columns.matching_from(query.matching)
        found = file_columns.refused(unit, kind, query.form, cast(BinaryIO, held), matching)
    mime = "text/csv; charset=utf-8" if query.form == "csv" else "application/jsonl"
    headers = {"Content-Disposition": f'attachment; filename="refused-{kind}.{query.form}"'}
    response = Response(found, content_type=mime, headers=headers)
    response.call_on_close(found.close)
    return response


# So many entries are verified within some ten seconds.
MOST_VERIFIED = 250_000


@api.add("GET", "/journal/verify", "Verify the journal", schemas.JournalVerdict, query=schemas.VerifyOptions)
def verify_journal(unit: Unit, query: schemas.VerifyOptions) -> dict[str, Any]:
    """Every entry, from the first one; with a position and hash noted earlier also its end."""
    unit.sight.require_administrator()
    expected = journal.head(unit.db)
    if expected[0] > MOST_VERIFIED:
        raise TooLarge(
            f"The journal has {expected[0]} entries, more than one call has time for.",
            "Take it away and verify it: openlatch journal export FILE, openlatch journal verify --file FILE.",
        )
    noted = (query.position, query.hash.lower()) if query.position is not None and query.hash else expected
    found = chain.verify(
        journal.export(unit.db, unit.viewer.organisation), noted, tree_heads_core.Watch(signed_heads.every(unit))
    )
    return {**dataclasses.asdict(found), "sound": found.sound, "head_position": expected[0], "head_hash": expected[1]}


@api.add("GET", "/journal/heads", "Signed tree heads over the journal", schemas.TreeHeads)
def journal_heads(unit: Unit) -> dict[str, Any]:
    """To be kept elsewhere: each vouches for all entries up to it. openlatch journal verify --head takes them."""
    return {"heads": signed_heads.listed(unit)}


@api.add("GET", "/journal/export", "Take the whole journal away, as JSON Lines", None, open=True)
def export_journal() -> Response:
    """To verify it elsewhere: openlatch journal verify --file."""
    who = viewer()
    service = the_service()
    with service.unit(who) as unit:
        unit.sight.require_administrator()

    def lines() -> Iterator[bytes]:
        with transaction(service.engine, who.organisation) as db:
            for entry in journal.export(db, who.organisation):
                yield orjson.dumps(entry) + b"\n"

    name = f"journal-{datetime.now():%Y-%m-%d}.jsonl"
    return Response(
        lines(), content_type="application/jsonl", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )
