"""The API itself: problems, forged calls, the same call twice, versions, the stream, the document."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from uuid import UUID, uuid4

import httpx
import psycopg
import pytest
from openapi_spec_validator import validate

import openlatch.api.app  # noqa: F401  its routes put themselves into the table
from openlatch import schemas
from openlatch.api.routes import api
from openlatch.api.routing import PREFIX
from openlatch.client import CallFailed, Client, Unreachable
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import DATABASE, Demo
from tests.conftest import ROLES, lines


@pytest.fixture
def http(stack: Demo, tokens: dict[str, str]) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {tokens['administrator']}"}
    with httpx.Client(base_url=stack.address + PREFIX, headers=headers, timeout=30) as made:
        yield made


@pytest.fixture
def browser(stack: Demo) -> Iterator[tuple[httpx.Client, str]]:
    """A signed-in browser, and the token that its pages carry."""
    with httpx.Client(base_url=stack.address + PREFIX) as made:
        found = made.post("/session", json={"address": ROLES["administrator"], "password": PASSWORD})
        yield made, found.json()["csrf"]


def test_the_document_is_valid_openapi_and_names_every_call(http: httpx.Client) -> None:
    """Complete, with answers and problems."""
    document = http.get("/openapi.json").json()
    validate(document)
    assert document["openapi"].startswith("3.1")
    named = {op["operationId"] for path in document["paths"].values() for op in path.values()}
    assert named == {route.name for route in api} | {"events"}
    decide = document["paths"][f"{PREFIX}/rounds/{{ident}}/items/{{item}}/decision"]["post"]
    assert {p["name"] for p in decide["parameters"]} == {"ident", "item", "Idempotency-Key", "If-Match"}
    assert decide["responses"]["409"]["$ref"].endswith("/problem")


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "told"),
    [
        ("GET", "/accounts?filter=shoe+pr", None, 400, "no attribute 'shoe'"),
        ("GET", "/accounts?filter=name+eq", None, 400, "It goes wrong at character 6"),
        ("GET", "/accounts?limit=100000", None, 422, "limit"),
        ("GET", "/accounts?shoe=1", None, 422, "shoe"),
        ("GET", "/accounts/00000000-0000-7000-8000-000000000000", None, 404, "nothing with this id"),
        ("GET", "/nothing", None, 404, "no such call"),
        ("POST", "/rounds", "{", 422, "not JSON"),
        ("POST", "/rounds", '{"name": "x", "days": "soon"}', 422, "days"),
        ("POST", "/rounds", '{"name": "x", "shoe": 1}', 422, "shoe"),
        ("POST", "/revocations", '{"reason": "x"}', 422, "Nothing is named"),
        ("POST", "/revocations", '{"reason": "x", "grants": ["x"]}', 422, "grants.0"),
        ("DELETE", "/rounds", None, 405, "not allowed"),
    ],
)
def test_problems_say_what_is_wrong_and_what_to_do(
    http: httpx.Client, method: str, path: str, body: str | None, status: int, told: str
) -> None:
    """As problem documents by RFC 9457."""
    response = http.request(method, path, content=body, headers={"Content-Type": "application/json"})
    assert response.status_code == status
    assert response.headers["Content-Type"] == "application/problem+json"
    problem = response.json()
    assert problem["status"] == status
    assert told in problem["detail"]
    assert problem["remedy"] or status == 405


def test_a_forged_call_is_refused(browser: tuple[httpx.Client, str]) -> None:
    """The cookie alone changes nothing; a form can't be sent at all."""
    http, csrf = browser
    assert http.get("/me").json()["csrf"] == csrf
    assert http.post("/rounds", json={"name": "x"}).status_code == 403
    assert http.post("/rounds", json={"name": "x"}, headers={"X-CSRF-Token": "0" * 64}).status_code == 403
    form = http.post("/rounds", data={"name": "x"}, headers={"X-CSRF-Token": csrf})
    assert form.status_code == 422
    assert "application/json" in form.json()["remedy"]


