"""Signing in by an identity provider: by its own page and back, with all that somebody could try on the way."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import time
from base64 import b64encode
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from flask.testing import FlaskClient
from joserfc.jwk import RSAKey
from sqlalchemy import func, select

from openlatch import schemas
from openlatch.api.app import make_app
from openlatch.api.oidc import FLOW
from openlatch.api.routing import COOKIE
from openlatch.core.vocabulary import Role, Standing
from openlatch.errors import BadInput, NotAllowed, OpenLatchError
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service.identity import authentication, openid, providers
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import JournalEntry, Person, SignIn, WebSession
from openlatch.test_systems.app_server import AppServer
from openlatch.test_systems.identity_provider import LOGOUT_EVENT, IdentityProvider
from tests.conftest import Clock
from tests.waiting import until

HERE = "http://127.0.0.1:8620"
PASSWORD = "walk the long ridge"
EDDA = {"name": "Edda Quill", "email": "edda@example.org", "email_verified": True}


@dataclass
class World:
    """The service, a provider that it knows, and browsers."""

    service: Service
    itself: Viewer
    provider: IdentityProvider
    browser: Callable[[], FlaskClient]
    clock: Clock
    provider_server: AppServer
    ident: Any = None

    def set(self, **changed: Any) -> schemas.ProviderOf:
        """Let people sign in by the provider, in this way."""
        wish = {"name": "Fellside", "issuer": self.provider.issuer, "client_id": "latch", "client_secret": "its secret"}
        given = schemas.SetProvider.model_validate({**wish, **changed})
        administrator = self.viewer("ada@example.org")
        with self.service.unit(administrator) as unit:
            made = providers.change(unit, self.ident, given, None) if self.ident else providers.add(unit, given)
        self.ident = made.id
        return made

    def viewer(self, address: str) -> Viewer:
        with self.service.unit(self.itself) as unit:
            ident = unit.db.scalars(select(SignIn.id).where(SignIn.address == address)).one()
        found = authentication.viewer_at(self.service, self.itself.organisation, ident)
        return Viewer(**{**{f: getattr(found, f) for f in found.__slots__}, "proved_at": self.service.clock()})

    def person(self, name: str, address: str) -> None:
        with self.service.unit(self.itself) as unit:
            unit.db.add(Person(organisation_id=self.itself.organisation, name=name, address=address, inside=True))

    def come(self, subject: str, browser: FlaskClient | None = None, start: str = "") -> Any:
        """Somebody's browser goes to the provider and comes back; what it is answered then."""
        browser = browser or self.browser()
        gone = browser.get(start or f"/oidc/start/{self.ident}?then=/flags")
        back = httpx.get(f"{gone.headers['Location']}&as={subject}")
        return browser.get(back.headers["Location"].removeprefix(HERE))


@pytest.fixture
def world(service: Service, organisation: Viewer, clock: Clock, cluster: Cluster, database: str) -> Iterator[World]:
    openid._metadata.clear()
    openid._keys.clear()
    openid._asked_anew.clear()
    app = make_app(service, cluster.url(database))
    port = free_port()
    made = IdentityProvider(f"http://127.0.0.1:{port}", "latch", "its secret", f"{HERE}/oidc/callback")
    made.people = {"s-1": EDDA}
    server = AppServer(made.app(), port)
    server.start()
    # Tokens are checked against the clock of the world.
    clock.now = datetime.now(UTC)
    found = World(service, organisation, made, app.test_client, clock, server)
    found.set()
    yield found
    server.stop()


def me(browser: FlaskClient) -> Any:
    return browser.get("/api/v1/me").json


def test_whoever_the_register_knows_gets_in_with_the_address_that_the_provider_has_verified(world: World) -> None:
    """They go on where they wanted to; the second time their subject is enough, whatever their address is by then."""
    world.person("Edda Quill", "edda@example.org")
    browser = world.browser()
    answer = world.come("s-1", browser)
    assert (answer.status_code, 'content="0;url=/flags"' in answer.text) == (200, True)
    assert (me(browser)["person"]["name"], me(browser)["provider"]["name"]) == ("Edda Quill", "Fellside")
    assert browser.get_cookie(FLOW, path="/oidc/") is None
    world.provider.people["s-1"] = {"name": "Edda Quill", "email": "edda.quill@example.net", "email_verified": False}
    again = world.browser()
    world.come("s-1", again)
    assert me(again)["person"] == me(browser)["person"]
    with world.service.unit(world.itself) as unit:
        actions = list(unit.db.scalars(select(JournalEntry.action).order_by(JournalEntry.position)))
    assert actions[-4:] == ["sign_in.made", "provider.subject_bound", "sign_in.opened", "sign_in.opened"]


