"""Requests and answers about security events that other services report."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.schemas.base import Answer, Name, Named, Request

__all__ = [
    "ReceivedSignalOf",
    "ReceivedSignals",
    "SetSignalSource",
    "SignalReaction",
    "SignalSourceMade",
    "SignalSourceOf",
    "SignalSources",
]

SignalReaction = Literal["ignore", "notify", "flag", "end_sessions", "end_access"]
Issuer = Annotated[str, StringConstraints(min_length=1, max_length=500, strip_whitespace=True)]


class SetSignalSource(Request):
    """A service that reports security events, and what they make happen here."""

    name: Name
    issuer: Issuer = Field(examples=["https://login.example.org"])
    audience: str = Field("", max_length=500, description="Whom its tokens are for; left out: this service's address.")
    system: UUID | None = Field(None, description="Where its own names for people are logins.")
    reactions: dict[str, SignalReaction] = Field(
        default_factory=dict, max_length=20, description="By type of event; types left out do what is usual."
    )


class SignalSourceOf(Answer):
    """A service that reports security events."""

    id: UUID
    name: str
    issuer: str
    audience: str
    address: str = Field(description="Where it posts them (RFC 8935).")
    system: Named | None
    reactions: dict[str, str]
    heard_at: datetime | None
    version: int


class SignalSources(Answer):
    """Every service that reports security events, and the types that count."""

    sources: list[SignalSourceOf]
    events: dict[str, str] = Field(description="What people call each type of event.")


class SignalSourceMade(Answer):
    """A source, and the token that it has to show, which is shown only now."""

    source: SignalSourceOf
    token: str


class ReceivedSignalOf(Answer):
    """An event that was reported, and what came of it."""

    id: UUID
    source: Named
    event: str
    words: str
    person: Named | None
    at: datetime
    received_at: datetime
    reason: str
    reaction: str
    outcome: str
    is_open: bool = Field(description="Whether the person is still flagged because of it.")


class ReceivedSignals(Answer):
    """The latest events, up to 200."""

    signals: list[ReceivedSignalOf]
