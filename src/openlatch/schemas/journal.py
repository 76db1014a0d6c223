"""The journal and its signed heads."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import (
    Field,
)

from openlatch.json_values import JsonObject
from openlatch.languages.marks import Said
from openlatch.schemas.base import Answer, Request

__all__ = [
    "ArchivedEntries",
    "ArchivedEntry",
    "ArchivedPart",
    "ArchivedParts",
    "Changed",
    "ChangedKind",
    "Fault",
    "JournalActor",
    "JournalRow",
    "JournalSubject",
    "JournalVerdict",
    "ListArchived",
    "ListEvents",
    "TreeHead",
    "TreeHeads",
    "VerifyOptions",
]


# What can change: the subjects of journal entries, and what is announced without one.
ChangedKind = Literal[
    "access_rule",
    "account",
    "action",
    "app",
    "archive",
    "calendar",
    "change",
    "charter",
    "delivery",
    "everything",
    "expected_exposure",
    "exposure",
    "exposure_guard",
    "exposure_guards",
    "exposures",
    "filter",
    "flag",
    "grant",
    "group",
    "import",
    "item",
    "latch",
    "level",
    "mail",
    "membership",
    "notice",
    "offer",
    "organisation",
    "partner",
    "person",
    "provider",
    "request",
    "resource",
    "revocation",
    "round",
    "rule",
    "rule_draft",
    "rule_drafts",
    "schedule",
    "session",
    "signal_receiver",
    "signal_source",
    "settings",
    "sign_in",
    "step",
    "system",
    "task",
    "team",
    "token",
    "visit",
    "webhook",
]


class Changed(Answer):
    """What the event stream tells: of which kinds something has changed."""

    kinds: list[ChangedKind]


class ListEvents(Request):
    """Which entries."""

    after: int = Field(0, ge=0, description="The position after which they come.")
    limit: int = Field(1000, ge=1, le=1000)


class JournalActor(Answer):
    """Who did what an entry tells."""

    id: UUID | None
    name: str


class JournalSubject(Answer):
    """What an entry is about."""

    kind: str
    id: UUID | None
    name: str


class JournalRow(Answer):
    """An entry of the journal."""

    id: int = Field(description="The same as its position.")
    position: int
    at: datetime
    actor: JournalActor | None
    action: str
    on_behalf_of: str | None = Field(description="On whose behalf, where somebody inside an account did it.")
    subject: JournalSubject | None
    account_id: UUID | None
    facts: JsonObject
    hash: str
    previous: str


class ListArchived(Request):
    """Which entries of the archive."""

    after: int = Field(0, ge=0, description="The position after which they come.")
    about: UUID | None = Field(None, description="The id of what they are about.")
    limit: int = Field(100, ge=1, le=1000)


class ArchivedEntry(Answer):
    """An entry of the journal that is in the archive."""

    position: int
    at: datetime
    actor: JournalActor
    action: str
    subject: JournalSubject
    account_id: UUID | None
    facts: JsonObject
    hash: str
    previous: str


class ArchivedEntries(Answer):
    """Entries of the archive, in order."""

    entries: list[ArchivedEntry]


class ArchivedPart(Answer):
    """A file of the archive: what the database had of one kind in some months, and has no longer."""

    kind: Literal["journal", "versions"] = Field(description="Entries of the journal, or earlier versions of records.")
    since: datetime = Field(description="The earliest in it.")
    until: datetime = Field(description="Everything before is in this file or in one before; the next ones begin here.")
    rows: int
    first: int | None = Field(description="The position of the first entry.")
    last: int | None = Field(description="That of the last.")
    file: str = Field(description="Beneath the folder of the archive.")
    digest: str = Field(description="SHA-256 over the file.")
    written_at: datetime
    fault: Said = Field(description="Why it can't be read, or is not what was written. Empty: it is as it was written.")


class ArchivedParts(Answer):
    """The archive of an organisation: of the journal, then of earlier versions, each in the order of time."""

    parts: list[ArchivedPart]


class Fault(Answer):
    """Something wrong with the journal."""

    position: int
    what: Said


class JournalVerdict(Answer):
    """What a verification found. Note the position and the hash: they prove all up to there."""

    sound: bool = Field(description="Whether nothing is wrong, by all that the service itself has to compare with.")
    entries: int
    position: int
    hash: str
    faults: list[Fault]
    vouched: int = Field(description="Up to which position a noted hash or a signed tree head vouches for the entries.")
    head_position: int = Field(description="How far the journal goes by its own head, entries or not.")
    head_hash: str


class TreeHead(Answer):
    """A signed tree head (RFC 9162 hashing) over the journal's first entries; keep it where the database is not."""

    format: Literal["openlatch-tree-head"]
    version: Literal[1]
    organisation: UUID
    size: int
    root: str
    last: str
    at: str
    key: str = Field(description="The public key (x of its JSON Web Key) that it is signed with.")
    signature: str = Field(description="Ed25519 over the canonical JSON (RFC 8785) of the rest, in base64url.")


class TreeHeads(Answer):
    """All of them, oldest first."""

    heads: list[TreeHead]


class VerifyOptions(Request):
    """A position and hash noted earlier, to find out whether the journal's end was cut off."""

    position: int | None = None
    hash: str = ""
