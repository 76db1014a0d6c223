"""Speaking with an identity provider: OpenID Connect Discovery 1.0, the authorization code with PKCE (RFC 7636), and
tokens signed by its keys.
"""

from __future__ import annotations

import secrets
import time
from base64 import urlsafe_b64decode
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urlsplit

import httpx
from authlib.oauth2.rfc6749.parameters import prepare_grant_uri
from authlib.oauth2.rfc7636 import create_s256_code_challenge
from cachetools import TTLCache
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from openlatch.adapters.limits import asked
from openlatch.errors import BadInput, NotSignedIn, SystemDown
from openlatch.json_values import JsonObject, parsed
from openlatch.tls import trusted

SECONDS = 10
ALGORITHMS = ["RS256", "PS256", "ES256", "EdDSA", "RS384", "RS512", "ES384", "ES512"]
LOGOUT_EVENT = "http://schemas.openid.net/event/backchannel-logout"
# Seconds by which clocks may differ.
LEEWAY = 60
_REQUIRED = ("issuer", "authorization_endpoint", "token_endpoint", "jwks_uri")
_AGAIN = "Try again; if it stays so, tell whoever administers the provider."


@dataclass(frozen=True, slots=True)
class Provider:
    """Whom to speak with, and as whom."""

    issuer: str
    client_id: str
    client_secret: str


@dataclass(frozen=True, slots=True)
class Begun:
    """A sign-in under way: where the browser goes, and what has to be known when it comes back."""

    address: str
    state: str
    nonce: str
    verifier: str


_metadata: TTLCache[str, JsonObject] = TTLCache(64, ttl=3600)
_keys: TTLCache[str, KeySet] = TTLCache(64, ttl=3600)
# Keys are asked for anew when a token names an unknown one, but not more often than this.
_asked_anew: TTLCache[str, bool] = TTLCache(64, ttl=30)


def refuse_unsafe(address: str) -> None:
    """BadInput for an address that what is sent there could be read on the way to."""
    try:
        parts = urlsplit(address)
    except ValueError:
        parts = urlsplit("")
    is_here = parts.hostname in ("127.0.0.1", "::1", "localhost")
    if not parts.hostname or not (parts.scheme == "https" or (parts.scheme == "http" and is_here)):
        raise BadInput(f"{address} is no address by https.", "Give it as https://login.example.org", {"issuer": "bad"})


def metadata(issuer: str) -> JsonObject:
    """What a provider says of itself. SystemDown when it does not answer; BadInput when that is not usable."""
    issuer = issuer.rstrip("/")
    if issuer not in _metadata:
        refuse_unsafe(issuer)
        found = fetch(f"{issuer}/.well-known/openid-configuration")
        missing = [name for name in _REQUIRED if not isinstance(found.get(name), str)]
        if missing or str(found["issuer"]).rstrip("/") != issuer:
            fault = f"lacks {', '.join(missing)}" if missing else f"says that it is {found['issuer']}"
            raise BadInput(f"The provider {issuer} {fault}.", "Check the address of the issuer.", {"issuer": "bad"})
        for name in _REQUIRED[1:]:
            refuse_unsafe(str(found[name]))
        _metadata[issuer] = found
    return _metadata[issuer]


def forget(issuer: str) -> None:
    """Ask the provider anew the next time."""
    _metadata.pop(issuer.rstrip("/"), None)
    _keys.pop(issuer.rstrip("/"), None)


def begin(provider: Provider, callback: str, acr: str = "", must_prove: bool = False) -> Begun:
    """Where the browser goes to sign in; with ``must_prove`` the provider has to ask again who it is."""
    told = metadata(provider.issuer)
    state, nonce, verifier = (secrets.token_urlsafe(32) for _ in range(3))
    extra = {"acr_values": acr} if acr else {}
    if must_prove:
        extra |= {"prompt": "login", "max_age": "0"}
    address = prepare_grant_uri(
        str(told["authorization_endpoint"]),
        client_id=provider.client_id,
        response_type="code",
        redirect_uri=callback,
        scope=["openid", "email", "profile"],
        state=state,
        nonce=nonce,
        code_challenge=create_s256_code_challenge(verifier),
        code_challenge_method="S256",
        **extra,
    )
    return Begun(str(address), state, nonce, verifier)


