"""Messages to receivers, signed (RFC 9421) over their content's digest (RFC 9530)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

# Labels of the two signatures while a secret is being rotated.
LABELS = ("latch", "before")
TAG = "open-latch-webhook"
COVERED = ("@method", "@target-uri", "content-type", "content-digest")
TYPE = "application/cloudevents+json"


@dataclass
class Message:
    """A request as signing sees it: its headers get the digest and the signatures."""

    method: str
    url: str
    headers: dict[str, str]


def signed(url: str, body: bytes, secrets: Sequence[tuple[str, bytes]], now: datetime, nonce: str) -> Message:
    """A POST of a body, signed with each of the secrets (by its key id), the present one first."""
    # Imported here: most processes send nothing.
    from http_message_signatures import HTTPMessageSigner, MappingKeyResolver
    from http_message_signatures.algorithms import HMAC_SHA256

    message = Message("POST", url, {"Content-Type": TYPE})
    keys = MappingKeyResolver(public_keys={}, private_keys=dict(secrets))
    signer = HTTPMessageSigner(signature_algorithm=HMAC_SHA256, key_resolver=keys)
    for label, (ident, _) in zip(LABELS, secrets, strict=False):
        signer.sign(
            message,
            key_id=ident,
            created=now,
            nonce=nonce,
            label=label,
            tag=TAG,
            covered_component_ids=COVERED,
            append_if_signature_exists=label != LABELS[0],
            body=body,
            use_existing_digest=label != LABELS[0],
        )
    return message
