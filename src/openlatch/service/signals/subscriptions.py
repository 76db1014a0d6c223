"""Streams that are made from here at a transmitter, by its API (Shared Signals Framework 1.0, section 8).

A transmitter that lets its streams be set up only by hand needs none of this: it is given the address and the token.
"""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

import httpx
from sqlalchemy import select
from sqlalchemy.orm import undefer
from structlog import get_logger

from openlatch.adapters.limits import asked
from openlatch.core.sent_signals import POLL, PUSH
from openlatch.core.signals import EVENTS, MOST_BYTES, Refused
from openlatch.errors import BadInput, OpenLatchError, SystemDown
from openlatch.json_values import JsonObject, parsed
from openlatch.service.identity import openid
from openlatch.service.signals import receive, transmitter
from openlatch.service.unit import Service, Unit
from openlatch.store.database import transaction
from openlatch.store.tables import SignalSource
from openlatch.tls import trusted

log = get_logger()
# So many times in a row more is asked for, before others have their turn.
MOST_ROUNDS = 20


@dataclass(frozen=True, slots=True)
class Made:
    """A stream as the transmitter has it: its id, whom its tokens are for, and where they are fetched, if they are."""

    ident: str
    audience: str
    poll_address: str


def make(issuer: str, token: str, push_to: str, shown: str) -> Made:
    """Make a stream of all events that count here. Pushed to an address, where our token is shown; else fetched.

    BadInput when the transmitter refuses; SystemDown when it does not answer.
    """
    where = _endpoint(transmitter.metadata(issuer), "configuration_endpoint", issuer)
    push = {"method": PUSH, "endpoint_url": push_to, "authorization_header": f"Bearer {shown}"}
    wanted = {"delivery": push if push_to else {"method": POLL}, "events_requested": list(EVENTS)}
    status, found = _called("POST", where, token, json=wanted)
    delivery = found.get("delivery")
    poll = str(delivery.get("endpoint_url", "")) if isinstance(delivery, dict) and not push_to else ""
    audience = found.get("aud")
    audience = audience[0] if isinstance(audience, list) and audience else audience
    if status != 201 or not isinstance(found.get("stream_id"), str) or not isinstance(audience, str):
        told = str(found.get("description") or found.get("detail") or found.get("error_description") or "")[:300]
        raise BadInput(
            f"{issuer} does not make the stream: it answers {status}. {told}".strip(),
            "Check the token, and whether it has a stream already.",
            {"token": "refused"},
        )
    if not push_to:
        openid.refuse_unsafe(poll)
    return Made(found["stream_id"], audience, poll)


def end(unit: Unit, row: SignalSource) -> str:
    """Delete the stream of a source at its transmitter. Gives what is left to do by hand, or nothing."""
    token = _token(unit, row)
    if not row.stream_id or not token:
        return ""
    try:
        where = _endpoint(transmitter.metadata(row.issuer), "configuration_endpoint", row.issuer)
        status, _ = _called("DELETE", where, token, params={"stream_id": row.stream_id})
    except OpenLatchError as error:
        log.warning("signals.stream_not_ended", source=str(row.id), detail=error.detail)
        status = 0
    if status in (204, 404):
        return ""
    return f"Its stream at {row.issuer} could not be deleted; delete it there."


def _token(unit: Unit, row: SignalSource) -> str:
    held = unit.db.scalar(select(SignalSource.stream_token).where(SignalSource.id == row.id))
    return unit.service.cipher.decrypt(held).decode() if held else ""


def _endpoint(found: JsonObject, name: str, issuer: str) -> str:
    where = found.get(name)
    if not isinstance(where, str):
        raise BadInput(
            f"{issuer} has no {name}: its streams are made by hand.",
            "Leave the token out, and give it the address and the token that are shown.",
            {"token": "can't be used"},
        )
    openid.refuse_unsafe(where)
    return where


def _called(method: str, where: str, token: str, **given: object) -> tuple[int, JsonObject]:
    headers = {"Authorization": f"Bearer {token}", "Accept": "application/json"}
    try:
        with httpx.Client(timeout=openid.SECONDS, verify=trusted(), follow_redirects=False, headers=headers) as http:
            answer = asked(http, method, where, openid.SECONDS, **given)
        found = parsed(answer.content) if answer.content else {}
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise SystemDown(f"{transmitter.WHO} does not answer at {where}: {error}", "Try again.") from error
    return answer.status_code, found if isinstance(found, dict) else {}


def due(unit: Unit) -> list[UUID]:
    """The sources whose events are fetched."""
    return list(unit.db.scalars(select(SignalSource.id).where(SignalSource.poll_address != "")))


def fetch(service: Service, organisation: UUID, ident: UUID) -> None:
    """Fetch what a source has (RFC 8936), take it, and acknowledge it. What fails is kept with the source."""
    with transaction(service.engine, organisation) as db:
        row = db.get(SignalSource, ident, options=[undefer(SignalSource.stream_token)])
        if row is None or not row.poll_address or row.stream_token is None:
            return
        source = receive.Source(organisation, ident, row.issuer, row.audience)
        where, token, failed = row.poll_address, service.cipher.decrypt(row.stream_token).decode(), row.failed
    fault = ""
    try:
        _fetch_all(service, source, where, token)
    except SystemDown as error:
        fault = error.detail
    if fault != failed:
        with transaction(service.engine, organisation) as db:
            kept = db.get(SignalSource, ident)
            if kept is not None:
                kept.failed = fault[:500]


def _fetch_all(service: Service, source: receive.Source, where: str, token: str) -> None:
    settled: JsonObject = {}
    for _ in range(MOST_ROUNDS):
        status, found = _called("POST", where, token, json={"returnImmediately": True, "maxEvents": 50, **settled})
        if status != 200:
            raise SystemDown(f"{transmitter.WHO} answers {status} at {where}.", "Look whether the stream is there.")
        sets = found.get("sets")
        if not isinstance(sets, dict) or not sets:
            return
        taken: list[str] = []
        faults: dict[str, JsonObject] = {}
        for ident, written in sets.items():
            try:
                if not isinstance(written, str) or len(written) > MOST_BYTES:
                    raise Refused("invalid_request", f"A token has at most {MOST_BYTES} bytes.")
                receive.take(service, source, written)
                taken.append(ident)
            except Refused as error:
                faults[ident] = {"err": error.error, "description": error.description}
        settled = {"ack": taken, "setErrs": faults}
