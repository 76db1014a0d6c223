"""Security events that this service sends: which changes become which events, and what a stream may be set to.

Events are those of CAEP and RISC; a stream is that of the OpenID Shared Signals Framework, section 8.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from enum import StrEnum

from openlatch.core.signals import CAEP, RISC
from openlatch.json_values import JsonObject, JsonView

SESSION_REVOKED = f"{CAEP}session-revoked"
CREDENTIAL_CHANGE = f"{CAEP}credential-change"
DISABLED, ENABLED = f"{RISC}account-disabled", f"{RISC}account-enabled"
# What can be asked for.
EVENTS = (SESSION_REVOKED, CREDENTIAL_CHANGE, DISABLED, ENABLED)
PUSH, POLL = "urn:ietf:rfc:8935", "urn:ietf:rfc:8936"
# A receiver may ask for a verification event so often.
BETWEEN_VERIFICATIONS = timedelta(seconds=60)
MOST_POLLED = 100
MOST_LEFT_OUT = 100_000


class Status(StrEnum):
    """Whether events are sent, are held until they may be, or are not made at all."""

    ENABLED = "enabled"
    PAUSED = "paused"
    DISABLED = "disabled"


@dataclass(frozen=True, slots=True)
class Sent:
    """What a change becomes: a type of event, what it says, and the reason in words for administrators."""

    event: str
    reason: str
    detail: Mapping[str, str] = field(default_factory=dict)


def _credential(kind: str, change: str, reason: str) -> Sent:
    return Sent(CREDENTIAL_CHANGE, reason, {"credential_type": kind, "change_type": change})


# By the action of the journal. {account} is the name of the account that it is about.
BY_ACTION: Mapping[str, Sent] = {
    "grant.revoking": Sent(SESSION_REVOKED, "Access to {account} is being revoked."),
    "sign_in.sessions_ended": Sent(SESSION_REVOKED, "Their sessions in Open Latch were ended."),
    "sign_in.taken_away": Sent(SESSION_REVOKED, "Their sign-in to Open Latch was removed."),
    "password.changed": _credential("password", "update", "They changed their password in Open Latch."),
    "password.reset": _credential("password", "update", "Their password in Open Latch was replaced by a link."),
    "passkey.added": _credential("fido2", "create", "A passkey was added in Open Latch."),
    "passkey.removed": _credential("fido2", "delete", "A passkey was removed in Open Latch."),
    "factor.set_up": _credential("app", "create", "A second factor was set up in Open Latch."),
    "factor.removed": _credential("app", "delete", "The second factor in Open Latch was removed."),
    "factor.reset": _credential("app", "revoke", "The second factor in Open Latch was reset."),
    "person.left": Sent(DISABLED, "They have left the organisation."),
    "person.back": Sent(ENABLED, "They are back in the organisation."),
    "person.deactivated": Sent(DISABLED, "The directory has deactivated them."),
    "person.activated": Sent(ENABLED, "The directory has activated them again."),
}


def detail_of(sent: Sent, account: str, by: str, seconds: int) -> JsonObject:
    """What an event says. ``by``: user, admin, policy or system (CAEP, section 2); ``seconds`` since 1970."""
    said = {"initiating_entity": by, "reason_admin": {"en": sent.reason.format(account=account or "an account")}}
    return {**sent.detail, "event_timestamp": seconds, **said}


def delivered(requested: Sequence[str] | None) -> list[str]:
    """The types that a stream sends: those requested that there are, or all."""
    return [event for event in EVENTS if requested is None or event in requested]


def email_of(subject: object) -> tuple[str, str] | None:
    """How a receiver names somebody of a stream (RFC 9493): ("email" or "opaque", the name); None when it can't be
    read.
    """
    if isinstance(subject, Mapping) and subject.get("format", "complex") == "complex":
        # The part of a complex subject that is a person; it is not complex again.
        subject = subject.get("user")
    if not isinstance(subject, Mapping):
        return None
    form, name = subject.get("format"), subject.get("id" if subject.get("format") == "opaque" else "email")
    if form == "account":
        form, name = "email", str(subject.get("uri", "")).removeprefix("acct:")
    return (str(form), name) if form in ("email", "opaque") and isinstance(name, str) and name else None


def subject_of(address: str | None, ident: str) -> JsonView:
    """Whom an event is about: by their address, or where there is none by an opaque id."""
    return {"format": "email", "email": address} if address else {"format": "opaque", "id": ident}
