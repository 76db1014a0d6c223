"""Requests and answers about security events that other services report."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Name, Named, Request
from openlatch.schemas.webhooks import DeliveryState

__all__ = [
    "AddSignalReceiver",
    "HoldSignalReceiver",
    "ListSentSignals",
    "ReceivedSignalOf",
    "ReceivedSignals",
    "SentSignalOf",
    "SentSignals",
    "SetSignalSource",
    "SignalReaction",
    "SignalReceiverMade",
    "SignalReceiverOf",
    "SignalReceivers",
    "SignalSourceMade",
    "SignalSourceOf",
    "SignalSourceRemoved",
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
    token: str = Field(
        "",
        max_length=4000,
        description="The transmitter's token for making a stream there; left out: it is set up there by hand. "
        "Only when a source is added.",
    )
    polls: bool = Field(False, description="With a token: whether its events are fetched, where it can't reach us.")
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
    delivery: Literal["by_hand", "push", "poll"] = Field(description="Whether its stream was made from here, and how.")
    failed: Said = Field(description="Why its events could not be fetched the last time, if they could not.")
    heard_at: datetime | None
    version: int


class SignalSources(Answer):
    """Every service that reports security events, and the types that count."""

    sources: list[SignalSourceOf]
    events: dict[str, Said] = Field(description="What people call each type of event.")


class SignalSourceMade(Answer):
    """A source, and the token that it has to show, which is shown only now."""

    source: SignalSourceOf
    token: str


class SignalSourceRemoved(Answer):
    """What is left to do."""

    done: bool
    left: str = Field("", description="What has to be done at the transmitter by hand, if anything.")


class ReceivedSignalOf(Answer):
    """An event that was reported, and what came of it."""

    id: UUID
    source: Named
    event: str
    words: Said
    person: Named | None
    at: datetime
    received_at: datetime
    reason: str
    reaction: str
    outcome: Said
    is_open: bool = Field(description="Whether the person is still flagged because of it.")


class ReceivedSignals(Answer):
    """The latest events, up to 200."""

    signals: list[ReceivedSignalOf]


class AddSignalReceiver(Request):
    """A service that may make a stream of security events here."""

    name: Name
    audience: str = Field(
        "", max_length=500, description="Whom its tokens are for (aud), as it wants to be named; usually left out."
    )


class SignalReceiverOf(Answer):
    """A receiver of security events, and its stream."""

    id: UUID
    name: str
    audience: str
    description: str = Field(description="Its own words for its stream.")
    status: Literal["not_set_up", "enabled", "paused", "disabled"]
    reason: str
    delivery: Literal["none", "push", "poll"]
    address: str = Field(description="Where events are pushed to, without the query.")
    events: list[str] = Field(description="The types of events that it gets.")
    left_out: int = Field(description="About how many people it wants to hear nothing.")
    heard_at: datetime | None = Field(description="When it last fetched events.")
    failing_since: datetime | None
    waiting: int
    given_up: int


class SignalReceivers(Answer):
    """Every receiver of security events."""

    receivers: list[SignalReceiverOf]


class SignalReceiverMade(Answer):
    """A receiver, and the token that it has to show, which is shown only now."""

    receiver: SignalReceiverOf
    token: str
    configuration: str = Field(description="Where it finds out how to make its stream.")


class HoldSignalReceiver(Request):
    """Why a stream is paused; its receiver is told."""

    reason: str = Field("", max_length=500)


class ListSentSignals(Request):
    """Which events."""

    state: DeliveryState | None = None


class SentSignalOf(Answer):
    """An event for a receiver; without a person it is about the stream itself."""

    id: UUID
    event: str
    person: Named | None
    state: DeliveryState
    tries: int
    answer: Said = Field(description="What came of the last try.")
    made_at: datetime
    ended_at: datetime | None


class SentSignals(Answer):
    """The latest events for a receiver, up to 200."""

    events: list[SentSignalOf]