@pytest.mark.parametrize(
    ("claims", "told"),
    [
        ({"email": "nobody@example.org"}, "Nobody here has the address nobody@example.org"),
        ({"email_verified": False}, "has not verified it"),
        ({"email_verified": "true"}, "has not verified it"),
        ({"email": ""}, "did not say which address is yours"),
        ({"email": "ada@example.org"}, ""),
    ],
)
def test_nobody_else_gets_in(world: World, claims: dict[str, Any], told: str) -> None:
    world.person("Edda Quill", "edda@example.org")
    world.provider.people["s-1"] = {**EDDA, **claims}
    browser = world.browser()
    answer = world.come("s-1", browser)
    if not told:
        assert me(browser)["person"]["name"] == "Ada Admin"
        # Whoever comes with the same address and another subject is somebody else.
        world.provider.people["s-2"] = {**EDDA, **claims}
        told, answer, browser = "known here as somebody else", world.come("s-2"), world.browser()
    assert (answer.status_code, told in answer.text) == (401, True), answer.text
    assert browser.get("/api/v1/me").status_code == 401


def test_whoever_has_left_does_not_come_back_by_the_provider(world: World) -> None:
    """Not the first time, before they ever had a sign-in here; and not with one that was taken away."""
    world.person("Edda Quill", "edda@example.org")
    with world.service.unit(world.itself) as unit:
        unit.db.scalars(select(Person).where(Person.name == "Edda Quill")).one().standing = Standing.LEFT
    assert "Nobody here has the address edda@example.org" in world.come("s-1").text
    with world.service.unit(world.itself) as unit:
        assert list(unit.db.scalars(select(SignIn.address))) == ["ada@example.org"]


def test_another_issuer_knows_nobody_yet(world: World) -> None:
    """Another client of the same issuer, too: subjects may be its own. Sessions of before end."""
    world.person("Edda Quill", "edda@example.org")
    browser = world.browser()
    assert world.come("s-1", browser).status_code == 200
    assert world.set(name="Fellside login").people == 1
    assert browser.get("/api/v1/me").status_code == 200
    assert world.set(client_id="latch-2").people == 0
    assert browser.get("/api/v1/me").status_code == 401


def test_what_was_not_begun_here_ends_nowhere(world: World) -> None:
    """Another browser, another state, a code used twice, too late, an answer of another provider, or a no."""
    world.person("Edda Quill", "edda@example.org")
    browser = world.browser()
    gone = browser.get(f"/oidc/start/{world.ident}").headers["Location"]
    asked = parse_qs(urlsplit(gone).query)
    assert (asked["code_challenge_method"], asked["response_type"], len(asked["nonce"][0]) > 20) == (
        ["S256"],
        ["code"],
        True,
    )
    back = httpx.get(f"{gone}&as=s-1").headers["Location"].removeprefix(HERE)
    assert "in another browser" in world.browser().get(back).text
    other = world.browser()
    other.get(f"/oidc/start/{world.ident}")
    assert "not the sign-in that was begun here" in other.get(back).text
    assert (
        "another provider"
        in kept(browser, lambda: browser.get(re.sub("iss=[^&]+", "iss=https://e.example", back))).text
    )
    assert kept(browser, lambda: browser.get(back)).status_code == 200
    assert "used or not yours" in browser.get(back).text
    assert "did not want to" in world.come("nobody").text
    late = world.browser()
    gone = late.get(f"/oidc/start/{world.ident}").headers["Location"]
    held = late.get_cookie(FLOW, path="/oidc/")
    assert held is not None
    old = world.service.cipher.encrypt_at_time(world.service.cipher.decrypt(held.value), int(time.time()) - 700)
    late.set_cookie(FLOW, old.decode(), path="/oidc/")
    back = httpx.get(f"{gone}&as=s-1").headers["Location"].removeprefix(HERE)
    assert "too long ago" in late.get(back).text


