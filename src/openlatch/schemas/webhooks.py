"""Requests and answers about webhooks."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Request

__all__ = [
    "Deliveries",
    "DeliveryOf",
    "DeliveryState",
    "ListDeliveries",
    "RotateSecret",
    "SendAgain",
    "SentAgain",
    "SetWebhook",
    "WebhookMade",
    "WebhookOf",
    "Webhooks",
]

DeliveryState = Literal["waiting", "delivered", "given_up"]


class SetWebhook(Request):
    """A receiver of what is journalled."""

    name: str = Field(max_length=100, examples=["Duty channel"])
    url: str = Field(max_length=2000, examples=["https://receiver.example.org/open-latch"])
    actions: list[Annotated[str, StringConstraints(max_length=100)]] = Field(
        default_factory=list,
        max_length=100,
        description="The actions that it is told, or kinds of them; all when empty.",
        examples=[["revocation", "grant.given"]],
    )


class WebhookOf(Answer):
    """A receiver, and how it takes what it is sent."""

    id: UUID
    name: str
    url: str
    actions: list[str]
    key_id: str = Field(description="The key id of the signatures by the present secret.")
    secret_before_until: datetime | None = Field(description="Until when the secret before signs as well.")
    paused_at: datetime | None
    failing_since: datetime | None = Field(description="Since when it has taken nothing.")
    next_try_at: datetime | None
    waiting: int
    given_up: int
    version: int


class Webhooks(Answer):
    """Every webhook of the organisation."""

    rows: list[WebhookOf]


class WebhookMade(Answer):
    """A webhook and its secret, which is shown only now."""

    webhook: WebhookOf
    secret: str = Field(description="Key of HMAC-SHA256, in hexadecimal digits: the bytes that they stand for.")


class RotateSecret(Request):
    """A new secret, and for how long the one before signs as well."""

    hours: int = Field(24, ge=0, le=720)


class ListDeliveries(Request):
    """Which deliveries."""

    state: DeliveryState | None = None


class DeliveryOf(Answer):
    """An entry of the journal for a receiver; without a position a test."""

    id: UUID
    position: int | None
    state: DeliveryState
    tries: int
    answer: Said = Field(description="What came of the last try.")
    made_at: datetime
    next_try_at: datetime | None
    ended_at: datetime | None


class Deliveries(Answer):
    """The latest deliveries of a webhook, up to 200."""

    rows: list[DeliveryOf]


class SendAgain(Request):
    """Which of those that were given up; all when empty."""

    deliveries: list[UUID] = Field(default_factory=list, max_length=200)


class SentAgain(Answer):
    """How many are sent again."""

    count: int
