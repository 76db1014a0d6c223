"""The token interface for other programs, at the addresses that its standards have programs look for.

* ``POST /oauth/token``: token exchange (RFC 8693). The subject token is one of our API tokens, the audience an account.
* ``POST /oauth/introspect``: whether a token is good at this instant (RFC 7662). The caller shows a token of its own.
* ``POST /oauth/revoke``: end a token (RFC 7009).
* ``/.well-known/oauth-authorization-server`` (RFC 8414) and ``/.well-known/jwks.json`` (RFC 7517) describe it.
"""

from __future__ import annotations

from typing import Any
from uuid import UUID

import orjson
from flask import Blueprint, Response, request

from openlatch.errors import OpenLatchError
from openlatch.service import signing, signing_in, visits
from openlatch.web.routing import the_service, viewer

GRANT_TYPE = "urn:ietf:params:oauth:grant-type:token-exchange"
ACCESS_TOKEN = "urn:ietf:params:oauth:token-type:access_token"  # noqa: S105  the name of a type, by RFC 8693
pages = Blueprint("oauth", __name__)


def _answer(found: dict[str, Any], status: int = 200) -> Response:
    return Response(orjson.dumps(found), status, content_type="application/json", headers={"Pragma": "no-cache"})


def _refuse(error: str, description: str, status: int = 400) -> Response:
    """An error by RFC 6749 section 5.2."""
    return _answer({"error": error, "error_description": description}, status)


@pages.post("/oauth/token")
def token() -> Response:
    """Exchange a token of somebody's own for one to act in an account on its owner's behalf."""
    form = request.form
    if form.get("grant_type") != GRANT_TYPE:
        return _refuse("unsupported_grant_type", f"Use {GRANT_TYPE}.")
    if form.get("subject_token_type", ACCESS_TOKEN) != ACCESS_TOKEN:
        return _refuse("invalid_request", f"subject_token_type has to be {ACCESS_TOKEN}.")
    try:
        account = UUID(form.get("audience", ""))
    except ValueError:
        return _refuse("invalid_target", "audience has to be the id of an account.")
    service = the_service()
    try:
        who = signing_in.viewer_of_token(service, form.get("subject_token", ""))
        with service.unit(who) as unit:
            made = visits.exchange(unit, account)
    except OpenLatchError as error:
        kind = "invalid_target" if error.status in (404, 422) else "invalid_grant"
        return _refuse(kind, f"{error.detail} {error.remedy}".strip())
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
def introspect() -> Response:
    """Whether a token is good now: it ends with the access that it stands for."""
    with the_service().unit(viewer()) as unit:
        return _answer(visits.introspect(unit, request.form.get("token", "")))


@pages.post("/oauth/revoke")
def revoke() -> Response:
    """End a token of one's own. The answer is the same for one that is over or unknown."""
    with the_service().unit(viewer()) as unit:
        visits.end_token(unit, request.form.get("token", ""))
    return _answer({})


@pages.get("/.well-known/jwks.json")
def keys() -> Response:
    """The keys by which signatures can be checked: of tokens, and of the evidence of reviews."""
    service = the_service()
    of = {"tokens": signing.TOKENS, "evidence": signing.EVIDENCE}
    return _answer({"keys": [{**signing.public(service, key), "purpose": name} for name, key in of.items()]})


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
            "grant_types_supported": [GRANT_TYPE],
            "response_types_supported": [],
            "token_endpoint_auth_methods_supported": ["none"],
        }
    )
