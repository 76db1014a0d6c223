"""The journal, and who signs in."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import BigInteger, CheckConstraint, Computed, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.core.ids import new_id
from openlatch.store.tables.base import Base, Owned, Row


class JournalEntry(Base):
    """One entry of the journal. The database refuses to change or delete it."""

    __tablename__ = "journal"
    __table_args__ = (
        Index("ix_journal_account_id", "account_id", postgresql_where=text("account_id is not null")),
        Index("ix_journal_subject_id", "subject_id", postgresql_where=text("subject_id is not null")),
    )

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"), primary_key=True)
    position: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    at: Mapped[datetime]
    actor_id: Mapped[UUID | None]
    actor_name: Mapped[str]
    action: Mapped[str]
    subject_kind: Mapped[str]
    subject_id: Mapped[UUID | None]
    subject_name: Mapped[str]
    account_id: Mapped[UUID | None]
    facts: Mapped[dict[str, Any]]
    previous: Mapped[bytes]
    hash: Mapped[bytes]
    # The key of the digest by which names and facts are sealed; and that digest, where they were erased.
    seal_key: Mapped[bytes | None]
    told: Mapped[bytes | None]


class JournalHead(Base):
    """The position and hash of the last entry; locked by whoever writes the next one.

    ``previous`` is the hash that it follows, once a single entry was written: for the statement that wrote it.
    """

    __tablename__ = "journal_heads"

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"), primary_key=True)
    position: Mapped[int] = mapped_column(BigInteger)
    hash: Mapped[bytes]
    previous: Mapped[bytes | None]


class TreeHead(Owned, Base):
    """A signed head over the journal's first ``size`` entries (``core.journal.tree_heads``), the newest of which
    grows on.

    ``peaks`` are what the next one is worked out from, ``hashes`` those of the entries since the one before, until they
    are in the file that is kept elsewhere (``filed_at``). ``stamp`` is a time-stamp token (RFC 3161) over the head.
    """

    __tablename__ = "tree_heads"
    __table_args__ = (UniqueConstraint("organisation_id", "size"),)

    size: Mapped[int] = mapped_column(BigInteger)
    peaks: Mapped[bytes]
    hashes: Mapped[bytes | None]
    head: Mapped[dict[str, Any]]
    stamp: Mapped[bytes | None]
    signed_at: Mapped[datetime]
    filed_at: Mapped[datetime | None]
    mailed_at: Mapped[datetime | None]


class EvidenceBundle(Owned, Base):
    """The evidence of a round as the worker signed it; ``addenda`` counts what it tells that came to light later."""

    __tablename__ = "evidence_bundles"

    round_id: Mapped[UUID] = mapped_column(ForeignKey("rounds.id"), unique=True)
    name: Mapped[str]
    addenda: Mapped[int]
    content: Mapped[bytes]


class PublishedKey(Base):
    """The public half (``x`` of a JSON Web Key, RFC 8037) of a key that evidence was or is signed with, or that secrets
    are sealed with for the worker: by its ``purpose``.
    """

    __tablename__ = "published_keys"

    x: Mapped[str] = mapped_column(primary_key=True)
    purpose: Mapped[str] = mapped_column(server_default="evidence")
    published_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class SetUpCode(Base):
    """A code by which the first organisation is set up. Only its hash is kept, and only until somebody has used it."""

    __tablename__ = "set_up_codes"

    code_hash: Mapped[bytes] = mapped_column(primary_key=True)
    made_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class SystemTrial(Owned, Base):
    """How a system is to be reached, for the worker to try before it is kept. ``secret`` is sealed for the worker."""

    __tablename__ = "system_trials"
    __table_args__ = (CheckConstraint("state in ('waiting', 'good', 'refused')", name="state"),)

    system_id: Mapped[UUID | None] = mapped_column(ForeignKey("systems.id"))
    kind: Mapped[str]
    settings: Mapped[dict[str, Any]]
    secret: Mapped[bytes | None] = mapped_column(deferred=True)
    state: Mapped[str] = mapped_column(server_default="waiting")
    answer: Mapped[str] = mapped_column(server_default="")
    found: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    tried_at: Mapped[datetime | None]


class Version(Base):
    """A row of the register as it was from ``since`` until ``until``, when it was changed, or was ``gone``.

    Written by triggers of the database; nobody who serves requests can write here. A row as it is now stands in its own
    table, with ``recorded_at`` as its beginning.
    """

    __tablename__ = "versions"
    # To follow paths through what was: whom a membership joined, who owned an account, what belonged to a grant.
    __table_args__ = tuple(
        Index(f"ix_versions_{kind}_{column}", text(f"(row ->> '{column}')"), postgresql_where=text(f"kind = '{kind}'"))
        for kind, column in (
            ("memberships", "team_id"),
            ("memberships", "member_id"),
            ("accounts", "owner_id"),
            ("terms", "grant_id"),
            ("resources_in_groups", "group_id"),
            ("access_rules", "account_id"),
        )
    )

    id: Mapped[UUID] = mapped_column(primary_key=True)
    since: Mapped[datetime] = mapped_column(primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    kind: Mapped[str]
    until: Mapped[datetime]
    gone: Mapped[bool]
    row: Mapped[dict[str, Any]]


class SignInLink(Row, Base):
    """That two sign-ins at two organisations are of one human."""

    __tablename__ = "sign_in_links"
    __table_args__ = (UniqueConstraint("one_id", "other_id"), Index("ix_sign_in_links_other_id", "other_id"))

    one_organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    one_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    other_organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    other_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))


class PartnerLink(Row, Base):
    """A partner organisation, linked with a client on the same server once that has accepted it.

    ``people`` are the partner's people who act for the client, with who they are ``there``; ``leaving`` are those who
    do no more, and are still to be put out there. ``team_id`` is the client's team that they are in.
    """

    __tablename__ = "partner_links"

    partner_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    partner_name: Mapped[str]
    client_id: Mapped[UUID | None] = mapped_column(ForeignKey("organisations.id"))
    client_slug: Mapped[str]
    client_name: Mapped[str]
    words: Mapped[str] = mapped_column(server_default="")
    people: Mapped[list[Any]]
    leaving: Mapped[list[Any]] = mapped_column(server_default="[]")
    people_at_end: Mapped[int | None]
    team_id: Mapped[UUID | None]
    offered_at: Mapped[datetime]
    offered_by: Mapped[str]
    accepted_at: Mapped[datetime | None]
    declined_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    ended_by: Mapped[str] = mapped_column(server_default="")


class SavedFilter(Owned, Base):
    """A filter over a list (``of``), which somebody has kept by a name; with ``is_shared`` everybody may use it."""

    __tablename__ = "saved_filters"
    __table_args__ = (UniqueConstraint("person_id", "of", "name"),)

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    name: Mapped[str]
    of: Mapped[str]
    filter: Mapped[str] = mapped_column(server_default="")
    search: Mapped[str] = mapped_column(server_default="")
    sort: Mapped[str] = mapped_column(server_default="")
    is_shared: Mapped[bool] = mapped_column(server_default="false")
    version: Mapped[int] = mapped_column(server_default="1")


class FileMatching(Owned, Base):
    """Which columns of files of a kind are which fields, for files with just these ``columns``, in order of letters."""

    __tablename__ = "file_matchings"
    __table_args__ = (UniqueConstraint("organisation_id", "kind", "columns"),)

    kind: Mapped[str]
    columns: Mapped[list[Any]]
    matching: Mapped[dict[str, Any]]
    used_at: Mapped[datetime]


class FilterMail(Owned, Base):
    """That somebody gets mail of what matches a filter, every day or every week."""

    __tablename__ = "filter_mails"
    __table_args__ = (
        UniqueConstraint("filter_id", "person_id"),
        CheckConstraint("every in ('day', 'week')", name="every"),
    )

    filter_id: Mapped[UUID] = mapped_column(ForeignKey("saved_filters.id"))
    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    every: Mapped[str]
    sent_at: Mapped[datetime]


class Merge(Owned, Base):
    """That two records were made one. ``moved`` are the rows that refer to the kept one now, by table and column;
    ``dropped`` the rows that went, among them the record itself; ``filled`` what the kept one lacked and has now, as it
    was.
    """

    __tablename__ = "merges"

    kind: Mapped[str]
    kept_id: Mapped[UUID]
    kept_name: Mapped[str]
    gone_id: Mapped[UUID]
    gone_name: Mapped[str]
    merged_at: Mapped[datetime]
    merged_by: Mapped[str]
    undone_at: Mapped[datetime | None]
    moved: Mapped[dict[str, Any]]
    dropped: Mapped[dict[str, Any]]
    filled: Mapped[dict[str, Any]]


class SignIn(Owned, Base):
    """What a person signs in with, in a role. The worker may not read its secrets, which are loaded when they are used.

    Somebody suspended can't sign in, and administers nothing meanwhile. ``preferences``: their time zone, how they want
    dates written, and of what they want no mail.
    """

    __tablename__ = "sign_ins"
    __table_args__ = (
        UniqueConstraint("organisation_id", "address"),
        CheckConstraint("role in ('administrator', 'auditor', 'reviewer', 'member')", name="role"),
        Index("ix_sign_ins_address", "address"),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"), unique=True)
    address: Mapped[str]
    password_hash: Mapped[str] = mapped_column(deferred=True)
    role: Mapped[str] = mapped_column(server_default="member")
    suspended_at: Mapped[datetime | None]
    administrator: Mapped[bool | None] = mapped_column(
        Computed("role = 'administrator' and suspended_at is null", persisted=True)
    )
    last_seen_at: Mapped[datetime | None]
    password_set_at: Mapped[datetime | None]
    preferences: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    factor_secret: Mapped[bytes | None] = mapped_column(deferred=True)
    factor_since: Mapped[datetime | None]
    factor_step: Mapped[int | None] = mapped_column(BigInteger)


class WebSession(Owned, Base):
    """A signed-in browser. Only its token's hash is kept."""

    __tablename__ = "web_sessions"

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    expires_at: Mapped[datetime]
    device: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str] = mapped_column(server_default="")
    last_seen_at: Mapped[datetime] = mapped_column(server_default=text("now()"))
    proved_at: Mapped[datetime | None]
    visit_id: Mapped[UUID | None] = mapped_column(ForeignKey("visits.id"))


