"""The keys that the service signs with: for tokens one derived from its secret key, for evidence a separate one.

The web process does not have the second. Its public half is published through the database.
"""

from __future__ import annotations

from uuid import UUID

import jwt
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from openlatch.errors import NotAllowed
from openlatch.service.unit import Service
from openlatch.store.database import transaction
from openlatch.store.tables import Organisation, PublishedKey, TreeHead

ALGORITHM = "EdDSA"
TOKENS = b"open latch: tokens of visits"
EVIDENCE = b"open latch: evidence of reviews"


def key(service: Service, purpose: bytes) -> Ed25519PrivateKey:
    """The signing key for one purpose. NotAllowed when this process has no key for it."""
    seed = service.evidence_seed if purpose == EVIDENCE else service.signing_seed
    if not seed:
        raise NotAllowed("This process does not sign that.", "Configure secret_key, and evidence_key for the worker.")
    return _derived(seed, purpose)


def _derived(seed: bytes, purpose: bytes) -> Ed25519PrivateKey:
    return Ed25519PrivateKey.from_private_bytes(HKDF(hashes.SHA256(), 32, None, purpose).derive(seed))


def public(service: Service, purpose: bytes) -> dict[str, str]:
    """The public key for checking signatures, as a JSON Web Key (RFC 8037)."""
    return _as_jwk(_x(key(service, purpose)))


def _x(private: Ed25519PrivateKey) -> str:
    raw = private.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    return str(jwt.utils.base64url_encode(raw).decode())


def _as_jwk(x: str) -> dict[str, str]:
    return {"kty": "OKP", "crv": "Ed25519", "use": "sig", "alg": ALGORITHM, "kid": x[:12], "x": x}


def publish(service: Service) -> None:
    """Let the web process publish the key for evidence, and the one from before evidence had its own.

    The present one is the newest; the other is published if something was signed with it.
    """
    with transaction(service.engine, None) as db:
        everyone = db.scalars(select(Organisation.id)).all()
    before = _x(_derived(service.signing_seed, EVIDENCE))
    keys = [before] if any(_has_signed(service, organisation, before) for organisation in everyone) else []
    newest = {"published_at": func.clock_timestamp()}
    with transaction(service.engine, None) as db:
        for x in (*keys, public(service, EVIDENCE)["x"]):
            db.execute(
                insert(PublishedKey).values(x=x, **newest).on_conflict_do_update(index_elements=["x"], set_=newest)
            )


def _has_signed(service: Service, organisation: UUID, x: str) -> bool:
    with transaction(service.engine, organisation) as db:
        wanted = select(TreeHead.id).where(TreeHead.head["key"].as_string() == x).limit(1)
        return db.scalar(wanted) is not None


def published(service: Service) -> list[dict[str, str]]:
    """The keys for checking tokens and evidence, as JSON Web Keys, with the ``purpose`` of each."""
    with transaction(service.engine, None) as db:
        of = select(PublishedKey.x).where(PublishedKey.purpose == "evidence")
        evidence = db.scalars(of.order_by(PublishedKey.published_at.desc(), PublishedKey.x)).all()
    keys = [{**public(service, TOKENS), "purpose": "tokens"}]
    return keys + [{**_as_jwk(x), "purpose": "evidence"} for x in evidence]
