"""What a transmitter says of itself, and the keys that its tokens are checked by."""

from __future__ import annotations

from urllib.parse import urlsplit

from cachetools import TTLCache
from joserfc import jws
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from openlatch.core.signals import Refused
from openlatch.errors import BadInput, OpenLatchError
from openlatch.json_values import JsonObject
from openlatch.service.identity import openid

WHO = "The issuer"
_keys: TTLCache[str, KeySet] = TTLCache(64, ttl=3600)
# Keys are asked for anew when a token names an unknown one, but not more often than this.
_asked_anew: TTLCache[str, bool] = TTLCache(64, ttl=30)


def metadata(issuer: str) -> JsonObject:
    """Its configuration (Shared Signals Framework 1.0, section 7.2). BadInput when it is not of that issuer, or has no
    keys; SystemDown when it does not answer.
    """
    openid.refuse_unsafe(issuer)
    parts = urlsplit(issuer)
    where = f"{parts.scheme}://{parts.netloc}/.well-known/ssf-configuration{parts.path.rstrip('/')}"
    found = openid.fetch(where, who=WHO)
    if str(found.get("issuer", "")).rstrip("/") != issuer.rstrip("/") or not isinstance(found.get("jwks_uri"), str):
        raise BadInput(
            f"{where} is not the configuration of {issuer}, with its keys.",
            "Check the address of the issuer.",
            {"issuer": "bad"},
        )
    return found


def checked(issuer: str, token: str) -> tuple[JsonObject, JsonObject]:
    """The header and the claims of a token that the issuer has signed. Refused when it has not, with invalid_key."""
    for anew in (False, True):
        try:
            found = jws.deserialize_compact(token, _keys_of(issuer, anew), algorithms=openid.ALGORITHMS)
            return dict(found.headers()), openid.as_object(found.payload)
        except (JoseError, ValueError, TypeError, RecursionError) as error:
            if anew or issuer in _asked_anew:
                raise Refused(
                    "invalid_key", f"The token's signature can't be trusted: {type(error).__name__}."
                ) from error
        except OpenLatchError as error:
            raise Refused("invalid_key", f"The issuer's keys can't be had: {error.detail}") from error
    raise AssertionError("unreachable")


def _keys_of(issuer: str, anew: bool) -> KeySet:
    if anew:
        _asked_anew[issuer] = True
        _keys.pop(issuer, None)
    if issuer not in _keys:
        _keys[issuer] = KeySet.import_key_set(openid.fetch(str(metadata(issuer)["jwks_uri"]), who=WHO))  # type: ignore[arg-type]
    return _keys[issuer]
