"""What is no request at all is refused with a reason: by every call, and whoever sends it."""

from __future__ import annotations

import base64
import json
import re
import socket
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack

import httpx
import pytest

from openlatch.api.routing import COOKIE, Busy
from openlatch.demo.loader import PASSWORD
from openlatch.errors import TooMany
from openlatch.runtime.demo import Demo
from tests.conftest import ROLES

ODD = ["0001-01-01T00:00:00+23:59", "9999-12-31T23:59:59-23:59", "1969-12-31T23:59:59Z", "2200-01-01T00:00:00Z"]


@pytest.fixture
def http(stack: Demo, tokens: dict[str, str]) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {tokens['administrator']}"}
    with httpx.Client(base_url=stack.address, headers=headers, timeout=60) as client:
        yield client


def refused(answer: httpx.Response, *statuses: int) -> dict[str, object]:
    """That an answer is a problem document with one of these statuses."""
    assert answer.status_code in statuses, (answer.status_code, answer.text[:300])
    assert answer.headers["Content-Type"] == "application/problem+json"
    found: dict[str, object] = answer.json()
    assert found["detail"]
    return found


@pytest.mark.parametrize("at", ODD)
def test_no_instant_is_taken_that_could_not_be_shown(http: httpx.Client, at: str) -> None:
    """In bodies, queries and filters: it is refused, and whose row it would have been still works."""
    me = http.get("/api/v1/me").json()["person"]["id"]
    refused(http.put(f"/api/v1/people/{me}/absence", json={"since": at, "until": None, "deputy": None}), 422)
    refused(http.get("/api/v1/access", params={"person": me, "account": me, "at": at}), 422)
    refused(http.get("/api/v1/grants", params={"filter": f'until lt "{at}"'}), 400)
    flag = http.get("/api/v1/flags", params={"limit": 1}).json()["rows"][0]["id"]
    refused(http.post(f"/api/v1/flags/{flag}/accept", json={"reason": "Why not.", "until": at}), 422)
    lines = f"account,holder,level,until\nbooking,ines.calder,read,{at}\n"
    if not at.startswith(("9999", "2200")):
        report = http.post("/api/v1/imports/grants", params={"try_only": True}, content=lines).json()
        assert "1970" in str(report), report
    assert http.get("/api/v1/me").status_code == 200


@pytest.mark.parametrize("text", ["nul \0 in it", "half \ud800 of one", "bell \a"], ids=["nul", "surrogate", "bell"])
def test_text_that_can_not_be_kept_is_refused(http: httpx.Client, text: str) -> None:
    """In every field, in names of fields, and in queries."""
    body = json.dumps({"wants": True, text: text}).encode()
    refused(http.post("/api/v1/me/digest", content=body, headers={"Content-Type": "application/json"}), 422)
    body = json.dumps({"text": text}).encode()
    refused(http.post("/api/v1/rules/own/check", content=body, headers={"Content-Type": "application/json"}), 422)
    if "\ud800" not in text:
        refused(http.get("/api/v1/people", params={"search": text}), 422)


@pytest.mark.parametrize(
    "body",
    [
        b'{"limits": {"unused_days": 99999999999999999999}}',
        b'{"limits": {"unused_days": 1e999}}',
        b'{"limits": {"unused_days": NaN}}',
        b"[" * 5000,
        b'{"limits":' * 200 + b"1" + b"}" * 200,
        b"\xff\xfe",
        b"",
        b"[1" + b",1" * 200_000 + b"]",
    ],
    ids=["large", "infinite", "nan", "open", "deep", "bytes", "nothing", "many"],
)
def test_values_that_nothing_could_hold_are_refused(http: httpx.Client, body: bytes) -> None:
    """However they are wrapped."""
    refused(http.put("/api/v1/rules", content=body, headers={"Content-Type": "application/json"}), 422)


def test_a_cursor_that_was_tampered_with_is_refused(http: httpx.Client) -> None:
    """Whatever is in it."""
    plain = [["name", "x", "y"], ["name", 10**40, 10**40], ["name", "\0", "a" * 36], [[]], {"a": 1}, None, 3]
    odd = [b"[" * 2500, b"\xff", b'["until", "0001-01-01T00:00:00+23:59", "x"]']
    for content in [*(json.dumps(one).encode() for one in plain), *odd]:
        cursor = base64.urlsafe_b64encode(content).decode().rstrip("=")
        for sort in ("name", "until"):
            answer = http.get("/api/v1/grants", params={"cursor": cursor, "sort": sort})
            refused(answer, 400, 422)


