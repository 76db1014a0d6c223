"""A simulated identity provider: OpenID Connect with an authorization code and PKCE, sign-out in both directions.

Whoever comes chooses who they are; there are no passwords. It is strict where the standards are: a code counts once,
for whom and where it was made for, and with the verifier that it was asked for.
"""

from __future__ import annotations

import secrets
import time
from base64 import urlsafe_b64encode
from dataclasses import dataclass, field
from hashlib import sha256
from html import escape
from urllib.parse import unquote_plus, urlencode

import httpx
from flask import Flask, Response, jsonify, request
from flask.typing import ResponseReturnValue
from joserfc import jwt
from joserfc.jwk import KeySet, RSAKey

from openlatch.json_values import JsonObject
from openlatch.tls import trusted

LOGOUT_EVENT = "http://schemas.openid.net/event/backchannel-logout"
CODE_SECONDS = 60
COOKIE = "provider_session"
_PAGE = """<!doctype html><html lang="en"><head><title>Fellside login</title>
<meta name="viewport" content="width=device-width"></head><body><main><h1>Who are you?</h1>
<p>A stand-in for an identity provider.</p><ul>{links}</ul></main></body></html>"""


@dataclass
class IdentityProvider:
    """The provider: its people by subject, with their claims, and the one program that it knows.

    ``acr`` and ``amr`` are how people have signed in.
    """

    issuer: str
    client_id: str
    client_secret: str
    redirect_uri: str
    back_channel: str = ""
    people: dict[str, JsonObject] = field(default_factory=dict)
    acr: str = ""
    amr: tuple[str, ...] = ("pwd",)
    codes: dict[str, JsonObject] = field(default_factory=dict)
    sessions: dict[str, str] = field(default_factory=dict)
    key: RSAKey = field(default_factory=lambda: RSAKey.generate_key(2048, {"use": "sig", "alg": "RS256", "kid": "one"}))

    def app(self) -> Flask:
        """The application."""
        app = Flask("identity-provider")
        for path, view in (
            ("/.well-known/openid-configuration", self._metadata),
            ("/keys", lambda: KeySet([self.key]).as_dict(private=False)),
            ("/authorize", self._authorize),
            ("/end", self._end),
        ):
            app.add_url_rule(path, path, view)
        app.add_url_rule("/token", "token", self._token, methods=["POST"])
        return app

    def sign(self, claims: JsonObject, key: RSAKey | None = None) -> str:
        """A token with claims of its own, for this program."""
        now = int(time.time())
        usual = {"iss": self.issuer, "aud": self.client_id, "iat": now, "exp": now + 300}
        return jwt.encode({"alg": "RS256", "kid": "one"}, {**usual, **claims}, key or self.key)

    def logout_token(self, session: str = "", **more: object) -> str:
        """A logout token for a session."""
        told = {"events": {LOGOUT_EVENT: {}}, "jti": secrets.token_urlsafe(8), **({"sid": session} if session else {})}
        return self.sign({**told, **more})

    def sign_out(self, session: str) -> int:
        """End a session here, and tell the program; returns the status that it answers."""
        subject = self.sessions.pop(session, "")
        answer = httpx.post(
            self.back_channel,
            data={"logout_token": self.logout_token(session, sub=subject)},
            timeout=10,
            verify=trusted(),
        )
        return answer.status_code

    def _metadata(self) -> JsonObject:
        return {
            "issuer": self.issuer,
            "authorization_endpoint": f"{self.issuer}/authorize",
            "token_endpoint": f"{self.issuer}/token",
            "jwks_uri": f"{self.issuer}/keys",
            "end_session_endpoint": f"{self.issuer}/end",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
            "token_endpoint_auth_methods_supported": ["client_secret_basic"],
            "code_challenge_methods_supported": ["S256"],
            "backchannel_logout_supported": True,
            "backchannel_logout_session_supported": True,
            "authorization_response_iss_parameter_supported": True,
        }

    def _authorize(self) -> ResponseReturnValue:
        asked = request.args
        if asked.get("client_id") != self.client_id or asked.get("redirect_uri") != self.redirect_uri:
            return "This program is not known here.", 400
        if asked.get("response_type") != "code" or asked.get("code_challenge_method") != "S256":
            return self._back({"error": "invalid_request", "error_description": "Ask for a code, with PKCE."})
        known = self.sessions.get(request.cookies.get(COOKIE, ""), "")
        subject = asked.get("as", "" if asked.get("prompt") == "login" else known)
        if subject == "nobody":
            return self._back({"error": "access_denied", "error_description": "They did not want to."})
        if subject not in self.people:
            return self._choice()
        session, code = secrets.token_urlsafe(8), secrets.token_urlsafe(16)
        self.sessions[session] = subject
        self.codes[code] = {
            "sub": subject,
            "sid": session,
            "nonce": asked.get("nonce", ""),
            "challenge": asked.get("code_challenge", ""),
            "until": time.time() + CODE_SECONDS,
            "auth_time": int(time.time()),
        }
        response = self._back({"code": code})
        response.set_cookie(COOKIE, session, httponly=True, samesite="Lax")
        return response

    def _back(self, told: dict[str, str]) -> Response:
        query = urlencode({**told, "state": request.args.get("state", ""), "iss": self.issuer})
        return Response(status=302, headers={"Location": f"{self.redirect_uri}?{query}"})

    def _choice(self) -> str:
        people = [*self.people.items(), ("nobody", {"name": "Nobody: go back"})]
        asked = [(urlencode({**request.args, "as": subject}), str(one["name"])) for subject, one in people]
        links = "".join(f'<li><a href="/authorize?{escape(query)}">{escape(name)}</a></li>' for query, name in asked)
        return _PAGE.format(links=links)

    def _token(self) -> ResponseReturnValue:
        form, auth = request.form, request.authorization
        # RFC 6749, 2.3.1: both are encoded as in a form.
        given = (unquote_plus(auth.username or ""), unquote_plus(auth.password or "")) if auth is not None else None
        if given != (self.client_id, self.client_secret):
            return jsonify(error="invalid_client"), 401
        held = self.codes.pop(form.get("code", ""), None)
        challenge = urlsafe_b64encode(sha256(form.get("code_verifier", "").encode()).digest()).rstrip(b"=").decode()
        is_good = held is not None and held["until"] > time.time() and held["challenge"] == challenge
        if held is None or not is_good or form.get("redirect_uri") != self.redirect_uri:
            return jsonify(error="invalid_grant", error_description="The code is unknown, used or not yours."), 400
        claims = {name: held[name] for name in ("sub", "sid", "nonce", "auth_time")}
        claims |= {"amr": list(self.amr), **({"acr": self.acr} if self.acr else {}), **self.people[str(held["sub"])]}
        return jsonify(access_token=secrets.token_urlsafe(16), token_type="Bearer", id_token=self.sign(claims))  # noqa: S106

    def _end(self) -> ResponseReturnValue:
        self.sessions.pop(request.cookies.get(COOKIE, ""), None)
        response = Response(status=302, headers={"Location": request.args.get("post_logout_redirect_uri", "/")})
        response.delete_cookie(COOKIE)
        return response
