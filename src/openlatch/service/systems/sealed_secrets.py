"""Sealing a secret so that only the worker can open it: whoever takes it from a form can't read it again.

A fresh X25519 key for each secret, agreed with the worker's published one (RFC 7748), a key derived from both by HKDF
(RFC 5869), and AES-256-GCM over the secret.
"""

from __future__ import annotations

import os

import jwt
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from openlatch.errors import NotReady, SystemRefused
from openlatch.service.unit import Service
from openlatch.store.database import transaction
from openlatch.store.tables import PublishedKey

PURPOSE = "sealing"
MARK = b"sealed1:"
_FOR = b"open latch: secrets of systems"
_NONCE = 12


def _own(service: Service) -> X25519PrivateKey:
    seed = service.systems_seed or service.signing_seed
    return X25519PrivateKey.from_private_bytes(HKDF(hashes.SHA256(), 32, None, _FOR).derive(seed))


def publish(service: Service) -> None:
    """Publish the key that secrets are sealed with for this worker; the newest counts."""
    x = jwt.utils.base64url_encode(_own(service).public_key().public_bytes_raw()).decode()
    newest = {"published_at": func.clock_timestamp()}
    with transaction(service.engine, None) as db:
        held = insert(PublishedKey).values(x=x, purpose=PURPOSE, **newest)
        db.execute(held.on_conflict_do_update(index_elements=["x"], set_=newest))


def seal(service: Service, secret: str) -> bytes:
    """A secret that only the worker can open. NotReady before a worker has ever run."""
    with transaction(service.engine, None) as db:
        of = select(PublishedKey.x).where(PublishedKey.purpose == PURPOSE)
        x = db.scalars(of.order_by(PublishedKey.published_at.desc()).limit(1)).first()
    if x is None:
        raise NotReady("No worker has run here yet that the secret could be sealed for.", "Start the worker.")
    to = jwt.utils.base64url_decode(x)
    fresh, nonce = X25519PrivateKey.generate(), os.urandom(_NONCE)
    ours = fresh.public_key().public_bytes_raw()
    key = _agreed(fresh, X25519PublicKey.from_public_bytes(to), ours + to)
    return MARK + ours + nonce + AESGCM(key).encrypt(nonce, secret.encode(), MARK)


def _agreed(private: X25519PrivateKey, public: X25519PublicKey, both: bytes) -> bytes:
    return HKDF(hashes.SHA256(), 32, both, _FOR).derive(private.exchange(public))


def opened(service: Service, kept: bytes) -> str:
    """A sealed secret. SystemRefused when it was sealed for a worker with another key."""
    own = _own(service)
    body = kept.removeprefix(MARK)
    theirs, nonce, closed = body[:32], body[32 : 32 + _NONCE], body[32 + _NONCE :]
    to = own.public_key().public_bytes_raw()
    try:
        key = _agreed(own, X25519PublicKey.from_public_bytes(theirs), theirs + to)
        return AESGCM(key).decrypt(nonce, closed, MARK).decode()
    except (InvalidTag, ValueError) as error:
        raise SystemRefused(
            "The secret was sealed for a worker with another systems_key.", "Give the system's secret again."
        ) from error
