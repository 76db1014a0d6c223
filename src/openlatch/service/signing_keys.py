"""The keys that the service signs with.

Tokens are signed by RS256, which whoever checks them has to support (RFC 9068): that key is made once and stored
encrypted, for every process. Evidence has an Ed25519 key of its own, derived from a secret that the web process does
not have; its public half is published through the database.
"""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

import jwt
from cryptography.fernet import InvalidToken
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from jwt.types import Options
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from openlatch.errors import NotAllowed
from openlatch.json_values import JsonObject
from openlatch.service.unit import Service
from openlatch.store.database import transaction
from openlatch.store.tables import Organisation, PublishedKey, TokenKey, TreeHead

ALGORITHM = "EdDSA"
# How tokens are signed; those by the key that was derived are good until they run out.
FOR_TOKENS = "RS256"
# As strong as everything else here: 128 bits of security.
_BITS = 3072
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


def token_keys(service: Service) -> list[rsa.RSAPrivateKey]:
    """The keys for tokens, the one that signs first. The first process that asks makes one.

    A key that another ``secret_key`` has encrypted is of no use any more: another takes its place.
    """
    if not service.token_keys:
        with transaction(service.engine, None) as db:
            # Of two processes that make one at once, both use the first.
            db.execute(select(func.pg_advisory_xact_lock(func.hashtext("token_keys"))))
            rows = db.execute(select(TokenKey.number, TokenKey.private).order_by(TokenKey.number.desc())).all()
            found = [key for _, written in rows for key in _opened(service, written)]
            if not found:
                found = [rsa.generate_private_key(65537, _BITS)]
                written = found[0].private_bytes(
                    serialization.Encoding.DER, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
                )
                number = rows[0].number + 1 if rows else 1
                db.execute(insert(TokenKey).values(number=number, private=service.cipher.encrypt(written)))
        service.token_keys.extend(found)
    return service.token_keys


def _opened(service: Service, written: bytes) -> Iterator[rsa.RSAPrivateKey]:
    try:
        key = serialization.load_der_private_key(service.cipher.decrypt(written), None)
    except InvalidToken:
        return
    assert isinstance(key, rsa.RSAPrivateKey)
    yield key


def _rsa_jwk(key: rsa.RSAPrivateKey) -> dict[str, str]:
    told: dict[str, str] = jwt.algorithms.RSAAlgorithm.to_jwk(key.public_key(), as_dict=True)
    return {"kty": told["kty"], "use": "sig", "alg": FOR_TOKENS, "kid": told["n"][:12], "n": told["n"], "e": told["e"]}


def signed(service: Service, claims: JsonObject, kind: str) -> str:
    """A JSON Web Token of a kind (``typ``), signed by the present key."""
    key = token_keys(service)[0]
    return jwt.encode(claims, key, FOR_TOKENS, headers={"kid": _rsa_jwk(key)["kid"], "typ": kind})


def checked(service: Service, token: str) -> JsonObject:
    """The claims of a token that one of our keys has signed; whom it is for and until when is not looked at.

    jwt.PyJWTError for another one.
    """
    kid = jwt.get_unverified_header(token).get("kid")
    key = next((one.public_key() for one in token_keys(service) if _rsa_jwk(one)["kid"] == kid), None)
    # Those of the version before are taken during an upgrade.
    other = (_derived(service.signing_seed, TOKENS).public_key(), ALGORITHM)
    signer, algorithm = (key, FOR_TOKENS) if key is not None else other
    options: Options = {"verify_aud": False, "verify_exp": False}
    found: JsonObject = jwt.decode(token, signer, [algorithm], options=options)
    return found


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
    keys = [{**_rsa_jwk(one), "purpose": "tokens"} for one in token_keys(service)]
    keys.append({**public(service, TOKENS), "purpose": "tokens"})
    return keys + [{**_as_jwk(x), "purpose": "evidence"} for x in evidence]
