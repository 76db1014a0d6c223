"""The calls, by the words of the register."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from types import TracebackType
from typing import Any, Self, TypeVar
from uuid import UUID

import httpx
from pydantic import BaseModel

from openlatch import schemas
from openlatch.client.ending import Ending
from openlatch.client.exposure import Exposing
from openlatch.client.giving import Giving
from openlatch.client.identity import Identity
from openlatch.client.lists import Finding
from openlatch.client.partners import Partnering
from openlatch.client.records import Keeping
from openlatch.client.reviewing import Reviewing
from openlatch.client.ruling import Ruling
from openlatch.client.system_setup import SettingUp
from openlatch.client.transport import Transport

Row = TypeVar("Row", bound=BaseModel)

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
    "latches": schemas.LatchRow,
    "tasks": schemas.TaskRow,
    "visits": schemas.VisitRow,
    "schedules": schemas.ScheduleRow,
    "exposures": schemas.ExposureRow,
    "questions": schemas.QuestionRow,
}


class Client(Giving, Reviewing, Ruling, Ending, Keeping, Identity, SettingUp, Finding, Partnering, Exposing):
    """The service at ``address``, as whoever ``token`` belongs to. Times are aware datetimes in UTC.

    Every method raises CallFailed when the service says no, and Unreachable when none answers.
    """

    def __init__(self, address: str, token: str = "", transport: httpx.BaseTransport | None = None) -> None:
        self._transport = Transport(address, token, transport)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._transport.close()

    # Signing in.

    def make_token(
        self,
        address: str,
        password: str,
        name: str = "command line",
        scope: str = "write",
        code: str = "",
        organisation: str = "",
    ) -> schemas.Token:
        """A token by address and password, and the code of a second factor if there is one. It is given only now.

        ``organisation`` is a short name, for an address with which somebody signs in at several.
        """
        body = {
            "address": address,
            "password": password,
            "name": name,
            "scope": scope,
            "code": code,
            "organisation": organisation,
        }
        return schemas.Token.model_validate(
            self._transport.call("POST", "/tokens", json=body, headers={"Idempotency-Key": ""})
        )

    def end_token(self, ident: UUID) -> None:
        """End one of one's own tokens."""
        self._transport.call("DELETE", f"/tokens/{ident}")

    def me(self) -> schemas.Me:
        """Who the token belongs to."""
        return schemas.Me.model_validate(self._transport.call("GET", "/me"))

    # Lists.

    def list(self, name: str, **options: Any) -> schemas.Rows[Any]:
        """A page of a list: ``filter``, ``search``, ``sort``, ``limit``, ``cursor``, ``count``."""
        return self._page(f"/{name}", LISTS[name], options)

    def every(self, name: str, **options: Any) -> Iterator[Any]:
        """Every row of a list, page after page."""
        return self._every(f"/{name}", LISTS[name], options)

    # The register.

    def today(self) -> schemas.Today:
        """What needs a person today."""
        return schemas.Today.model_validate(self._transport.call("GET", "/today"))

    def account(self, ident: UUID) -> schemas.AccountPage:
        """An account, with everyone and everything that can reach it."""
        return schemas.AccountPage.model_validate(self._transport.call("GET", f"/accounts/{ident}"))

    def person(self, ident: UUID) -> schemas.PersonPage:
        """A person, with everything that they can reach."""
        return schemas.PersonPage.model_validate(self._transport.call("GET", f"/people/{ident}"))

    def app(self, ident: UUID) -> schemas.AppPage:
        """An app, with its links."""
        return schemas.AppPage.model_validate(self._transport.call("GET", f"/apps/{ident}"))

    def grant(self, ident: UUID) -> schemas.GrantRow:
        """A grant."""
        return schemas.GrantRow.model_validate(self._transport.call("GET", f"/grants/{ident}"))

    def session(self, ident: UUID) -> schemas.SessionRow:
        """A session."""
        return schemas.SessionRow.model_validate(self._transport.call("GET", f"/sessions/{ident}"))

    def flag(self, ident: UUID) -> schemas.FlagRow:
        """A flag."""
        return schemas.FlagRow.model_validate(self._transport.call("GET", f"/flags/{ident}"))

    def accept_flag(self, ident: UUID, reason: str, until: datetime) -> schemas.FlagRow:
        """Accept a flag until an instant."""
        body = {"reason": reason, "until": until.isoformat()}
        return schemas.FlagRow.model_validate(self._transport.call("POST", f"/flags/{ident}/accept", json=body))

    # Revocations.

    def preview(
        self,
        grants: Iterable[UUID] = (),
        sessions: Iterable[UUID] = (),
        trim_level: UUID | None = None,
        trim_until: datetime | None = None,
    ) -> schemas.Preview:
        """What a revocation would do. Nothing happens yet."""
        body = _wish(grants, sessions, trim_level, trim_until)
        return schemas.Preview.model_validate(self._transport.call("POST", "/revocations/preview", json=body))

    def revoke(
        self,
        reason: str,
        grants: Iterable[UUID] = (),
        sessions: Iterable[UUID] = (),
        trim_level: UUID | None = None,
        trim_until: datetime | None = None,
        fingerprint: str = "",
    ) -> schemas.RevocationPage:
        """End or trim access. With a preview's ``fingerprint``, only if it would still do the same."""
        body = {**_wish(grants, sessions, trim_level, trim_until), "reason": reason, "fingerprint": fingerprint}
        return schemas.RevocationPage.model_validate(self._transport.call("POST", "/revocations", json=body))

    def revocation(self, ident: UUID) -> schemas.RevocationPage:
        """A revocation with its steps."""
        return schemas.RevocationPage.model_validate(self._transport.call("GET", f"/revocations/{ident}"))

    def retry(self, ident: UUID) -> schemas.RevocationPage:
        """Try waiting steps now."""
        return schemas.RevocationPage.model_validate(self._transport.call("POST", f"/revocations/{ident}/retry"))

    def step_done(self, ident: UUID, step: UUID, proof: str) -> schemas.RevocationPage:
        """Say that a step was done by hand, and what was seen."""
        path = f"/revocations/{ident}/steps/{step}/done"
        return schemas.RevocationPage.model_validate(self._transport.call("POST", path, json={"proof": proof}))

    # Imports, the journal.

    def bring(
        self,
        kind: str,
        content: Iterable[bytes],
        form: str = "csv",
        keep_good: bool = False,
        try_only: bool = False,
        matching: Mapping[str, str] | None = None,
    ) -> schemas.ImportReport:
        """Bring a file of records; ``content`` is streamed, ``matching`` says which columns are which fields."""
        params = {"form": form, "keep_good": str(keep_good).lower(), "try_only": str(try_only).lower()}
        if matching is not None:
            params |= {"matching": json.dumps(dict(matching)), "keep_matching": "true"}
        found = self._transport.call(
            "POST", f"/imports/{kind}", params=params, content=content, timeout=httpx.Timeout(60, read=3600)
        )
        return schemas.ImportReport.model_validate(found)

    def look_at_file(self, kind: str, content: bytes, form: str = "csv") -> schemas.FileLook:
        """The columns of a file, or of its beginning, each with the field that it is taken for."""
        found = self._transport.call("POST", f"/imports/{kind}/look", params={"form": form}, content=content)
        return schemas.FileLook.model_validate(found)

    def verify_journal(self, position: int | None = None, hash: str = "") -> schemas.JournalVerdict:
        """Have the service verify its journal; with a position and hash noted earlier also its end."""
        params = {"position": position, "hash": hash} if position is not None else {}
        found = self._transport.call("GET", "/journal/verify", params=params, timeout=httpx.Timeout(60, read=3600))
        return schemas.JournalVerdict.model_validate(found)

    def tree_heads(self) -> schemas.TreeHeads:
        """The signed heads of the journal, oldest first."""
        return schemas.TreeHeads.model_validate(self._transport.call("GET", "/journal/heads"))

    def published_keys(self) -> Sequence[dict[str, str]]:
        """The keys that the service signs with, as JSON Web Keys; ``purpose`` says what for."""
        return self._transport.published("/.well-known/jwks.json")

    def export_journal(self) -> Iterator[str]:
        """The whole journal, line by line."""
        return self._transport.lines("/journal/export")


def _wish(
    grants: Iterable[UUID], sessions: Iterable[UUID], trim_level: UUID | None, trim_until: datetime | None
) -> dict[str, Any]:
    return {
        "grants": [str(ident) for ident in grants],
        "sessions": [str(ident) for ident in sessions],
        "trim_level": str(trim_level) if trim_level else None,
        "trim_until": trim_until.isoformat() if trim_until else None,
    }