@pytest.mark.parametrize("depth", [300, 1200])
def test_a_filter_is_nested_only_so_deep(http: httpx.Client, depth: int) -> None:
    """Parentheses and negations."""
    for filter_ in ("(" * depth + 'state eq "active"' + ")" * depth, "not (" * depth + "a pr" + ")" * depth):
        answer = http.get("/api/v1/grants", params={"filter": filter_[:1200]})
        assert answer.status_code == 200 or refused(answer, 400)


def test_headers_that_are_none_are_refused(http: httpx.Client, stack: Demo) -> None:
    """Versions and tokens in letters that are no digits, or no ASCII."""
    flag = http.get("/api/v1/flags", params={"limit": 1}).json()["rows"][0]["id"]
    for version in ("²".encode(), b"9" * 40, b"x", b'W/"3"'):
        answer = http.post(f"/api/v1/reviews/rounds/{flag}", headers=[(b"If-Match", version)])
        assert answer.status_code < 500
    with httpx.Client(base_url=stack.address, timeout=60) as browser:
        answer = browser.post("/api/v1/session", json={"address": ROLES["administrator"], "password": PASSWORD})
        assert answer.status_code == 200
        refused(browser.delete("/api/v1/session", headers=[(b"X-CSRF-Token", "é".encode())]), 403)


NOWHERE = [
    "/api/v1/nothing",
    "/api/",
    "/oauth/nothing",
    "/.well-known/nothing",
    "/scim/v1/Users",
    "/api/v1/people/not-an-id",
    "/assets/none.js",
]


@pytest.mark.parametrize("path", NOWHERE)
@pytest.mark.parametrize("method", ["GET", "POST", "DELETE"])
def test_paths_of_no_call_are_problems_and_no_pages(http: httpx.Client, path: str, method: str) -> None:
    """Never the console's page."""
    refused(http.request(method, path), 404)


@pytest.mark.parametrize(
    ("path", "allowed"), [("/api/v1/tokens", "POST"), ("/oauth/token", "POST"), ("/api/v1/me", "GET")]
)
def test_a_path_without_the_method_says_which_it_has(http: httpx.Client, path: str, allowed: str) -> None:
    """By RFC 9110, 15.5.6."""
    answer = http.request("PATCH" if allowed == "GET" else "GET", path)
    refused(answer, 405)
    assert set(answer.headers["Allow"].split(", ")) - {"HEAD", "OPTIONS"} >= {allowed}
    assert "GET" in answer.headers["Allow"].split(", ") or allowed != "GET"


def test_no_file_is_told_of_that_is_not_the_consoles(http: httpx.Client) -> None:
    """One that exists elsewhere answers as one that does not."""
    asked = [
        "/..%2f..%2f..%2fetc%2fpasswd",
        "/%2e%2e/app.py",
        "/..%2fapp.py",
        "/" + "a" * 300,
        "/" + "%2e%2e%2f" * 20 + "etc/x",
    ]
    page = http.get("/")
    for asset in re.findall(r'(?:src|href)="(/assets/[^"]+)"', page.text):
        assert http.get(asset).headers["Content-Type"].startswith(("text/css", "text/javascript"))
    pages = {(answer.status_code, answer.text) for answer in map(http.get, asked)}
    assert len(pages) == 1
    assert "<html" in pages.pop()[1]


@pytest.mark.parametrize(
    ("asked", "chosen", "given"),
    [
        ("de-AT,en;q=0.5", "", "de"),
        ("fr,en;q=0.5,de;q=0.4", "", "en"),
        ("de;q=0, fr", "", "en"),
        ("de", "en", "en"),
        ("en", "de", "de"),
        ("de", "../../etc", "de"),
        ("x" * 4000, "", "en"),
    ],
)
def test_the_page_comes_in_the_language_that_was_chosen_or_is_asked_for(
    stack: Demo, asked: str, chosen: str, given: str
) -> None:
    """By a header and a cookie of whoever asks; what is no language counts for nothing."""
    with httpx.Client(base_url=stack.address) as anybody:
        page = anybody.get("/", headers={"Accept-Language": asked, "Cookie": f"openlatch_language={chosen}"})
        assert (page.status_code, page.headers["Content-Language"]) == (200, given)
        assert f'<html lang="{given}">' in page.text
        assert anybody.get("/de/assets/of-another-version.js").status_code == 404


