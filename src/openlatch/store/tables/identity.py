"""Sign-ins, sessions, tokens, invitations."""

from __future__ import annotations

from datetime import datetime
from typing import ClassVar
from uuid import UUID

from sqlalchemy import BigInteger, CheckConstraint, Computed, ForeignKey, Index, UniqueConstraint, select, text
from sqlalchemy.orm import Mapped, MappedSQLExpression, column_property, mapped_column

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
    has_passkey: ClassVar[MappedSQLExpression[bool]]

    @property
    def has_factor(self) -> bool:
        """Whether the password alone is not enough."""
        return self.factor_since is not None or self.has_passkey


class Passkey(Owned, Base):
    """A public key by which somebody signs in (W3C Web Authentication). ``transports``: how its device is reached."""

    __tablename__ = "passkeys"
    __table_args__ = (Index("ix_passkeys_sign_in_id", "sign_in_id"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    name: Mapped[str]
    credential_id: Mapped[bytes] = mapped_column(unique=True)
    public_key: Mapped[bytes]
    sign_count: Mapped[int] = mapped_column(BigInteger)
    transports: Mapped[str] = mapped_column(server_default="")
    is_backed_up: Mapped[bool] = mapped_column(server_default="false")
    last_used_at: Mapped[datetime | None]


# In one statement with the sign-in: each try to sign in asks for it.
SignIn.has_passkey = column_property(select(Passkey.id).where(Passkey.sign_in_id == SignIn.id).exists())


class IdentityProvider(Owned, Base):
    """Where people of an organisation sign in (OpenID Connect), and how what it says of them is read.

    ``reading`` has the claims: see core.identity.claims. The secret is encrypted, and the worker may not read it.
    """

    __tablename__ = "identity_providers"
    __table_args__ = (UniqueConstraint("organisation_id", "name"),)

    name: Mapped[str]
    issuer: Mapped[str]
    client_id: Mapped[str]
    client_secret: Mapped[bytes | None] = mapped_column(deferred=True)
    reading: Mapped[JsonObject] = mapped_column(server_default="{}")
    version: Mapped[int] = mapped_column(server_default="1")


class ProviderSubject(Owned, Base):
    """Whose sign-in a subject of an identity provider is, from the first time on."""

    __tablename__ = "provider_subjects"
    __table_args__ = (
        UniqueConstraint("provider_id", "subject"),
        Index("ix_provider_subjects_sign_in_id", "sign_in_id"),
    )

    provider_id: Mapped[UUID] = mapped_column(ForeignKey("identity_providers.id"))
    subject: Mapped[str]
    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))


class UsedToken(Owned, Base):
    """A token from outside that counts once, by its hash, until it has run out."""

    __tablename__ = "used_tokens"
    __table_args__ = (Index("ix_used_tokens_expires_at", "expires_at"),)

    token_hash: Mapped[bytes] = mapped_column(unique=True)
    expires_at: Mapped[datetime]


class WebSession(Owned, Base):
    """A signed-in browser. Only its token's hash is kept. Of one opened by an identity provider, its session there."""

    __tablename__ = "web_sessions"

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    expires_at: Mapped[datetime]
    device: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str] = mapped_column(server_default="")
    last_seen_at: Mapped[datetime] = mapped_column(server_default=text("now()"))
    proved_at: Mapped[datetime | None]
    visit_id: Mapped[UUID | None] = mapped_column(ForeignKey("visits.id"))
    provider_id: Mapped[UUID | None] = mapped_column(ForeignKey("identity_providers.id"))
    provider_session: Mapped[str] = mapped_column(server_default="")
    provider_token: Mapped[bytes | None] = mapped_column(deferred=True)


class ApiToken(Owned, Base):
    """A token for programs. Only its hash is kept. ``scope`` is ``read``, ``write``, or ``scim`` for a directory."""

    __tablename__ = "api_tokens"
    __table_args__ = (CheckConstraint("scope in ('read', 'write', 'scim')", name="scope"),)

    sign_in_id: Mapped[UUID] = mapped_column(ForeignKey("sign_ins.id"))
    name: Mapped[str]
    token_hash: Mapped[bytes] = mapped_column(unique=True)
    scope: Mapped[str]
    expires_at: Mapped[datetime]
    last_used_at: Mapped[datetime | None]
    proved_at: Mapped[datetime | None]
    visit_id: Mapped[UUID | None] = mapped_column(ForeignKey("visits.id"))


class DeviceRequest(Base):
    """A program that waits to be let in by somebody's browser (RFC 8628). Of its own code only the hash is kept.

    ``seconds``: how long it waits between two questions. Whose it is, is known once somebody has answered.
    """

    __tablename__ = "device_requests"
    __table_args__ = (
        CheckConstraint("state in ('pending', 'allowed', 'refused')", name="state"),
        CheckConstraint("scope in ('read', 'write')", name="scope"),
        Index("ix_device_requests_expires_at", "expires_at"),
    )

    id: Mapped[UUID] = mapped_column(primary_key=True, default=new_id)
    device_hash: Mapped[bytes] = mapped_column(unique=True)
    user_code: Mapped[str] = mapped_column(unique=True)
    program: Mapped[str]
    origin: Mapped[str]
    scope: Mapped[str]
    state: Mapped[str] = mapped_column(server_default="pending")
    expires_at: Mapped[datetime]
    polled_at: Mapped[datetime | None]
    seconds: Mapped[int]
    organisation_id: Mapped[UUID | None] = mapped_column(ForeignKey("organisations.id"))
    sign_in_id: Mapped[UUID | None] = mapped_column(ForeignKey("sign_ins.id"))


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
