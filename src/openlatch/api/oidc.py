"""Signing in by an identity provider, at the addresses that browsers and providers are sent to.

* ``GET /oidc/start/<id>``: the browser goes to the provider (authorization code with PKCE, OpenID Connect Core 1.0).
* ``GET /oidc/callback``: it is back. Whoever signed in gets a session, and goes on to where they wanted to.
* ``POST /oidc/logout``: the provider says that somebody has signed out there (Back-Channel Logout 1.0).
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from html import escape
from uuid import UUID

from flask import Blueprint, Response, request

from openlatch.api import reader
from openlatch.api.routes.identity import set_cookies
from openlatch.api.routing import COOKIE, origin, the_service
from openlatch.errors import OpenLatchError
from openlatch.service.identity import authentication, provider_sign_in

FLOW = "openlatch_flow"
pages = Blueprint("oidc", __name__)


def _told(view: Callable[..., Response]) -> Callable[..., Response]:
    """The call, with its errors as a page: whoever reads them has come with a browser."""

    @wraps(view)
    def called(**path: UUID) -> Response:
        try:
            return view(**path)
        except OpenLatchError as error:
            response = _page("Not signed in", f"{error.detail} {error.remedy}", "/sign-in", "Sign in")
            response.status_code = error.status
            response.delete_cookie(FLOW, path="/oidc/")
            return response

    return called


@pages.get("/oidc/start/<uuid:ident>")
@_told
def start(ident: UUID) -> Response:
    """Send the browser to a provider; with ``prove`` whoever is signed in proves again who they are."""
    service, proves = the_service(), None
    if request.args.get("prove"):
        # Asks nothing of here but who it is, and changes nothing before the provider has answered.
        proves = authentication.viewer_of_session(service, request.cookies.get(COOKIE, ""), None)
    address, sealed = provider_sign_in.begin(service, ident, request.args.get("then", "/"), proves)
    response = Response(status=302, headers={"Location": address})
    response.set_cookie(
        FLOW,
        sealed,
        max_age=provider_sign_in.FLOW_SECONDS,
        path="/oidc/",
        httponly=True,
        # The provider's page sends the browser back here: a strict cookie would stay behind.
        samesite="Lax",
        secure=request.is_secure,
    )
    return response


@pages.get("/oidc/callback")
@_told
def callback() -> Response:
    """Let in whoever has come back, and go on."""
    service = the_service()
    finished = provider_sign_in.finish(service, request.cookies.get(FLOW, ""), request.args)
    if finished.proves is not None:
        response = _page("Thank you", "You can close this page and continue where you were.", "/", "Open Latch")
    else:
        # Gone to by a page of ours, the address gets the session's cookie, which is for this site alone.
        response = _page("Signed in", "One moment.", finished.then, "Go on", goes_on=True)
        opened = provider_sign_in.open_session(service, finished, request.user_agent.string, origin())
        set_cookies(response, finished.viewer, opened)
    response.delete_cookie(FLOW, path="/oidc/")
    return response


@pages.post("/oidc/logout")
def logout() -> Response:
    """End the sessions of somebody who has signed out at their provider."""
    try:
        provider_sign_in.end_by_provider(the_service(), request.form.get("logout_token", ""))
    except OpenLatchError as error:
        return Response(f"{error.detail}\n", 400, content_type="text/plain")
    return Response(status=200)


def _page(title: str, words: str, address: str, label: str, goes_on: bool = False) -> Response:
    """A small page without scripts, in its reader's language; one that goes on does so by itself."""
    title, words, label = map(reader.say, (title, words, label))
    refresh = f'<meta http-equiv="refresh" content="0;url={escape(address)}">' if goes_on else ""
    body = (
        f'<!doctype html><html lang="{reader.language()}"><head><meta charset="utf-8">'
        f"<title>{escape(title)} – Open Latch</title>"
        f'<meta name="viewport" content="width=device-width">{refresh}</head><body><main><h1>{escape(title)}</h1>'
        f'<p>{escape(words)}</p><p><a href="{escape(address)}">{escape(label)}</a></p></main></body></html>'
    )
    return Response(body, content_type="text/html; charset=utf-8")
