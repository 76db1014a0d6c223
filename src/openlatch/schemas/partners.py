"""Requests and answers about several organisations: one human's sign-ins, and links between partners and clients."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StringConstraints

from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Named, Request, Sentence
from openlatch.schemas.identity import PasskeyAnswer

__all__ = [
    "AnswerPartner",
    "ConfirmSame",
    "EndLink",
    "EndLinkPreview",
    "LinkSignIn",
    "LinkState",
    "MyOrganisation",
    "MyOrganisations",
    "OfferLink",
    "PartnerLinkRow",
    "PartnerLinks",
    "PartnerPeople",
    "PartnerPerson",
    "Slug",
    "SwitchOrganisation",
]


Slug = Annotated[str, StringConstraints(max_length=100, strip_whitespace=True, pattern="^[A-Za-z0-9-]+$")]


LinkState = Literal["offered", "linked", "declined", "ended"]


class MyOrganisation(Answer):
    """A sign-in of one's own at an organisation, with what one may do there."""

    sign_in: UUID
    organisation: Named
    slug: str
    person: str
    role: str
    is_closed: bool
    is_current: bool
    accounts: int = Field(description="How many accounts one reaches there.")
    levels: list[str] = Field(description="By which levels, up to a limit.")
    as_partner: bool = Field(description="Whether one is there as somebody of a partner organisation.")


class MyOrganisations(Answer):
    """One's sign-ins at all organisations."""

    organisations: list[MyOrganisation]
    more: int = Field(description="How many further ones there are, that are not shown.")


class LinkSignIn(Request):
    """A sign-in elsewhere that is one's own, too, with its proof."""

    address: str = Field(max_length=320)
    password: str = Field(max_length=1024)
    code: str = Field("", max_length=20)
    passkey: PasskeyAnswer | None = None
    organisation: str = Field("", max_length=100)


class SwitchOrganisation(Request):
    """To which of one's sign-ins; with a code where there is a second factor there."""

    code: str = Field("", max_length=20)
    passkey: PasskeyAnswer | None = None


class OfferLink(Request):
    """An offer to a client, by its short name, and which of our people would act there."""

    client: Slug
    words: Sentence = ""
    people: list[UUID] = Field(default_factory=list, max_length=200)


class AnswerPartner(Request):
    """Whether a partner is accepted, and which partner team its people come into; none: a new one."""

    accepts: bool
    team: UUID | None = None


class PartnerPeople(Request):
    """Which of our people act for a client."""

    people: list[UUID] = Field(max_length=200)


class ConfirmSame(Request):
    """Which of the client’s people a partner names by the same address."""

    person: UUID


class EndLink(Request):
    """Why a link ends."""

    reason: Sentence = ""
    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class PartnerPerson(Answer):
    """Somebody of a partner; the client sees when they were last there."""

    id: UUID | None
    name: str
    address: str
    is_in: bool = Field(False, description="Whether they can come over to the client; told to the client.")
    here: Named | None = Field(
        None, description="Who of the client’s people has the address, and waits to be confirmed."
    )
    is_held: bool = Field(False, description="Whether a latch of the client's holds them out.")
    last_seen_at: datetime | None = None
    visits: int = Field(0, description="How often they have switched into an account of the client.")


class PartnerLinkRow(Answer):
    """A link with another organisation, as our side sees it."""

    id: UUID
    state: LinkState
    we_are: Literal["partner", "client"]
    other: str
    words: Said
    offered_at: datetime
    offered_by: str
    accepted_at: datetime | None
    ended_at: datetime | None
    ended_by: str
    people: list[PartnerPerson]
    team: Named | None = Field(description="The client's team that they are in.")


class PartnerLinks(Answer):
    """All links of an organisation."""

    links: list[PartnerLinkRow]


class EndLinkPreview(Answer):
    """What ending a link comes to. Nothing has happened."""

    people: list[str]
    does: list[Said]
    grants: int
    fingerprint: str