def test_a_session_is_kept_from_scripts_and_other_sites_and_ends_at_once(browser: tuple[httpx.Client, str]) -> None:
    """Signed out means signed out, whoever copied the cookie."""
    http, csrf = browser
    copied = http.cookies["openlatch_session"]
    cookie = http.post("/session", json={"address": ROLES["owner"], "password": PASSWORD}).headers["Set-Cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    http.cookies.set("openlatch_session", copied, domain="127.0.0.1")
    http.cookies.clear()
    headers = {"Cookie": f"openlatch_session={copied}"}
    assert http.get("/me", headers=headers).status_code == 200
    assert http.delete("/session", headers={**headers, "X-CSRF-Token": csrf}).status_code == 200
    assert http.get("/me", headers=headers).status_code == 401


def test_guessing_passwords_is_stopped_and_tells_nothing(stack: Demo) -> None:
    """Ten tries for an address, then longer and longer waits; an unknown address answers in the same words."""
    with httpx.Client(base_url=stack.address + PREFIX) as http:

        def attempt(address: str, password: str) -> httpx.Response:
            return http.post("/session", json={"address": address, "password": password})

        answers = [attempt("nobody@example.org", "x")]
        # A busy machine may take longer to answer than the first waits are.
        while answers[-1].status_code == 401 and len(answers) < 17:
            answers.append(attempt("nobody@example.org", "x"))
        known = attempt(ROLES["stranger"], "wrong")
    assert len(answers) > 10
    assert answers[-1].status_code == 429
    assert int(answers[-1].headers["Retry-After"]) > 0
    told = [{**one.json(), "request_id": ""} for one in (answers[0], known)]
    assert told[0] == told[1]


def test_answers_carry_the_headers_that_keep_pages_safe(stack: Demo) -> None:
    """No inline script, no framing, no sniffing; nothing is kept on the way, and no other site may read an answer."""
    answer = httpx.get(stack.address)
    assert answer.status_code == 200
    policy = answer.headers["Content-Security-Policy"]
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert {"frame-ancestors 'none'", "default-src 'none'", "base-uri 'none'"} <= set(policy.split("; "))
    told = httpx.get(f"{stack.address}{PREFIX}/me", headers={"Origin": "https://elsewhere.example.com"}).headers
    assert (told["Referrer-Policy"], told["Cache-Control"]) == ("no-referrer", "no-store")
    assert not [name for name in told if name.lower().startswith("access-control-")]
    assert answer.headers["X-Content-Type-Options"] == "nosniff"
    assert httpx.get(stack.address + "/..%2f..%2fapp.py").headers["Content-Type"].startswith("text/html")


def test_the_same_call_twice_is_carried_out_once(http: httpx.Client) -> None:
    """Also when both come at the same time; the same key for another call is refused."""
    key = {"Idempotency-Key": str(uuid4())}
    body = {"name": f"Round {uuid4()}", "scope": 'account.name eq "Hut calendar"'}
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda _: http.post("/rounds", json=body, headers=key), range(6)))
    assert {a.status_code for a in answers} == {201}
    assert len({a.json()["id"] for a in answers}) == 1
    assert sum("Idempotency-Replayed" in a.headers for a in answers) == 5
    assert http.post("/rounds", json={**body, "days_to_decide": 3}, headers=key).status_code == 409
    named = http.get("/rounds", params={"filter": f'name eq "{body["name"]}"'}).json()["rows"]
    assert len(named) == 1


def test_an_answer_with_a_secret_is_not_kept_to_be_given_again(stack: Demo, tokens: dict[str, str]) -> None:
    """A calendar's address: the same call again is refused, and the address that was given still opens it."""
    headers = {"Authorization": f"Bearer {tokens['reviewer']}", "Idempotency-Key": str(uuid4())}
    first, second = (httpx.post(f"{stack.address}{PREFIX}/me/calendar", headers=headers) for _ in range(2))
    assert first.status_code == 200
    assert (second.status_code, first.json()["address"] in second.text) == (409, False)
    assert httpx.get(first.json()["address"]).status_code == 200


