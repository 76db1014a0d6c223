"""Security event tokens (RFC 8417) that other services send: which events count, whom they are about (RFC 9493), and
why one is refused.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum

from openlatch.json_values import JsonView

CAEP = "https://schemas.openid.net/secevent/caep/event-type/"
RISC = "https://schemas.openid.net/secevent/risc/event-type/"
VERIFICATION = "https://schemas.openid.net/secevent/ssf/event-type/verification"
STREAM_UPDATED = "https://schemas.openid.net/secevent/ssf/event-type/stream-updated"
# What people call the events that count here, by their type.
EVENTS: Mapping[str, str] = {
    f"{CAEP}session-revoked": "a session was revoked",
    f"{CAEP}credential-change": "a credential was changed",
    f"{CAEP}assurance-level-change": "the way of signing in became weaker or stronger",
    f"{CAEP}device-compliance-change": "whether a device complies has changed",
    f"{RISC}account-disabled": "the account was disabled",
    f"{RISC}account-enabled": "the account was enabled",
    f"{RISC}account-purged": "the account was deleted",
    f"{RISC}credential-compromise": "a credential was compromised",
}
# A token may be on its way for so long, and clocks may differ by so much.
OLDEST, LEEWAY = timedelta(days=7), timedelta(minutes=2)
MOST_BYTES = 64_000


class Reaction(StrEnum):
    """What an event makes happen here."""

    IGNORE = "ignore"
    NOTIFY = "notify"
    FLAG = "flag"
    END_SESSIONS = "end_sessions"
    END_ACCESS = "end_access"


USUAL: Mapping[str, Reaction] = {
    f"{CAEP}session-revoked": Reaction.NOTIFY,
    f"{CAEP}credential-change": Reaction.IGNORE,
    f"{CAEP}assurance-level-change": Reaction.IGNORE,
    f"{CAEP}device-compliance-change": Reaction.IGNORE,
    f"{RISC}account-disabled": Reaction.FLAG,
    f"{RISC}account-enabled": Reaction.NOTIFY,
    f"{RISC}account-purged": Reaction.FLAG,
    f"{RISC}credential-compromise": Reaction.FLAG,
}


def reactions_of(kept: Mapping[str, str]) -> Mapping[str, str]:
    """What each type of event makes happen: as set, or what is usual."""
    return {event: str(kept.get(event, USUAL[event])) for event in EVENTS}


def digest(token: str) -> bytes:
    """What is kept of a token that somebody shows."""
    return hashlib.sha256(token.encode()).digest()


class Refused(Exception):
    """A token that can't be taken, with the error of RFC 8935, section 2.4."""

    def __init__(self, error: str, description: str) -> None:
        super().__init__(description)
        self.error, self.description = error, description


@dataclass(frozen=True, slots=True)
class Subject:
    """One way in which an event says whom it is about: an address, a name at an issuer, or a name of its own."""

    kind: str
    name: str
    issuer: str = ""


@dataclass(frozen=True, slots=True)
class Signal:
    """An event as it was told. ``ident`` is the token's, by which it counts once."""

    ident: str
    event: str
    subjects: tuple[Subject, ...]
    at: datetime
    reason: str


def told(header: JsonView, claims: JsonView, issuer: str, audience: str, now: datetime) -> Signal:
    """What a token says whose signature was checked. Refused if it is not of this transmitter, for us and now."""
    if str(header.get("typ", "")).lower().removeprefix("application/") != "secevent+jwt":
        raise Refused("invalid_request", "The type of the token has to be secevent+jwt.")
    if str(claims.get("iss", "")).rstrip("/") != issuer.rstrip("/"):
        raise Refused("invalid_issuer", "The token comes from another issuer.")
    audiences = claims.get("aud")
    if audience not in (audiences if isinstance(audiences, list) else [audiences]):
        raise Refused("invalid_audience", "The token is for somebody else.")
    if "exp" in claims:
        raise Refused("invalid_request", "A security event token has no exp: what happened stays so.")
    ident = claims.get("jti")
    if not isinstance(ident, str) or not 1 <= len(ident) <= 200:
        raise Refused("invalid_request", "The token has no jti, by which it counts once.")
    sent = _instant(claims.get("iat"), "iat")
    if sent > now + LEEWAY or sent < now - OLDEST:
        raise Refused("invalid_request", "The token is from the future, or older than a week.")
    events = claims.get("events")
    if not isinstance(events, Mapping) or len(events) != 1:
        raise Refused("invalid_request", "The token has to tell of one event.")
    ((event, detail),) = events.items()
    if not isinstance(detail, Mapping):
        raise Refused("invalid_request", "The event is no object.")
    at = detail.get("event_timestamp")
    happened = min(_instant(at, "event_timestamp"), now) if at is not None else sent
    subject = claims.get("sub_id", detail.get("subject"))
    found = tuple(_subjects(subject)) if event not in (VERIFICATION, STREAM_UPDATED) else ()
    return Signal(ident, str(event), found, happened, _reason(detail))


def _instant(value: object, name: str) -> datetime:
    """A time as seconds (RFC 7519); milliseconds are taken for what they are."""
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 < value < 1e14:
        raise Refused("invalid_request", f"{name} is no time.")
    return datetime.fromtimestamp(value / 1000 if value > 1e11 else value, UTC)


def _reason(detail: JsonView) -> str:
    """The transmitter's words for people, in English if there are some."""
    for name in ("reason_admin", "reason_user", "reason"):
        said = detail.get(name)
        text = said if isinstance(said, str) else said.get("en") if isinstance(said, Mapping) else None
        if isinstance(text, str):
            return "".join(letter for letter in text if letter.isprintable())[:300]
    return ""


def _subjects(given: object) -> list[Subject]:
    """The ways in which a subject identifier names people, the surest first. Refused for one that can't be read."""
    form = given.get("format") if isinstance(given, Mapping) else None
    if isinstance(given, Mapping) and (form == "complex" or (form is None and isinstance(given.get("user"), Mapping))):
        return _aliases(given.get("user"))
    return _aliases(given)


def _aliases(given: object) -> list[Subject]:
    """Several names of the same; none of them holds several again (RFC 9493, section 3.2.8)."""
    if isinstance(given, Mapping) and given.get("format") == "aliases" and isinstance(given.get("identifiers"), list):
        return [subject for one in given["identifiers"] for subject in _simple(one)]
    return _simple(given)


def _simple(given: object) -> list[Subject]:
    if not isinstance(given, Mapping):
        raise Refused("invalid_request", "The token does not say whom it is about (sub_id).")
    form = given.get("format")
    text = {name: value for name, value in given.items() if isinstance(value, str)}
    if form == "email" and text.get("email"):
        return [Subject("email", text["email"])]
    if form == "account" and text.get("uri", "").startswith("acct:"):
        return [Subject("email", text["uri"].removeprefix("acct:"))]
    if form == "iss_sub" and text.get("sub"):
        return [Subject("iss_sub", text["sub"], text.get("iss", ""))]
    if form == "opaque" and text.get("id"):
        return [Subject("opaque", text["id"])]
    if form in ("phone_number", "did", "uri", "jwt_id", "saml_assertion_id", "ip-addresses"):
        return []
    raise Refused("invalid_request", f"The subject identifier can't be read: its format is {form!r}.")