def redeem(provider: Provider, callback: str, code: str, verifier: str, nonce: str) -> tuple[JsonObject, str]:
    """The claims of the ID token that a code is exchanged for, and the token itself.

    NotSignedIn when the provider refuses the code, or when the token is not for us and for this sign-in.
    """
    told = metadata(provider.issuer)
    form = {"grant_type": "authorization_code", "code": code, "redirect_uri": callback, "code_verifier": verifier}
    methods = told.get("token_endpoint_auth_methods_supported") or ["client_secret_basic"]
    auth = None
    if provider.client_secret and "client_secret_basic" in methods:
        # RFC 6749, 2.3.1: encoded as a form is, before Base64.
        auth = httpx.BasicAuth(quote(provider.client_id, safe=""), quote(provider.client_secret, safe=""))
    else:
        form["client_id"] = provider.client_id
        form |= {"client_secret": provider.client_secret} if provider.client_secret else {}
    found = fetch(str(told["token_endpoint"]), "POST", data=form, auth=auth)
    if "error" in found or not isinstance(found.get("id_token"), str):
        said = found.get("error_description") or found.get("error") or "it gave no ID token"
        raise NotSignedIn(f"The provider did not accept the sign-in: {said}.", "Begin again.")
    token = str(found["id_token"])
    claims = verify(provider, token, nonce={"essential": True, "value": nonce}, exp={"essential": True})
    audience = claims["aud"]
    several = isinstance(audience, list) and len(audience) > 1
    if (several or "azp" in claims) and claims.get("azp") != provider.client_id:
        raise NotSignedIn("The provider's token is for another program.", "Begin again.")
    return claims, token


def verify(provider: Provider, token: str, **required: Any) -> JsonObject:
    """The claims of a token that the provider has signed for us. NotSignedIn when it is not, or has run out."""
    registry = jwt.JWTClaimsRegistry(
        leeway=LEEWAY,
        iss={"essential": True, "value": str(metadata(provider.issuer)["issuer"])},
        aud={"essential": True, "value": provider.client_id},
        sub={"essential": "sid" not in required},
        iat={"essential": True},
        **required,
    )
    for anew in (False, True):
        try:
            decoded = jwt.decode(token, _keys_of(provider.issuer, anew), algorithms=ALGORITHMS)
            registry.validate(decoded.claims)
            return dict(decoded.claims)
        except (JoseError, ValueError, RecursionError) as error:
            if anew or provider.issuer in _asked_anew:
                why = str(error) or type(error).__name__
                raise NotSignedIn(f"The provider's token can't be trusted: {why}.", "Begin again.") from error
    raise AssertionError("unreachable")


def verify_logout(provider: Provider, token: str) -> JsonObject:
    """The claims of a logout token (OpenID Connect Back-Channel Logout 1.0). NotSignedIn for any other token."""
    claims = verify(provider, token, jti={"essential": True}, sid={"essential": False})
    events = claims.get("events")
    is_logout = isinstance(events, Mapping) and isinstance(events.get(LOGOUT_EVENT), Mapping)
    is_recent = abs(time.time() - float(str(claims["iat"]))) < 600
    if not is_logout or "nonce" in claims or not is_recent or not (claims.get("sub") or claims.get("sid")):
        raise NotSignedIn("That is no logout token.", "Send one by OpenID Connect Back-Channel Logout 1.0.")
    return claims


def unverified(token: str) -> JsonObject:
    """What a token says, before anybody knows whether it is true: only to find whose keys to check it with."""
    try:
        body = token.split(".")[1]
        found = parsed(urlsafe_b64decode(body + "=" * (-len(body) % 4)))
    except (IndexError, ValueError):
        raise NotSignedIn("That is no token.", "Send a signed JSON Web Token.") from None
    return found if isinstance(found, dict) else {}


def end_session_address(provider: Provider, token: str, back: str) -> str:
    """Where the browser signs out at the provider, too (RP-Initiated Logout 1.0); empty when it can't there."""
    where = metadata(provider.issuer).get("end_session_endpoint")
    if not isinstance(where, str):
        return ""
    hint = {"id_token_hint": token} if token else {}
    query = {**hint, "client_id": provider.client_id, "post_logout_redirect_uri": back}
    return f"{where}{'&' if '?' in where else '?'}{httpx.QueryParams(query)}"


def _keys_of(issuer: str, anew: bool) -> KeySet:
    issuer = issuer.rstrip("/")
    if anew:
        _asked_anew[issuer] = True
        _keys.pop(issuer, None)
    if issuer not in _keys:
        found = fetch(str(metadata(issuer)["jwks_uri"]))
        _keys[issuer] = KeySet.import_key_set({"keys": found.get("keys") or []})
    return _keys[issuer]


def fetch(address: str, method: str = "GET", who: str = "The identity provider", **given: Any) -> JsonObject:
    """What somebody answers, as JSON; errors of OAuth among it. SystemDown when there is no such answer."""
    try:
        accepted = {"Accept": "application/json"}
        with httpx.Client(timeout=SECONDS, verify=trusted(), follow_redirects=False, headers=accepted) as http:
            answer = asked(http, method, address, SECONDS, **given)
        found = parsed(answer.content)
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise SystemDown(f"{who} does not answer at {address}: {error}", _AGAIN) from error
    if not isinstance(found, dict) or answer.status_code >= 500 or (answer.status_code >= 400 and "error" not in found):
        raise SystemDown(f"{who} answers {answer.status_code} at {address}.", _AGAIN)
    return found


def as_object(body: bytes) -> JsonObject:
    """What a token says. ValueError for what is no JSON object."""
    return dict(parsed(body))
