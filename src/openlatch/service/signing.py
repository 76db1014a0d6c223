"""The keys that the service signs with: tokens by one derived from its secret key, evidence by one of its own.

Who answers people does not have the second. Its public half is published through the database.
"""

from __future__ import annotations

import jwt
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert

from openlatch.errors import NotAllowed
from openlatch.service.context import Service
from openlatch.store.database import transaction
from openlatch.store.tables import PublishedKey

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
    """The key by which others can check a signature, as a JSON Web Key (RFC 8037)."""
    return _as_jwk(_x(key(service, purpose)))


def _x(private: Ed25519PrivateKey) -> str:
    raw = private.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    return str(jwt.utils.base64url_encode(raw).decode())


def _as_jwk(x: str) -> dict[str, str]:
    return {"kty": "OKP", "crv": "Ed25519", "use": "sig", "alg": ALGORITHM, "kid": x[:12], "x": x}


def publish(service: Service) -> None:
    """Have the web process publish the keys for evidence: the present one, and that from before it had its own."""
    keys = {_x(_derived(seed, EVIDENCE)) for seed in (service.evidence_seed, service.signing_seed) if seed}
    with transaction(service.engine, None) as db:
        for x in sorted(keys):
            db.execute(insert(PublishedKey).values(x=x).on_conflict_do_nothing())


def published(service: Service) -> list[dict[str, str]]:
    """The keys for checking tokens and evidence, as JSON Web Keys, with the ``purpose`` of each."""
    with transaction(service.engine, None) as db:
        evidence = db.scalars(select(PublishedKey.x).order_by(PublishedKey.published_at.desc(), PublishedKey.x)).all()
    keys = [{**public(service, TOKENS), "purpose": "tokens"}]
    return keys + [{**_as_jwk(x), "purpose": "evidence"} for x in evidence]