class ApiToken(Owned, Base):
    """A token for programs. Only its hash is kept. ``scope`` is ``read`` or ``write``."""

    __tablename__ = "api_tokens"
    __table_args__ = (CheckConstraint("scope in ('read', 'write')", name="scope"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    name: Mapped[str]
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    scope: Mapped[str]
    expires_at: Mapped[datetime]
    last_used_at: Mapped[datetime | None]
    proved_at: Mapped[datetime | None]
    visit_id: Mapped[UUID | None] = mapped_column(ForeignKey("visits.id"))


class Invitation(Owned, Base):
    """An invitation to sign in, by a link that opens once. Only its token's hash is kept; it is gone when accepted."""

    __tablename__ = "invitations"
    __table_args__ = (CheckConstraint("role in ('administrator', 'auditor', 'reviewer', 'member')", name="role"),)

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"), unique=True)
    address: Mapped[str]
    role: Mapped[str]
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    sent_by_name: Mapped[str]
    sent_at: Mapped[datetime]
    times_sent: Mapped[int] = mapped_column(server_default="1")
    runs_out_at: Mapped[datetime]


class PasswordReset(Owned, Base):
    """A link by which a forgotten password is replaced. Only its token's hash is kept."""

    __tablename__ = "password_resets"
    __table_args__ = (Index("ix_password_resets_sign_in_id", "sign_in_id"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    runs_out_at: Mapped[datetime]


class RecoveryCode(Owned, Base):
    """A code that stands in for the second factor once. Only its hash is kept."""

    __tablename__ = "recovery_codes"
    __table_args__ = (Index("ix_recovery_codes_sign_in_id", "sign_in_id"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    code_hash: Mapped[bytes]
    used_at: Mapped[datetime | None]


class SignInAttempt(Base):
    """A try to sign in that failed, by hashed address or origin, for the rate limit."""

    __tablename__ = "sign_in_attempts"
    __table_args__ = (Index("ix_sign_in_attempts_source", "source", "at"),)

    id: Mapped[UUID] = mapped_column(primary_key=True, default=new_id)
    source: Mapped[bytes]
    at: Mapped[datetime]


class IdempotencyKey(Owned, Base):
    """The answer to a POST that carried an Idempotency-Key, given again when it comes again."""

    __tablename__ = "idempotency_keys"
    __table_args__ = (UniqueConstraint("organisation_id", "sign_in_id", "key"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    key: Mapped[str]
    request_hash: Mapped[bytes]
    status: Mapped[int]
    body: Mapped[bytes]
