"""The token interface for other programs, at the addresses that its standards have programs look for.

* ``POST /oauth/token``: token exchange (RFC 8693). The subject token is one of our API tokens, the audience an account.
* ``POST /oauth/device_authorization``: codes for a program that a browser elsewhere lets in (RFC 8628); it collects its
  token at ``/oauth/token``.
* ``POST /oauth/introspect``: whether a token is good at this instant (RFC 7662). The caller shows a token of its own.
* ``POST /oauth/revoke``: end a token of one's own, whichever kind it is (RFC 7009).
* ``/.well-known/oauth-authorization-server`` (RFC 8414) and ``/.well-known/jwks.json`` (RFC 7517) describe it.

Errors are those of RFC 6749 section 5.2; who shows no good token of their own is told so by RFC 6750 section 3.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import wraps
from uuid import UUID

import orjson
from flask import Blueprint, Response, request

from openlatch.api.door import refuse_unusable
from openlatch.api.routing import challenge, origin, the_service, viewer
from openlatch.core.vocabulary import TokenScope
from openlatch.errors import NotAllowed, NotSignedIn, OpenLatchError
from openlatch.service import signing_keys
from openlatch.service.acting import visits
from openlatch.service.identity import authentication, device_sign_in

GRANT_TYPE = "urn:ietf:params:oauth:grant-type:token-exchange"
DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
ACCESS_TOKEN = "urn:ietf:params:oauth:token-type:access_token"  # noqa: S105  the name of a type, by RFC 8693
FORM = "application/x-www-form-urlencoded"
pages = Blueprint("oauth", __name__)
View = Callable[[], Response]


class _Refused(Exception):
    """An error by RFC 6749 section 5.2."""

    def __init__(self, error: str, description: str) -> None:
        super().__init__(description)
        self.error, self.description = error, description


def _answer(found: Mapping[str, object], status: int = 200, **headers: str) -> Response:
    # Cache-Control: no-store is on every answer of ours.
    return Response(
        orjson.dumps(found), status, content_type="application/json", headers={"Pragma": "no-cache"} | headers
    )


def _told(view: View) -> View:
    """The call, with its errors as the standards have them."""

    @wraps(view)
    def called() -> Response:
        try:
            return view()
        except _Refused as error:
            return _answer({"error": error.error, "error_description": error.description}, 400)
        except NotSignedIn as error:
            said = {"error": "invalid_token", "error_description": f"{error.detail} {error.remedy}".strip()}
            return _answer(said, 401, **challenge(error))
        except NotAllowed as error:
            said = {"error": "insufficient_scope", "error_description": f"{error.detail} {error.remedy}".strip()}
            return _answer(said, 403, **challenge(error))
        except OpenLatchError as error:
            said = {"error": "invalid_request", "error_description": f"{error.detail} {error.remedy}".strip()}
            return _answer(said, 400)

    return called


def _form(*required: str) -> dict[str, str]:
    """The parameters: each once at most (RFC 6749, 3.2), those without a value left out, and those required there."""
    if request.mimetype != FORM:
        raise _Refused("invalid_request", f"Send {FORM}.")
    twice = [name for name, values in request.form.lists() if len(values) > 1]
    if twice:
        raise _Refused("invalid_request", f"{twice[0]} is given more than once.")
    found = {name: value for name, value in request.form.items() if value}
    refuse_unusable(found)
    for name in required:
        if name not in found:
            raise _Refused("invalid_request", f"{name} is missing.")
    return found


@pages.post("/oauth/token")
@_told
def token() -> Response:
    """By its grant type: for a program that was let in, or to act in an account on its owner's behalf."""
    kind = _form("grant_type")["grant_type"]
    if kind == DEVICE:
        return _collected()
    if kind != GRANT_TYPE:
        raise _Refused("unsupported_grant_type", f"Use {GRANT_TYPE}, or {DEVICE}.")
    return _exchanged()