# More deeply nested than anything can read.
DEEP = b64encode(b"[" * 6000).decode()


def kept(browser: FlaskClient, call: Callable[[], Any]) -> Any:
    """A call after which the browser has its sealed cookie again, as somebody would who had copied it."""
    held = browser.get_cookie(FLOW, path="/oidc/")
    assert held is not None
    answer = call()
    browser.set_cookie(FLOW, held.value, path="/oidc/")
    return answer


@pytest.mark.parametrize(
    "spoilt",
    [
        {"iss": "https://other.example.org"},
        {"aud": "another"},
        {"aud": ["latch", "another"], "azp": "another"},
        {"nonce": "of another sign-in"},
        {"exp": 1},
        {"iat": 4_000_000_000},
        {"sub": ""},
        "another key",
        "no signature",
    ],
)
def test_a_token_that_is_not_of_the_provider_for_us_and_now_lets_nobody_in(
    world: World, spoilt: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    world.person("Edda Quill", "edda@example.org")
    sign = world.provider.sign

    def wrong(claims: Any, key: Any = None) -> str:
        if spoilt == "another key":
            return sign(claims, RSAKey.generate_key(2048, {"kid": "one"}))
        if spoilt == "no signature":
            _, body, _ = sign(claims).split(".")
            return f"eyJhbGciOiJub25lIn0.{body}."
        return sign({**claims, **spoilt})

    monkeypatch.setattr(world.provider, "sign", wrong)
    browser = world.browser()
    assert world.come("s-1", browser).status_code == 401
    assert browser.get("/api/v1/me").status_code == 401


def test_a_page_of_somebody_else_is_not_where_one_goes_on(world: World) -> None:
    world.person("Edda Quill", "edda@example.org")
    for then in ("https://evil.example.org/", "//evil.example.org", "/\\evil.example.org", "evil"):
        answer = world.come("s-1", start=f"/oidc/start/{world.ident}?then={then}")
        assert 'content="0;url=/"' in answer.text


def test_roles_follow_the_provider_and_somebody_always_administers(world: World) -> None:
    world.person("Edda Quill", "edda@example.org")
    world.set(roles_claim="groups", roles={"latch-admins": "administrator", "latch-audit": "auditor"})

    def role_of(groups: Any) -> str:
        world.provider.people["s-1"] = {**EDDA, "groups": groups}
        assert world.come("s-1").status_code == 200
        with world.service.unit(world.itself) as unit:
            return str(unit.db.scalars(select(SignIn.role).where(SignIn.address == "edda@example.org")).one())

    assert [
        role_of(given) for given in (["latch-audit", "x"], ["latch-audit", "latch-admins"], "latch-audit", None)
    ] == [
        Role.AUDITOR,
        Role.ADMINISTRATOR,
        Role.AUDITOR,
        Role.MEMBER,
    ]
    # What they are already is no change.
    assert [role_of(["latch-admins"]), role_of(["latch-admins"])] == [Role.ADMINISTRATOR] * 2
    # Where the provider tells no roles, they are as they were set here.
    world.set(roles_claim="", roles={})
    assert role_of(["latch-audit"]) == Role.ADMINISTRATOR
    world.set(roles_claim="groups", roles={"latch-admins": "administrator"})
    with world.service.unit(world.itself) as unit:
        assert len(unit.db.scalars(select(JournalEntry).where(JournalEntry.action == "sign_in.role_set")).all()) == 5
        unit.db.scalars(select(SignIn).where(SignIn.address == "ada@example.org")).one().role = Role.MEMBER
    assert role_of([]) == Role.ADMINISTRATOR


def test_a_second_factor_is_not_passed_by(world: World) -> None:
    """One that the provider has to ask for; and one that was set up here, where it does not ask."""
    world.person("Edda Quill", "edda@example.org")
    world.set(amr=["otp", "hwk"], acr=["high"])
    answer = world.come("s-1")
    assert (answer.status_code, "asks for a second factor" in answer.text) == (403, True)
    world.provider.amr = ("pwd", "otp")
    assert world.come("s-1").status_code == 200
    world.provider.amr, world.provider.acr = ("pwd",), "high"
    assert world.come("s-1").status_code == 200
    with world.service.unit(world.itself) as unit:
        assert unit.db.scalars(select(Person.second_factor).where(Person.name == "Edda Quill")).one()
        sign_in = unit.db.scalars(select(SignIn).where(SignIn.address == "edda@example.org")).one()
        sign_in.factor_since, sign_in.factor_secret = unit.now, b"x"
    assert world.come("s-1").status_code == 200
    world.set()
    answer = world.come("s-1")
    assert (answer.status_code, "not set to ask for one" in answer.text) == (403, True)


def test_signing_out_there_ends_the_session_here_once(world: World) -> None:
    """That one, or all of a subject; a token that is none, of nobody, or used before, ends nothing."""
    world.person("Edda Quill", "edda@example.org")
    one, other = world.browser(), world.browser()
    world.come("s-1", one)
    world.come("s-1", other)
    first, _ = world.provider.sessions
    outside = world.browser()

    def tell(token: str) -> int:
        return outside.post("/oidc/logout", data={"logout_token": token}).status_code

    good = world.provider.logout_token(first)
    for wrong in (
        "",
        "x.y.z",
        good[:-3] + "abc",
        world.provider.sign({"sid": first, "jti": "1"}),
        world.provider.logout_token(first, nonce="n"),
        world.provider.logout_token(first, iat=int(time.time()) - 4000),
        world.provider.logout_token(first, aud="another"),
        world.provider.logout_token(first, events={LOGOUT_EVENT: True}),
        world.provider.logout_token(),
        f"{DEEP}.{DEEP}.x",
        f"{b64encode(json.dumps({}).encode()).decode()}.{DEEP}.x",
    ):
        assert tell(wrong) == 400, wrong
    assert (me(one)["person"]["name"], me(other)["person"]["name"]) == ("Edda Quill", "Edda Quill")
    assert tell(good) == 200
    assert [browser.get("/api/v1/me").status_code for browser in (one, other)] == [401, 200]
    assert tell(good) == 400
    assert tell(world.provider.logout_token(sub="s-1")) == 200
    assert other.get("/api/v1/me").status_code == 401
    with world.service.unit(world.itself) as unit:
        assert unit.db.scalar(select(func.count(WebSession.id))) == 0


def test_signing_out_here_leads_out_there(world: World) -> None:
    world.person("Edda Quill", "edda@example.org")
    browser = world.browser()
    world.come("s-1", browser)
    then = browser.delete("/api/v1/session", headers={"X-CSRF-Token": me(browser)["csrf"]}).json["then"]
    assert then.startswith(f"{world.provider.issuer}/end?id_token_hint=ey")
    assert parse_qs(urlsplit(then).query)["post_logout_redirect_uri"] == [f"{HERE}/sign-in"]
    assert browser.get("/api/v1/me").status_code == 401


def test_who_one_is_is_proved_again_at_the_provider(world: World) -> None:
    """It has to have asked just now, and whoever signs in there has to be who is signed in here."""
    world.person("Edda Quill", "edda@example.org")
    world.person("Owen", "owen@example.org")
    world.provider.people["s-2"] = {"name": "Owen", "email": "owen@example.org", "email_verified": True}
    browser = world.browser()
    world.come("s-1", browser)
    held = browser.get_cookie(COOKIE)
    assert held is not None

    def proved() -> Any:
        return authentication.viewer_of_session(world.service, held.value, None).proved_at

    world.clock.forward(hours=1)
    before, prove = proved(), f"/oidc/start/{world.ident}?prove=1"
    assert parse_qs(urlsplit(browser.get(prove).headers["Location"]).query)["prompt"] == ["login"]
    answer = world.come("s-2", browser, prove)
    assert (answer.status_code, "Somebody else" in answer.text, proved()) == (401, True, before)
    # By the clock of the service an hour has gone by, so what the provider asks now is an hour old.
    answer = world.come("s-1", browser, prove)
    assert (answer.status_code, "has not asked you again" in answer.text, proved()) == (403, True, before)
    world.clock.forward(minutes=-59)
    assert world.come("s-1", browser, prove).status_code == 200
    assert proved() > before
    assert world.browser().get(prove).status_code == 401


def test_providers_are_for_administrators_who_prove_it_and_are_asked_before_they_are_kept(world: World) -> None:
    wish = schemas.SetProvider(name="Other", issuer=world.provider.issuer, client_id="latch")
    world.person("Edda Quill", "edda@example.org")
    world.come("s-1")
    with pytest.raises(NotAllowed), world.service.unit(world.viewer("edda@example.org")) as unit:
        providers.add(unit, wish)
    unproved = replace(world.viewer("ada@example.org"), proved_at=None, credential=world.ident)
    for call in (
        lambda unit: providers.add(unit, wish),
        lambda unit: providers.change(unit, world.ident, wish, None),
        lambda unit: providers.remove(unit, world.ident),
    ):
        with pytest.raises(NotAllowed, match="fresh proof"), world.service.unit(unproved) as unit:
            call(unit)
    for changed, error in (
        ({"name": "Fellside"}, BadInput),
        ({"issuer": "http://login.example.org"}, BadInput),
        ({"issuer": "https://[bad"}, BadInput),
        ({"issuer": f"http://127.0.0.1:{free_port()}"}, BadInput),
        ({"issuer": f"{world.provider.issuer}/other"}, OpenLatchError),
        ({"roles_claim": "groups"}, BadInput),
    ):
        with pytest.raises(error), world.service.unit(world.viewer("ada@example.org")) as unit:
            providers.add(unit, wish.model_copy(update=changed))
    with world.service.unit(world.viewer("ada@example.org")) as unit:
        (row,) = providers.rows(unit)
        assert (row.people, row.callback) == (1, f"{HERE}/oidc/callback")
        assert "its secret" not in row.model_dump_json()
        providers.remove(unit, row.id)
    with world.service.unit(world.itself) as unit:
        assert unit.db.scalar(select(func.count(WebSession.id))) == 0
    assert world.browser().get(f"/oidc/start/{row.id}").status_code == 404


def test_what_goes_wrong_is_told_on_a_page(world: World) -> None:
    """Also when the provider is away: whoever reads it has come with a browser."""
    for path in ("/oidc/start/00000000-0000-0000-0000-000000000000", f"/oidc/start/{world.ident}?prove=1"):
        answer = world.browser().get(path)
        assert (answer.status_code in (401, 404), answer.mimetype, "Sign in" in answer.text) == (
            True,
            "text/html",
            True,
        )
    openid._metadata.clear()
    world.provider_server.stop()
    answer = world.browser().get(f"/oidc/start/{world.ident}")
    assert (answer.status_code, answer.mimetype, "does not answer" in answer.text) == (503, "text/html", True)


def test_a_provider_is_shown_to_whoever_signs_in_at_its_organisation(world: World) -> None:
    """Not those of others, unless there is only one organisation."""
    ask = world.browser()
    assert [row["name"] for row in ask.get("/api/v1/sign-in/providers").json["rows"]] == ["Fellside"]
    authentication.make_organisation(world.service, "Other", "other", "UTC", "Bo", "bo@example.org", PASSWORD)
    assert ask.get("/api/v1/sign-in/providers").json["rows"] == []
    assert ask.get("/api/v1/sign-in/providers?organisation=other").json["rows"] == []


def test_a_provider_that_others_wrote_is_understood(world: World) -> None:
    """From its own page, by its own tokens."""
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-W", "ignore", "-m", "oidc_provider_mock", "--port", str(port), "--require-nonce"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        issuer = f"http://127.0.0.1:{port}"
        until(lambda: httpx.get(f"{issuer}/.well-known/openid-configuration").is_success, httpx.TransportError)
        httpx.put(f"{issuer}/users/u-1", json={"email": "edda@example.org", "email_verified": True}).raise_for_status()
        world.person("Edda Quill", "edda@example.org")
        world.set(issuer=issuer, client_secret="whatever")
        browser = world.browser()
        gone = browser.get(f"/oidc/start/{world.ident}").headers["Location"]
        back = httpx.post(gone, data={"sub": "u-1"}).headers["Location"].removeprefix(HERE)
        answer = browser.get(back)
        assert answer.status_code == 200, answer.text
        assert me(browser)["person"]["name"] == "Edda Quill"
    finally:
        process.terminate()
        process.wait(10)