def test_two_reviewers_on_one_item_do_not_overwrite_each_other(client: Client) -> None:
    """One wins, the other is told."""
    scope = 'account.name eq "Path map archive" and holder.kind eq "app"'
    found = client.open_round(schemas.OpenRound(name="Two at once", scope=scope, acts="at_close"))
    (item,) = client.items(found.id)
    outcomes: list[str] = []

    def decide(reason: str) -> None:
        try:
            client.decide(item, "keep", reason)
            outcomes.append("done")
        except CallFailed as refused:
            outcomes.append(refused.detail)

    threads = [threading.Thread(target=decide, args=(f"Reason {n}",)) for n in range(2)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert sorted(outcomes) == ["Somebody else changed this item meanwhile.", "done"]


def test_lists_are_followed_by_their_links(http: httpx.Client) -> None:
    """RFC 8288, to the end, each row once."""
    path, seen = "/grants?limit=40&sort=account.name", []
    while path:
        answer = http.get(path.removeprefix(PREFIX))
        seen += [row["id"] for row in answer.json()["rows"]]
        path = answer.links.get("next", {}).get("url", "")
    assert len(seen) == len(set(seen)) == http.get("/grants?count=true&limit=1").json()["count"]
    assert len(seen) > 180


def test_a_change_is_announced_the_moment_it_is_committed(http: httpx.Client) -> None:
    """To whoever is listening in the organisation, and to nobody else."""
    with http.stream("GET", "/events", timeout=20) as stream:
        events = _events(stream)
        assert next(events) == {"kinds": ["everything"]}
        http.post("/rounds", json={"name": "Announced", "scope": 'account.name eq "Hut calendar"'})
        for event in events:
            if "round" in event["kinds"]:
                break


def _events(stream: httpx.Response) -> Iterator[dict[str, Any]]:
    for line in stream.iter_lines():
        if line.startswith("data: "):
            yield json.loads(line[6:])


def test_an_import_over_http_reports_each_bad_line(client: Client) -> None:
    """Streamed, and all or nothing."""
    good = {"key": "visiting.one", "name": "Visiting One", "address": "one@example.net", "inside": False}
    report = client.bring("people", [lines(good), b'{"key": "visiting.two"}\n', b"{\n"], form="jsonl")
    assert (report.kept, report.read, report.bad) == (False, 3, 2)
    assert [(e.line, e.field) for e in report.errors] == [(2, "name"), (3, "")]
    assert client.list("people", filter='name eq "Visiting One"').rows == []
    kept = client.bring("people", [lines(good)], form="jsonl")
    assert (kept.kept, kept.added) == (True, 1)


def test_a_step_by_hand_waits_for_a_person_and_their_word(client: Client) -> None:
    """Then the access is gone, with who said so in the proof."""
    grant = client.list("grants", filter='account.name eq "Volunteer rota" and holder.name eq "Jory Penhale"').rows[0]
    found = client.revoke("He left.", grants=[grant.id], fingerprint=client.preview(grants=[grant.id]).fingerprint)
    assert found.state == "by_hand"
    assert client.grant(grant.id).state == "revoking"
    for step in found.step_list:
        found = client.step_done(found.id, step.id, "Removed him in the calendar's settings.")
    assert (found.state, found.confirmed, found.confirmed_at) == ("stated", 0, None)
    assert (client.grant(grant.id).ended_as, client.grant(grant.id).proof) == ("stated", "stated")
    with pytest.raises(CallFailed, match="does not wait for hands"):
        client.step_done(found.id, found.step_list[0].id, "Again.")
    entries = client.list("journal", filter='action eq "step.done"', limit=20).rows
    assert any("Ines Calder says: Removed him" in entry.facts["answer"] for entry in entries)


def test_a_flag_is_accepted_once_until_a_day(client: Client) -> None:
    """With a reason; and the journal tells."""
    flag = client.list("flags", filter='state eq "open" and rule eq "no_end_date"', limit=1).rows[0]
    until = flag.raised_at.replace(year=flag.raised_at.year + 1)
    accepted = client.accept_flag(flag.id, "Known.", until)
    assert (accepted.state, accepted.accepted_by and accepted.accepted_by.name) == ("accepted", "Ines Calder")
    with pytest.raises(CallFailed, match="is accepted, not open"):
        client.accept_flag(flag.id, "Again.", until)


def test_the_journal_of_the_running_service_verifies(client: Client) -> None:
    """After all that these tests do at the same time."""
    verdict = client.verify_journal()
    assert verdict.sound
    assert verdict.entries == verdict.position > 500
    assert not client.verify_journal(verdict.position, "0" * 64).sound


def test_a_service_that_is_not_there_is_told_from_one_that_says_no() -> None:
    """With what to look at."""
    with Client("http://127.0.0.1:1", "x") as client, pytest.raises(Unreachable, match="No service answered"):
        client.me()


def test_a_latch_that_holds_is_told_in_full_in_the_problem_document(client: Client) -> None:
    """Which, the fact, and what would pass, so that a page can show each."""
    ledger = client.list("accounts", filter='name eq "Donations ledger"').rows[0]
    pay = client.list("levels", filter=f'key eq "pay" and system.id eq "{ledger.system.id}"').rows[0]
    proposal = schemas.OfferProposal.model_validate(
        {"account": ledger.id, "to": [{"address": "new@wardens.example.net", "name": "New"}], "levels": [pay.id]}
    )
    assert [b.mode for b in client.preview_offer(proposal).to[0].latches] == ["hold"]
    with pytest.raises(CallFailed) as error:
        client.send_offer(proposal)
    problem = error.value.problem
    assert (problem.status, problem.type, problem.title) == (409, "urn:openlatch:problem:held", "A latch holds")
    assert problem.breaches[0]["latch"] == "No outsider may spend"
    assert problem.breaches[0]["remedy"]


def test_tokens_are_exchanged_introspected_and_ended_as_the_standards_say(stack: Demo, tokens: dict[str, str]) -> None:
    """RFC 8693, RFC 7662, RFC 7009, RFC 8414; errors by RFC 6749."""
    with Client(stack.address, tokens["delegate"]) as client:
        box = client.list("accounts", filter='name eq "Booking desk mailbox"').rows[0].id
        made = client.exchange(tokens["delegate"], box)
        assert (made["token_type"], made["expires_in"]) == ("Bearer", 300)
        assert made["issued_token_type"] == "urn:ietf:params:oauth:token-type:access_token"
        found = client.introspect(made["access_token"])
        assert (found["active"], found["aud"], found["act"]["name"]) == (True, str(box), "Fenna Aldous")
        with Client(stack.address, made["access_token"]) as acting:
            me = acting.me()
            assert me.inside is not None
            assert me.inside.owner is not None
            assert me.inside.owner.name == "Tobias Renn"
            assert [row.name for row in acting.list("accounts").rows] == ["Booking desk mailbox"]
        client.revoke_token(made["access_token"])
        assert client.introspect(made["access_token"]) == {"active": False}
        with Client(stack.address, made["access_token"]) as acting, pytest.raises(CallFailed, match="has been ended"):
            acting.me()
        with pytest.raises(CallFailed, match="invalid_target"):
            client.exchange(tokens["delegate"], uuid4())
        with pytest.raises(CallFailed, match="invalid_request"):
            client.exchange("nonsense", box)
    described = httpx.get(f"{stack.address}/.well-known/oauth-authorization-server").json()
    assert described["issuer"] == stack.address
    assert httpx.get(described["jwks_uri"]).json()["keys"][0]["alg"] == "RS256"
    refused = httpx.post(described["token_endpoint"], data={"grant_type": "password"})
    assert (refused.status_code, refused.json()["error"]) == (400, "unsupported_grant_type")
    assert httpx.post(described["introspection_endpoint"], data={"token": "x"}).status_code == 401


def test_whoever_comes_over_from_a_partner_has_proved_nothing_there(stack: Demo) -> None:
    """The session at the client is new, and asks for a proof where one is needed; by a token nobody comes over."""
    with httpx.Client(base_url=stack.address + PREFIX, timeout=30) as http:
        known = {"address": "pia.castell@slate-and-fern.example.com", "password": PASSWORD}
        csrf = http.post("/session", json=known).json()["csrf"]
        rows = http.get("/me/organisations").json()["organisations"]
        (there,) = [row["sign_in"] for row in rows if not row["is_current"]]
        bearer = {"Authorization": f"Bearer {http.post('/tokens', json=known).json()['token']}"}
        refused = httpx.post(f"{stack.address}{PREFIX}/me/organisations/{there}/switch", json={}, headers=bearer)
        assert (refused.status_code, "signed-in browser" in refused.text) == (403, True)
        over = http.post(f"/me/organisations/{there}/switch", json={}, headers={"X-CSRF-Token": csrf}).json()
        assert (over["organisation"]["name"], over["as_partner"]) == ("Hollin Fell Huts", True)
        answer = http.post("/me/factor", json={}, headers={"X-CSRF-Token": over["csrf"]})
        assert (answer.status_code, answer.json()["type"]) == (403, "urn:openlatch:problem:proof-needed")


def test_days_and_values_refuse_what_nobody_means(client: Client) -> None:
    """With the field at fault and what to do; never a fault of the service."""
    calls = (
        ("/days?words=soon", 422, "words"),
        ("/days?words=" + "9" * 61, 422, "words"),
        ("/days?words=1%00Mar", 422, "words"),
        ("/trends?until=0001-01-02", 422, "since"),
        ("/trends?since=2001-01-01&span=day", 422, "span"),
        ("/trends?span=century", 422, "span"),
        ("/attributes/nothing", 404, ""),
        ("/attributes/grants/values?attribute=nothing", 400, "filter"),
        ("/attributes/grants/values?attribute=level%00", 422, "attribute"),
        ("/attributes/grants/values?attribute=level&words=%00", 422, ""),
    )
    for path, status, field in calls:
        with pytest.raises(CallFailed) as refused:
            client._transport.call("GET", path)
        assert refused.value.problem.status == status, path
        assert not field or field in refused.value.problem.fields, path
    assert client.values("grants", "level", "%") == []


def test_figures_over_time_and_today_agree(client: Client) -> None:
    """On what is open to outsiders, and how many flags are open."""
    now = client.trends().points[-1]
    today = client.today()
    assert now.exposures == today.exposures.open
    assert now.flags == sum(today.flags.by_severity.values())


# What belongs to a person, by the part of what is held about them: counted without the service.
THEIRS = {
    "logins": "select id from handles where person_id = %(who)s",
    "sign_ins": "select id from sign_ins where person_id = %(who)s",
    "api_tokens": "select t.id from api_tokens t join sign_ins s on s.id = t.sign_in_id where person_id = %(who)s",
    "grants": "select id from grants where person_id = %(who)s",
    "sessions": "select id from sessions where person_id = %(who)s",
    "flags": "select id from flags where %(who)s in (holder_id, assigned_to_id)",
    "offers": "select id from offers where %(who)s in (person_id, sender_id)",
    "requests": "select id from requests where person_id = %(who)s",
    "notices": "select id from notices where person_id = %(who)s",
    "review_items": """
        select id from items where decided_by_id = %(who)s
            or grant_id in (select id from grants where person_id = %(who)s)
    """,
}


def test_what_is_held_about_somebody_is_all_of_it_and_nobody_elses(client: Client, stack: Demo) -> None:
    """Of each kind, of those of whom most is held."""
    client.prove(PASSWORD)
    compared = dict.fromkeys(THEIRS, 0)
    with psycopg.connect(stack.register.url(DATABASE), autocommit=True) as db:

        def theirs(part: str, who: UUID) -> set[str]:
            return {str(ident) for (ident,) in db.execute(THEIRS[part], {"who": who})}  # type: ignore[call-overload]

        for row in client.list("people", filter="name pr", limit=100).rows:
            before = {part: theirs(part, row.id) for part in THEIRS}
            if not any(before[part] and not compared[part] for part in THEIRS):
                continue
            held = client.held_data(row.id)
            for part, expected in before.items():
                found = {str(one["id"]) for one in getattr(held, part)}
                # The worker may have told them something meanwhile.
                assert expected <= found <= theirs(part, row.id), (row.name, part)
                compared[part] += len(found)
    assert all(compared.values()), compared


def test_the_documentation_is_there_for_everybody(stack: Demo) -> None:
    """With a search, under the same policy as all pages, and with a page for what is not there."""
    with httpx.Client(base_url=stack.address) as http:
        assert http.get("/docs").headers["location"] == "/docs/"
        first = http.get("/docs/")
        assert "Who and what can reach each shared account" in first.text
        assert "script-src 'self'" in first.headers["content-security-policy"]
        assert "style=" not in first.text
        assert not re.search(r"<script(?![^>]* src=)", first.text)
        index = http.get("/docs/search/search_index.json").json()
        assert {"reference/commands.html", "reference/calls.html", "how-to/review.html"} <= {
            entry["location"].partition("#")[0] for entry in index["docs"]
        }
        lost = http.get("/docs/no/such/page.html")
        assert (lost.status_code, "There is no such page" in lost.text) == (404, True)
        assert http.get("/docs/%2e%2e/app.py").status_code == 404
        assert http.post("/docs/").status_code == 404