@pages.post("/oauth/device_authorization")
@_told
def device_authorization() -> Response:
    """Codes for a program: one of its own, and one that somebody gives in their browser."""
    form = _form("client_id")
    scope = form.get("scope", TokenScope.WRITE)
    if scope not in (TokenScope.READ, TokenScope.WRITE):
        raise _Refused("invalid_scope", "The scope is read or write.")
    service = the_service()
    begun = device_sign_in.begin(service, form["client_id"][:100], scope, origin())
    page = f"{service.address}/device"
    return _answer(
        {
            "device_code": begun.device_code,
            "user_code": begun.user_code,
            "verification_uri": page,
            "verification_uri_complete": f"{page}?code={begun.user_code}",
            "expires_in": device_sign_in.SECONDS,
            "interval": device_sign_in.INTERVAL,
        }
    )


def _collected() -> Response:
    form = _form("device_code", "client_id")
    try:
        found = device_sign_in.collect(the_service(), form["device_code"])
    except device_sign_in.Refused as error:
        raise _Refused(error.code, error.words) from None
    seconds = int((found.expires_at - the_service().clock()).total_seconds())
    return _answer({"access_token": found.token, "token_type": "Bearer", "expires_in": seconds, "scope": found.scope})


def _exchanged() -> Response:
    form = _form("subject_token", "subject_token_type")
    if form["subject_token_type"] != ACCESS_TOKEN:
        raise _Refused("invalid_request", f"subject_token_type has to be {ACCESS_TOKEN}.")
    if form.get("requested_token_type", ACCESS_TOKEN) != ACCESS_TOKEN:
        raise _Refused("invalid_request", f"requested_token_type can only be {ACCESS_TOKEN}.")
    if "actor_token" in form or "actor_token_type" in form:
        raise _Refused("invalid_request", "Whoever acts is whose subject_token it is; leave actor_token out.")
    if "resource" in form:
        raise _Refused("invalid_target", "Accounts are named by audience; leave resource out.")
    try:
        account = UUID(form.get("audience", ""))
    except ValueError:
        raise _Refused("invalid_target", "audience has to be the id of an account.") from None
    service = the_service()
    try:
        who = authentication.viewer_of_token(service, form["subject_token"])
    except OpenLatchError as error:
        # RFC 8693, 2.2.2: an invalid subject token is an invalid request.
        raise _Refused("invalid_request", f"{error.detail} {error.remedy}".strip()) from error
    scope = form["scope"].split(" ") if "scope" in form else None
    try:
        with service.unit(who) as unit:
            made = visits.exchange(unit, account, scope)
    except visits.TooWide as error:
        raise _Refused("invalid_scope", f"{error.detail} {error.remedy}".strip()) from error
    except OpenLatchError as error:
        raise _Refused("invalid_target", f"{error.detail} {error.remedy}".strip()) from error
    return _answer(
        {
            "access_token": made.token,
            "issued_token_type": ACCESS_TOKEN,
            "token_type": "Bearer",
            "expires_in": made.seconds,
            "scope": made.scope,
        }
    )


@pages.post("/oauth/introspect")
@_told
def introspect() -> Response:
    """Whether a token is active now. It ends with the access that it stands for."""
    who = viewer()
    form = _form("token")
    with the_service().unit(who) as unit:
        return _answer(visits.introspect(unit, form["token"]))


@pages.post("/oauth/revoke")
@_told
def revoke() -> Response:
    """End a token of one's own. The answer is the same for one that is over or unknown."""
    who = viewer()
    form = _form("token")
    with the_service().unit(who) as unit:
        visits.end_token(unit, form["token"])
        authentication.end_token_itself(unit, form["token"])
    return _answer({})


@pages.get("/.well-known/jwks.json")
def keys() -> Response:
    """The keys by which signatures can be checked: of tokens, and of the evidence of reviews."""
    return _answer({"keys": signing_keys.published(the_service())})


@pages.get("/.well-known/oauth-authorization-server")
def described() -> Response:
    """What there is, by RFC 8414."""
    address = the_service().address
    return _answer(
        {
            "issuer": address,
            "token_endpoint": f"{address}/oauth/token",
            "introspection_endpoint": f"{address}/oauth/introspect",
            "revocation_endpoint": f"{address}/oauth/revoke",
            "jwks_uri": f"{address}/.well-known/jwks.json",
            "device_authorization_endpoint": f"{address}/oauth/device_authorization",
            "grant_types_supported": [GRANT_TYPE, DEVICE],
            "response_types_supported": [],
            "token_endpoint_auth_methods_supported": ["none"],
        }
    )
