"""Tokens that an authorization server has issued to apps, and that are known here: read one by one, and revoked.

No standard lists the tokens that there are. So this looks after those that it was given: by RFC 8414 it finds where to
ask, by RFC 7662 what each is good for, and by RFC 7009 it ends them. They are in the secret, and nowhere else.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import quote, urlsplit

import httpx

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.json_http import call, opened, told
from openlatch.adapters.oauth import tokens
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemRefused
from openlatch.json_values import JsonObject, JsonView

WELL_KNOWN = "/.well-known/oauth-authorization-server"
# Scopes that show who somebody is, and no more (OpenID Connect Core 1.0, section 5.4).
_SHOW = frozenset({"openid", "profile", "email", "address", "phone"})
_LOOKED_AT = ("the tokens that it was given: whose, for what, and until when",)
_GAPS = (Gap("tokens that it was not given: no standard lists them", Why.NOT_SUPPORTED),)


@dataclass(frozen=True, slots=True)
class _Server:
    """Where to ask, and as whom."""

    http: httpx.Client
    introspection: str
    revocation: str


class OAuthAdapter(Adapter):
    """Looks after the tokens of one authorization server.

    ``secret``: the client id and secret of Open Latch there (without blanks), with a colon between, and after that the
    tokens, with blanks or new lines before each.
    """

    settings_taken = (Setting("issuer", "The address by which the server names itself, as https://login.example.org."),)
    can = Abilities(
        steps=frozenset({StepKind.REMOVE}),
        rights=("a client that may introspect and revoke the tokens of others",),
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._issuer = str(settings["issuer"]).rstrip("/")
        client, *given = secret.split() or [""]
        self._client, _, self._word = client.partition(":")
        self._tokens = {fingerprint(token): token for token in given}

    def check(self) -> None:
        """Find the server's addresses, and ask about a token that nobody has."""
        with self._server() as server:
            tokens.introspected(server.http, server.introspection, "none")
        if not self._tokens:
            raise SystemRefused(
                "There is no token to look after.", "Give them after the client: client_id:client_secret token token …"
            )

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Each token that is good: the app that has it, for what, with which scopes, until when."""
        with self._server() as server:
            known = {
                ident: tokens.introspected(server.http, server.introspection, token)
                for ident, token in self._tokens.items()
            }
        held: dict[tuple[str, str], list[tuple[str, JsonObject]]] = {}
        for ident, about in known.items():
            if about["active"]:
                for account in self._accounts(about):
                    held.setdefault((account, _holder(about)), []).append((ident, about))
        yield from (SharedAccount(account, account, "service") for account in sorted({a for a, _ in held}))
        yield from map(_login, sorted({who for _, who in held}))
        links = [_link(account, who, of) for (account, who), of in sorted(held.items())]
        yield from (level(key) for key in sorted({link.level for link in links}))
        yield from links
        # Where it says so of every one, it may well not let Open Latch ask any more: then nothing counts as gone.
        why = Why.NOT_SUPPORTED if held else Why.NOT_PERMITTED
        silent = [
            Gap(f"the token {ident}: it is over, unknown there, or not for Open Latch to ask about", why)
            for ident, about in known.items()
            if not about["active"]
        ]
        yield Coverage("", _LOOKED_AT, (*_GAPS, *silent))
        yield Whole()

    def _accounts(self, about: JsonView) -> list[str]:
        """What a token is for; the server itself where it does not say."""
        told_for = about.get("aud")
        listed = told_for if isinstance(told_for, list) else [told_for]
        named = [one for one in listed if isinstance(one, str) and one]
        return named or [self._issuer]

    def can_reduce(self, level: str, lower: str) -> bool:
        """A token is as it was issued."""
        return False

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """SystemRefused: whoever uses an app lets it in."""
        raise SystemRefused("Tokens are issued there, by hand.", "Have the app ask for one, and give it to Open Latch.")

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """Each token by itself."""
        listed = detail.get("tokens", [detail.get("token")])
        return tuple(Move(kind, {"token": token}, f"the token {token}") for token in listed)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """Have a token revoked."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with self._server() as server:
            tokens.revoke(server.http, server.revocation, self._known(detail))
        return f"Revoked the token {detail['token']}."

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """By what the server says of the token now."""
        with self._server() as server:
            about = tokens.introspected(server.http, server.introspection, self._known(detail))
        return f"the token {detail['token']} is still good" if about["active"] else None

    def _known(self, detail: JsonView) -> str:
        token = self._tokens.get(str(detail.get("token")))
        if token is None:
            raise SystemRefused(
                f"Open Latch does not have the token {detail.get('token')}.", "Give it again, or revoke it there."
            )
        return token

    @contextmanager
    def _server(self) -> Iterator[_Server]:
        """The server, as it describes itself (RFC 8414). SystemRefused when that is not it, or lacks what is needed."""
        parts = urlsplit(self._issuer)
        where = f"{WELL_KNOWN}{parts.path}"
        with opened(f"{parts.scheme}://{parts.netloc}", "") as http:
            found = told(call(http, "GET", where))
        if str(found.get("issuer", "")).rstrip("/") != self._issuer:
            raise SystemRefused(f"{where} is not that of {self._issuer}.", "Look at the issuer.")
        named = [self._endpoint(found, f"{name}_endpoint") for name in ("introspection", "revocation")]
        with opened("", "", auth=(quote(self._client, safe=""), quote(self._word, safe=""))) as http:
            yield _Server(http, *named)

    def _endpoint(self, found: JsonView, name: str) -> str:
        where, own = str(found.get(name, "")), urlsplit(self._issuer)
        parts = urlsplit(where)
        if not (parts.scheme == "https" or (parts.scheme, parts.netloc) == (own.scheme, own.netloc)):
            raise SystemRefused(f"The server has no {name} by https.", "It has to support RFC 7009 and RFC 7662.")
        return where


def fingerprint(token: str) -> str:
    """What a token is called here: not what it is."""
    return hashlib.sha256(token.encode()).hexdigest()[:16]


def _holder(about: JsonView) -> str:
    client = about.get("client_id")
    return f"app:{client}" if client else f"user:{about.get('username') or about.get('sub') or 'unknown'}"


def _login(who: str) -> Login:
    kind, _, name = who.partition(":")
    marks = {"address": name} if kind == "user" and "@" in name else {}
    return Login(who, name, kind == "app", marks)


def _link(account: str, who: str, of: list[tuple[str, JsonObject]]) -> Holding:
    scopes = sorted({scope for _, about in of for scope in str(about.get("scope") or "").split()})
    ends = [about.get("exp") for _, about in of]
    until = None if None in ends else datetime.fromtimestamp(max(int(end) for end in ends if end is not None), UTC)
    handle = {"tokens": sorted(ident for ident, _ in of), "client": who}
    consented = {str(about["sub"]) for _, about in of if about.get("sub")}
    if consented:
        handle["consented_by"] = ", ".join(sorted(consented))
    return Holding(account, who, False, f"scopes {' '.join(scopes)}".strip(), until, handle)


def level(key: str) -> FoundLevel:
    """The level of a set of scopes."""
    scopes = key.split()[1:]
    permissions = tuple(
        (scope, f"Do what “{scope}” stands for", Reach.OBSERVE if scope in _SHOW else Reach.OPERATE) for scope in scopes
    )
    if not permissions:
        use = (("use", "Use what the token is for", Reach.OPERATE),)
        return FoundLevel(key, "Without scopes", "Can do what a token without scopes is for.", use)
    words = " ".join(scopes)
    return FoundLevel(key, f"Scopes: {words}", f"The app can do what “{words}” stands for.", permissions)
