"""What an identity provider says of somebody who signs in there, and what of it counts (OpenID Connect Core 1.0)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from openlatch.core.vocabulary import Role
from openlatch.errors import NotAllowed

# From the least to the most: who has several gets the last.
_ROLES = (Role.MEMBER, Role.REVIEWER, Role.AUDITOR, Role.ADMINISTRATOR)


@dataclass(frozen=True, slots=True)
class Reading:
    """How an organisation reads the claims of its provider.

    ``address`` is the claim with somebody's address. ``roles`` says which value of the claim ``roles_claim`` stands for
    which role; without any, roles are given here. Of ``acr`` and ``amr`` one value is enough for a second factor; where
    both are empty, the provider is not trusted to have asked for one.
    """

    address: str = "email"
    roles_claim: str = ""
    roles: Mapping[str, Role] = field(default_factory=dict)
    acr: frozenset[str] = frozenset()
    amr: frozenset[str] = frozenset()

    @property
    def asks_for_second_factor(self) -> bool:
        """Whether nobody gets in by this provider without a second factor there."""
        return bool(self.acr or self.amr)


@dataclass(frozen=True, slots=True)
class Claimed:
    """Who somebody is by their provider. ``role`` is None where the provider does not say."""

    subject: str
    address: str
    is_verified: bool
    role: Role | None
    session: str


def read(claims: Mapping[str, object], mapping: Reading) -> Claimed:
    """What the claims of a verified ID token say. NotAllowed when the second factor is missing that is asked for."""
    if mapping.asks_for_second_factor and not _has_second_factor(claims, mapping):
        raise NotAllowed(
            "Your organisation asks for a second factor, and its provider has not asked you for one.",
            "Set one up there, and sign in again.",
        )
    address = str(claims.get(mapping.address) or "").strip().lower()
    # Only the standard's own claim of an address says whether it was verified; another one is the organisation's word.
    is_verified = mapping.address != "email" or claims.get("email_verified") is True
    return Claimed(
        subject=str(claims["sub"]),
        address=address if "@" in address else "",
        is_verified=is_verified,
        role=_role(claims, mapping),
        session=str(claims.get("sid") or ""),
    )


def _has_second_factor(claims: Mapping[str, object], mapping: Reading) -> bool:
    amr = claims.get("amr")
    used = {str(one) for one in amr} if isinstance(amr, list) else set()
    return str(claims.get("acr") or "") in mapping.acr or bool(used & mapping.amr)


def _role(claims: Mapping[str, object], mapping: Reading) -> Role | None:
    """The highest role that somebody has there; a member where they have none of those that are named."""
    if not mapping.roles_claim or not mapping.roles:
        return None
    given = claims.get(mapping.roles_claim)
    values = given if isinstance(given, list) else [given]
    held = {mapping.roles[value] for value in values if isinstance(value, str) and value in mapping.roles}
    return max(held, key=_ROLES.index, default=Role.MEMBER)