def opened(http: httpx.Client, **headers: str) -> Iterator[str]:
    """The lines of an event stream."""
    with http.stream("GET", "/api/v1/events", headers=headers, timeout=30) as stream:
        assert stream.status_code == 200
        yield from stream.iter_lines()


def test_streams_hold_up_nothing_and_nobody_has_all_of_them(stack: Demo, tokens: dict[str, str]) -> None:
    """Of two hundred by one person most are refused; health is told, and everybody else is answered."""
    headers = {"Authorization": f"Bearer {tokens['owner']}"}
    with ExitStack() as kept:
        http = kept.enter_context(httpx.Client(base_url=stack.address, limits=httpx.Limits(max_connections=None)))
        answers = [kept.enter_context(http.stream("GET", "/api/v1/events", headers=headers)) for _ in range(200)]
        statuses = Counter(answer.status_code for answer in answers)
        assert set(statuses) == {200, 429}
        # Each of the web processes lets twelve in.
        assert 12 <= statuses[200] <= 24
        assert httpx.get(f"{stack.address}/healthz", timeout=5).status_code == 200
        others = {"Authorization": f"Bearer {tokens['administrator']}"}
        assert httpx.get(f"{stack.address}/api/v1/me", headers=others, timeout=5).status_code == 200
        kept.enter_context(http.stream("GET", "/api/v1/events", headers=others))


def test_a_stream_ends_with_the_session_that_it_was_opened_by(stack: Demo) -> None:
    """Signed out, it tells of nothing any more."""
    with httpx.Client(base_url=stack.address, timeout=60) as browser:
        signed = browser.post("/api/v1/session", json={"address": ROLES["reviewer"], "password": PASSWORD})
        lines = opened(browser, Cookie=f"{COOKIE}={browser.cookies[COOKIE]}")
        assert next(lines).startswith("retry")
        assert browser.delete("/api/v1/session", headers={"X-CSRF-Token": signed.json()["csrf"]}).status_code == 200
        # It ends; at most one sign of life was on its way.
        assert list(lines).count(": still here") <= 1


def test_whoever_takes_too_long_to_ask_holds_no_thread(stack: Demo, tokens: dict[str, str]) -> None:
    """Fifty requests that never end are closed; meanwhile everybody is answered who comes after they are."""
    host, port = stack.address.removeprefix("http://").split(":")
    with ExitStack() as kept:
        slow = [kept.enter_context(socket.create_connection((host, int(port)), 60)) for _ in range(70)]
        for line in slow:
            line.sendall(b"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n")
        assert httpx.get(f"{stack.address}/healthz", timeout=50).status_code == 200
        assert all(line.recv(1) == b"" for line in slow[:5])


def test_who_is_in_front_is_believed_only_when_trusted(stack: Demo) -> None:
    """Without a proxy that is, nobody makes a cookie that goes over TLS only, or another address."""
    body = {"address": ROLES["reviewer"], "password": PASSWORD}
    said = {"X-Forwarded-Proto": "https", "X-Forwarded-Host": "evil.example", "Forwarded": "proto=https"}
    answer = httpx.post(f"{stack.address}/api/v1/session", json=body, headers=said, timeout=30)
    assert answer.status_code == 200
    assert "Secure" not in answer.headers["Set-Cookie"]
    assert "Strict-Transport-Security" not in answer.headers


def test_one_asker_never_has_all_threads() -> None:
    """What is more than their share waits, and is let in when something of theirs is done."""
    busy = Busy()
    with ExitStack() as going_on:
        for _ in range(Busy.most):
            going_on.enter_context(busy.one_more("ann"))
        with pytest.raises(TooMany), busy.one_more("ann"):
            pass
        with busy.one_more("bob"):
            pass
    with busy.one_more("ann"):
        pass


def test_a_line_that_is_too_long_is_a_problem_document(stack: Demo) -> None:
    """Also where no call has been made out yet."""
    host, port = stack.address.removeprefix("http://").split(":")
    for sent, status in (
        (b"GET /" + b"a" * 9000 + b" HTTP/1.1\r\nHost: x\r\n\r\n", b"414"),
        (b"GET / HTTP/1.1\r\nHost: x\r\nX: " + b"a" * 70_000 + b"\r\n\r\n", b"431"),
        (b"NONSENSE\r\n\r\n", b"400"),
    ):
        with socket.create_connection((host, int(port)), 10) as line:
            line.sendall(sent)
            told = b""
            while block := line.recv(65_536):
                told += block
        assert told.startswith(b"HTTP/1.1 " + status), told[:100]
        assert b"application/problem+json" in told
