"""What the service says in another language: all of it, and nothing but what it says."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from babel.messages.pofile import read_po
from pydantic import BaseModel

from openlatch.api.routes import api
from openlatch.demo.loader import PASSWORD
from openlatch.languages import catalogue, source
from openlatch.languages.catalogue import Catalogue, Sentence, catalogue_of
from openlatch.languages.wire import SAID, _Every, _plan_of
from openlatch.runtime.demo import Demo
from tests.conftest import ROLES

LANGUAGES = [language for language in catalogue.known() if language != catalogue.ENGLISH]
GERMAN = {"Accept-Language": "de-AT, en;q=0.5"}


def german() -> Catalogue:
    found = catalogue_of("de")
    assert found is not None
    return found


@pytest.mark.parametrize("language", LANGUAGES)
def test_a_catalogue_has_all_that_the_source_says_and_nothing_else(language: str) -> None:
    lacking, idle = source.compared(language)
    assert not lacking, f"{len(lacking)} without translation: {list(lacking.items())[:5]}"
    assert not idle, f"nobody says this any more: {sorted(idle)[:5]}"


@pytest.mark.parametrize("language", LANGUAGES)
def test_a_translation_names_no_part_that_its_sentence_lacks(language: str) -> None:
    with (catalogue._FOLDER / f"{language}.po").open("rb") as file:
        for one in read_po(file, locale=language):
            if one.id:
                parts, told = (Counter(re.findall(r"\{(\w+)\}", str(text))) for text in (one.id, one.string))
                assert told <= parts, f"{one.string} has parts that {one.id} lacks"


def test_what_the_source_can_say_is_read_from_it() -> None:
    """By each way that a condition can go, with the names of its parts; statements and logs are left out."""
    tree = (
        "def f(a):\n    'A docstring that is not said.'\n    log.warning('a line of the log')\n"
        "    what = f\"{a.name} is {'not ' if a.off else ''}open to {len(a.people)} people.\"\n"
        "    raise Refused(what, 'Look ' + 'again.')\n"
        "    db.execute('select 1 from people')\n    counted(n, 'box', 'boxes')\n"
    )
    assert {text for _, text in source._of_module(source.ast.parse(tree))} == {
        "{name} is not open to {n} people.",
        "{name} is open to {n} people.",
        "Look again.",
        "{n} box",
        "{n} boxes",
    }


@pytest.mark.parametrize(
    ("said", "told"),
    [
        (
            "Ines left on 3 March 2026 and still holds “Keeper” on Desk.",
            "Ines ist am 3. März 2026 gegangen und hat noch „Keeper“ auf Desk.",
        ),
        ("1,234 grants of Ines will be revoked.", "1.234 Zugriffsrechte von Ines werden entzogen."),
        # Who has that name is nobody's business: only what is said around it is in another language.
        (
            "Wait for the owner holds “Revoke it.” on Never used since given",
            "Wait for the owner hat „Revoke it.“ auf Never used since given",
        ),
        (
            "Ines owns Desk, Desk holds “Read” on Mail",
            "Ines ist Eigentümer von Desk, Desk hat „Read“ auf Mail",
        ),
        # A login can be called by a word of ours, and is still called so.
        ("reviewer holds “Reader” on reviews", "reviewer hat „Reader“ auf reviews"),
        # What is signed is left as it is, letter by letter.
        ('{"size": 12, "said": "Revoke it."}', '{"size": 12, "said": "Revoke it."}'),
        # A sentence and a subject are one text, with a full stop and without.
        ("The password does not fit", "The password does not fit"),
        ("Trim it to an end date", "Kürzen Sie es auf ein Enddatum"),
        # What somebody wrote stays as it is, also where it has words of ours in it.
        ("They said: revoke it. The rest is fine.", "They said: revoke it. The rest is fine."),
        ("Skipped by Ines: The provider answers nobody.", "Übersprungen von Ines: The provider answers nobody."),
        ("", ""),
    ],
)
def test_sentences_are_known_by_their_words_and_names_stay(said: str, told: str) -> None:
    assert german().say(said) == told


def test_a_text_made_up_to_keep_it_busy_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    """After so many tries, whatever it is made of."""
    tried = Counter[str]()
    match = catalogue.Pattern.matches

    def counted(self: Any, text: str) -> Any:
        tried["all"] += 1
        return match(self, text)

    monkeypatch.setattr(catalogue.Pattern, "matches", counted)
    monkeypatch.setattr(catalogue, "_MOST_TRIES", 500)
    sentences = [
        Sentence(f"{{a}} {one} {{b}} {other} {{c}}", f"{{a}} {one} {{b}} {other} {{c}}", [catalogue.OF_NAMES])
        for one in ("is", "on", "to", "of")
        for other in ("and", "or", "in", "by")
    ]
    made_up = " ".join(f"x{n} is on to of and or in by," for n in range(60))
    assert Catalogue("de", sentences).say(made_up)
    assert 250 < tried["all"] <= 500


@pytest.fixture(scope="module")
def browser(stack: Demo) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=f"{stack.address}/api/v1", timeout=120) as client:
        sign_in = {"address": ROLES["administrator"], "password": PASSWORD}
        client.headers["X-CSRF-Token"] = client.post("/session", json=sign_in).json()["csrf"]
        yield client


def test_an_answer_is_in_the_language_that_its_reader_has_chosen(browser: httpx.Client) -> None:
    """Only what is said; names, ids and what programs compare are as they are. The console's choice comes first."""
    english = browser.get("/flags?limit=5").json()["rows"]
    answered = browser.get("/flags?limit=5", headers=GERMAN)
    assert answered.headers["Content-Language"] == "de"
    assert {"Accept-Language", "Cookie"} <= {one.strip() for one in answered.headers["Vary"].split(",")}
    for was, row in zip(english, answered.json()["rows"], strict=True):
        for field in ("title", "sentence", "remedy"):
            assert row[field] == german().say(was[field])
        assert {name: value for name, value in row.items() if name not in ("title", "sentence", "remedy")} == {
            name: value for name, value in was.items() if name not in ("title", "sentence", "remedy")
        }
    chosen = {**GERMAN, "Cookie": f"openlatch_session={browser.cookies['openlatch_session']}; openlatch_language=en"}
    assert "Content-Language" not in httpx.get(f"{browser.base_url}flags?limit=1", headers=chosen).headers
    assert "Content-Language" not in browser.get("/flags?limit=1", headers={"Accept-Language": "cy, fr"}).headers


