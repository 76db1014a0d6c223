"""Sign-ins, sessions, tokens, invitations."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import BigInteger, CheckConstraint, Computed, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.core.ids import new_id
from openlatch.json_values import JsonObject
from openlatch.store.tables.base import Base, Owned, Row


class AddressProof(Owned, Base):
    """A link by which a person proves that an address is theirs. Only its token's hash is kept."""

    __tablename__ = "address_proofs"

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    address: Mapped[str]
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    runs_out_at: Mapped[datetime]


class SetUpCode(Base):
    """A code by which the first organisation is set up. Only its hash is kept, and only until somebody has used it."""

    __tablename__ = "set_up_codes"

    code_hash: Mapped[bytes] = mapped_column(primary_key=True)
    made_at: Mapped[datetime] = mapped_column(server_default=text("now()"))


class SignInLink(Row, Base):
    """That two sign-ins at two organisations are of one human."""

    __tablename__ = "sign_in_links"
    __table_args__ = (UniqueConstraint("one_id", "other_id"), Index("ix_sign_in_links_other_id", "other_id"))

    one_organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    one_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    other_organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    other_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))


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
    preferences: Mapped[JsonObject] = mapped_column(server_default="{}")
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
    """A code that replaces the second factor once. Only its hash is stored."""

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
