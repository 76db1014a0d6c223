"""The journal, its heads, and the versions of rows."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import BigInteger, CheckConstraint, ForeignKey, Index, PrimaryKeyConstraint, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base, Owned


class JournalEntry(Base):
    """One entry of the journal. The database refuses to change or delete it.

    Partitioned by time (``store.partitions``): older entries may be in the archive alone. That positions are given once
    is up to the lock on the head.
    """

    __tablename__ = "journal"
    __table_args__ = (
        PrimaryKeyConstraint("organisation_id", "position", "at"),
        Index("ix_journal_account_id", "account_id", postgresql_where=text("account_id is not null")),
        Index("ix_journal_subject_id", "subject_id", postgresql_where=text("subject_id is not null")),
        {"postgresql_partition_by": "range (at)"},
    )

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    position: Mapped[int] = mapped_column(BigInteger, autoincrement=False)
    at: Mapped[datetime]
    actor_id: Mapped[UUID | None]
    actor_name: Mapped[str]
    action: Mapped[str]
    subject_kind: Mapped[str]
    subject_id: Mapped[UUID | None]
    subject_name: Mapped[str]
    account_id: Mapped[UUID | None]
    facts: Mapped[JsonObject]
    previous: Mapped[bytes]
    hash: Mapped[bytes]
    # The key of the digest by which names and facts are sealed; and that digest, where they were erased.
    seal_key: Mapped[bytes | None]
    told: Mapped[bytes | None]

    __mapper_args__ = {"primary_key": [organisation_id, position]}  # noqa: RUF012  SQLAlchemy's own


class SyslogPosition(Base):
    """Up to which entry an organisation's journal was forwarded to the syslog server."""

    __tablename__ = "syslog_positions"

    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"), primary_key=True)
    position: Mapped[int] = mapped_column(BigInteger, server_default="0")


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
    head: Mapped[JsonObject]
    stamp: Mapped[bytes | None]
    signed_at: Mapped[datetime]
    filed_at: Mapped[datetime | None]
    mailed_at: Mapped[datetime | None]


class PublishedKey(Base):
    """The public half (``x`` of a JSON Web Key, RFC 8037) of a key that evidence was or is signed with, or that secrets
    are sealed with for the worker: by its ``purpose``.
    """

    __tablename__ = "published_keys"

    x: Mapped[str] = mapped_column(primary_key=True)
    purpose: Mapped[str] = mapped_column(server_default="evidence")
    published_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class TokenKey(Base):
    """A key that tokens are signed with (RS256), encrypted. The newest signs; all of them are published."""

    __tablename__ = "token_keys"

    number: Mapped[int] = mapped_column(primary_key=True)
    private: Mapped[bytes]
    made_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class Version(Base):
    """An earlier version of a row of the register, valid from ``since`` until ``until``, when it was changed or was
    ``gone``.

    Written by triggers; the service's roles can't write here. The current row is in its own table, and ``recorded_at``
    is since when it has been so. Partitioned by ``until``: earlier ones may be in the archive alone.
    """

    __tablename__ = "versions"
    # To follow paths through what was: whom a membership joined, who owned an account, what belonged to a grant.
    __table_args__ = (
        *(
            Index(
                f"ix_versions_{kind}_{column}", text(f"(row ->> '{column}')"), postgresql_where=text(f"kind = '{kind}'")
            )
            for kind, column in (
                ("memberships", "team_id"),
                ("memberships", "member_id"),
                ("accounts", "owner_id"),
                ("terms", "grant_id"),
                ("resources_in_groups", "group_id"),
                ("access_rules", "account_id"),
            )
        ),
        {"postgresql_partition_by": "range (until)"},
    )

    id: Mapped[UUID] = mapped_column(primary_key=True)
    since: Mapped[datetime] = mapped_column(primary_key=True)
    until: Mapped[datetime] = mapped_column(primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    kind: Mapped[str]
    gone: Mapped[bool]
    row: Mapped[JsonObject]


class ArchivedPart(Owned, Base):
    """A file of the archive with what one organisation had in a partition: of its journal, or of earlier versions.

    ``rows`` with times from ``since`` to ``until``, exclusive. Of the journal: from the ``first`` to the ``last``
    position, whose hash is ``last_hash``, and the ``peaks`` of the tree up to there. ``digest`` is SHA-256 over the
    file, whose name is beneath the folder of the archive.
    """

    __tablename__ = "archived_parts"
    __table_args__ = (
        UniqueConstraint("organisation_id", "kind", "since"),
        CheckConstraint("kind in ('journal', 'versions')", name="kind"),
    )

    kind: Mapped[str]
    since: Mapped[datetime]
    until: Mapped[datetime]
    rows: Mapped[int] = mapped_column(BigInteger)
    first: Mapped[int | None] = mapped_column(BigInteger)
    last: Mapped[int | None] = mapped_column(BigInteger)
    last_hash: Mapped[bytes | None]
    peaks: Mapped[bytes | None]
    file: Mapped[str]
    digest: Mapped[bytes]
    written_at: Mapped[datetime]


class ArchiveErasure(Owned, Base):
    """Somebody who was erased, and whom the archive may still name until the worker has written it anew.

    ``words`` are those that name them, encrypted.
    """

    __tablename__ = "archive_erasures"

    person_id: Mapped[UUID]
    words: Mapped[bytes]
    asked_at: Mapped[datetime]