def test_what_search_finds_is_said_where_it_is_a_sentence(browser: httpx.Client) -> None:
    """The sentence of a flag is; the name of an account or a person is not, whatever it is called."""
    found = browser.get("/search?q=booking+desk", headers=GERMAN).json()["found"]
    was = browser.get("/search?q=booking+desk").json()["found"]
    flags = [(told["label"], one["label"]) for told, one in zip(found, was, strict=True) if one["kind"] == "flags"]
    assert flags
    assert all(told == german().say(label) != label for told, label in flags)
    names = [(told["label"], one["label"]) for told, one in zip(found, was, strict=True) if one["kind"] != "flags"]
    assert all(told == label for told, label in names)


def test_a_refusal_is_in_their_language_too_and_a_repeated_call_in_each(browser: httpx.Client) -> None:
    refused = browser.post("/offers", json={"account": "x"}, headers=GERMAN)
    assert refused.json()["title"] == "Ungültige Anfrage"
    assert refused.json()["remedy"] == "Sehen Sie sich die genannten Felder an."
    assert browser.get("/grants?filter=nothing", headers=GERMAN).json()["detail"].startswith("Der Fehler steht")
    assert browser.get("/accounts/x", headers=GERMAN).json()["title"] == "Nicht gefunden"


def test_all_that_the_demo_says_is_in_the_catalogue(browser: httpx.Client) -> None:
    """Besides what the demo's own people wrote: the sentences of levels, rules of their own, words of partners."""
    texts: dict[str, str] = {}
    ids: dict[str, list[str]] = {}
    for route in (one for one in api if one.method == "GET" and one.answer is not None and not one.streams):
        if "<" not in route.path:
            found = _collect(browser, route.path, route.answer, texts)
            rows = found.get("rows") or []
            ids[route.path] = [str(row["id"]) for row in rows if isinstance(row, dict) and "id" in row][:10]
    for route in (one for one in api if one.method == "GET" and one.answer is not None):
        above, _, rest = route.path.partition("/<")
        if above in ids and "<" not in rest:
            for ident in ids[above]:
                _collect(browser, re.sub(r"<[^>]*>", ident, route.path), route.answer, texts)
    theirs = re.compile(r"^(Can .*|.* on .*|Administrator of .*)$")
    levels = browser.get("/levels").json()["rows"]
    own = {one["sentence"] for level in levels for one in (level, *level["permissions"])}
    custom = browser.get("/rules/own").text
    unknown = {
        text: where
        for text, where in texts.items()
        if text and not german().knows(text) and text not in own and not theirs.match(text) and text not in custom
    }
    assert len(texts) > 1000
    assert len(unknown) < len(texts) / 50, unknown


def _collect(browser: httpx.Client, path: str, model: type[BaseModel], texts: dict[str, str]) -> dict[str, Any]:
    answer = browser.get(path)
    if answer.status_code != 200 or answer.headers["Content-Type"] != "application/json":
        return {}
    _walk(_plan_of(model), answer.json(), path, texts)
    found = answer.json()
    return found if isinstance(found, dict) else {}


def _walk(plan: Any, value: Any, where: str, texts: dict[str, str]) -> None:
    if isinstance(value, str) and plan is SAID:
        texts.setdefault(value, where)
    elif isinstance(value, list):
        for one in value:
            _walk(plan, one, where, texts)
    elif isinstance(value, dict) and plan is not None and plan is not SAID:
        for name, one in value.items():
            _walk(plan.plan if isinstance(plan, _Every) else plan.get(name), one, f"{where} {name}", texts)
