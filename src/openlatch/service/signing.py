"""The keys that the service signs with, derived from its secret key, so that there is no other secret to keep."""

from __future__ import annotations

import jwt
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from openlatch.errors import NotAllowed
from openlatch.service.context import Service

ALGORITHM = "EdDSA"
TOKENS = b"open latch: tokens of visits"
EVIDENCE = b"open latch: evidence of reviews"


def key(service: Service, purpose: bytes) -> Ed25519PrivateKey:
    """The signing key for one purpose. NotAllowed when no secret key is configured."""
    if not service.signing_seed:
        raise NotAllowed("This service signs nothing.", "Configure secret_key.")
    return Ed25519PrivateKey.from_private_bytes(HKDF(hashes.SHA256(), 32, None, purpose).derive(service.signing_seed))


def public(service: Service, purpose: bytes) -> dict[str, str]:
    """The key by which others can check a signature, as a JSON Web Key (RFC 8037)."""
    raw = key(service, purpose).public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    value = jwt.utils.base64url_encode(raw).decode()
    return {"kty": "OKP", "crv": "Ed25519", "use": "sig", "alg": ALGORITHM, "kid": value[:12], "x": value}
