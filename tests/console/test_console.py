"""The console in headless Chromium, against the running service."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import psycopg
import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Browser, Locator, Page, expect, sync_playwright

from openlatch.client import Client
from openlatch.core.reviews import evidence_bundle
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import DATABASE, Demo
from openlatch.test_systems import telemetry
from tests.browser import launch
from tests.conftest import ROLES
from tests.seeds import in_turn
from tests.waiting import until

# A machine that others use too answers late at times.
expect.set_options(timeout=120_000)
# Where the forms are that make, change and merge records.
FORMS = [
    ("/people", "Add a person"),
    ("person", "Edit"),
    ("person", "Merge…"),
    ("account", "Record existing access"),
    ("account", "Edit"),
    ("/systems", "Connect or name a system"),
    ("/sign-ins", "Invite somebody"),
    ("/partners", "Offer to act for a client"),
    ("/partners", "End the link with Slate & Fern"),
    ("/mine", "Ask for access"),
]
AGENCY = "pia.castell@slate-and-fern.example.com"
DESK, PHONE = {"width": 1280, "height": 800}, {"width": 390, "height": 844}
TABLET = {"width": 768, "height": 1024}
Open = Callable[..., Page]


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        made = launch(playwright)
        yield made
        made.close()


@pytest.fixture
def signed_in(browser: Browser, stack: Demo) -> Iterator[Open]:
    """Opens a page as one of the demo's people; an error on a page fails the test."""
    faults: list[str] = []
    contexts = []

    def go(role: str = "administrator", path: str = "/", dark: bool = False, size: Any = DESK) -> Page:
        context = browser.new_context(
            base_url=stack.address, viewport=size, color_scheme="dark" if dark else "light", reduced_motion="reduce"
        )
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(60_000)
        page.on("pageerror", lambda error: faults.append(str(error)))
        page.on(
            "console", lambda m: faults.append(m.text) if m.type == "error" and "status of 4" not in m.text else None
        )
        page.goto(f"/sign-in?then={path}")
        page.get_by_label("Address").fill(ROLES.get(role, role))
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        page.locator("[data-test=who]").wait_for()
        page.wait_for_load_state("load")
        return page

    yield go
    for context in contexts:
        context.close()
    assert faults == []


@pytest.fixture(scope="module")
def places(stack: Demo, tokens: dict[str, str]) -> dict[str, str]:
    """Every page of the console by its address."""
    with Client(stack.address, tokens["administrator"]) as client:
        flag = client.list("flags", filter="account.id pr and severity ge 3", limit=1).rows[0]

        def first(kind: str, attribute: str, word: str) -> str:
            found = client.list(kind, filter=f'{attribute} eq "{word}"', limit=1).rows[0]
            return f"/{kind}/{found.id}"

        return {
            **{name: f"/{name}" for name in ("accounts", "people", "grants", "apps", "sessions", "flags", "rounds")},
            **{
                name: f"/{name}"
                for name in ("revocations", "journal", "systems", "nowhere", "map", "trends", "ends", "rules")
            },
            **{
                name: f"/{name}"
                for name in ("teams", "sign-ins", "partners", "organisations", "me", "begin", "webhooks", "device")
            },
            "exposures": "/exposures",
            "access rules": f"{first('accounts', 'name', 'Press room')}/rules",
            "team": first("teams", "name", "Wardens of the season"),
            "facts": "/facts",
            "matter": f"/matters/{flag.account.id}~{flag.holder.id}",
            "drift": "/drift",
            "leaving": f"{first('people', 'name', 'Kit Varley')}/leaving",
            **{name: f"/{name}" for name in ("mine", "give", "offers", "requests", "levels", "notices", "settings")},
            "today": "/",
            "tasks": "/tasks",
            "account": first("accounts", "name", "Booking desk mailbox"),
            "person": first("people", "name", "Edda Quill"),
            "app": first("apps", "name", "Ledger Link"),
            "round": first("rounds", "name", "Sensitive accounts, autumn"),
            "revocation": first("revocations", "title", "End the access of Old Exporter to Old web shop"),
        }


def settled(page: Page) -> None:
    """Wait until nothing loads any more."""
    expect(page.get_by_role("heading", level=1).first).to_be_visible()
    expect(page.get_by_text("Loading", exact=True)).to_have_count(0)
    page.wait_for_timeout(150)


def refuse_faults(page: Page, where: str) -> None:
    found = Axe().run(
        page,
        options={
            "runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"],
            # What passes is not written out: on long pages that takes most of the time.
            "resultTypes": ["violations"],
        },
    )
    told = [
        f"{where}: {v['id']} {v['nodes'][0]['target']} {v['nodes'][0]['failureSummary']}"
        for v in found.response["violations"]
    ]
    assert told == []


LOOKS = ((False, DESK), (True, PHONE), (False, TABLET))
# Also a desk's screen with everything at twice its size.
SCREENS = (DESK, TABLET, {"width": 640, "height": 400}, PHONE)


@pytest.mark.parametrize("turn", range(len(LOOKS)))
def test_axe_finds_nothing_on_any_page(signed_in: Open, places: dict[str, str], turn: int) -> None:
    """In light, in dark and on three sizes of screens (in a usual run in one of these, in turn); and no page is wider
    than its screen, on any of them or with everything twice as large.
    """
    dark, size = LOOKS[turn]
    page = signed_in(dark=dark, size=size)
    for number, (name, path) in enumerate(places.items()):
        if not in_turn(number, turn, len(LOOKS)):
            continue
        page.set_viewport_size(size)
        page.goto(path)
        settled(page)
        expect(page.locator("[data-test=who]")).to_be_visible()
        refuse_faults(page, name)
        for screen in SCREENS:
            page.set_viewport_size(screen)
            wider = page.evaluate("document.documentElement.scrollWidth - window.innerWidth")
            assert wider <= 0, f"{name} is {wider} px wider than a screen of {screen['width']}"


# What a page may weigh as it is sent, with its data; charts are loaded when they are seen.
MOST_BYTES = 200_000
MOST_SHIFT = 0.05
WEIGHED = """
    const all = performance.getEntriesByType('resource').filter((one) => !one.name.includes('ChartDrawing'))
    const page = performance.getEntriesByType('navigation')[0]
    return [all.reduce((sum, one) => sum + one.encodedBodySize, page.encodedBodySize), window.shifted]
"""
WATCHED = """
    window.shifted = 0
    const add = (list) => list.getEntries().forEach((one) => (window.shifted += one.hadRecentInput ? 0 : one.value))
    new PerformanceObserver(add).observe({ type: 'layout-shift', buffered: true })
"""


def test_the_first_view_of_a_page_is_small_and_stands_still(
    signed_in: Open, browser: Browser, stack: Demo, places: dict[str, str]
) -> None:
    """With nothing kept from before."""
    state = signed_in().context.storage_state()
    heavy = []
    for name in ("account", "person", "flags", "grants", "round", "trends"):
        context = browser.new_context(base_url=stack.address, viewport=DESK, storage_state=state)
        page = context.new_page()
        page.add_init_script(WATCHED)
        page.goto(places[name])
        settled(page)
        # The stream of events never ends: the network is never idle.
        page.wait_for_timeout(1_500)
        weight, shifted = page.evaluate(f"() => {{ {WEIGHED} }}")
        if weight > MOST_BYTES or shifted > MOST_SHIFT:
            heavy.append((name, weight, shifted))
        context.close()
    assert heavy == []


def test_colours_of_the_system_and_little_motion_are_kept_to(signed_in: Open, places: dict[str, str]) -> None:
    """What is chosen, picked or wrong is seen without our colours; nothing moves for whoever wants that."""
    page = signed_in(path="/flags")
    page.emulate_media(forced_colors="active", reduced_motion="reduce")
    chosen = page.get_by_role("button", name="Open", exact=True).first
    expect(chosen).to_have_attribute("aria-pressed", "true")
    borders = [
        page.locator(f"button[aria-pressed={is_pressed}]").first.evaluate(
            "one => getComputedStyle(one).borderStyle + getComputedStyle(one).outlineStyle"
        )
        for is_pressed in ("true", "false")
    ]
    assert borders[0] != borders[1]
    page.goto("/accounts")
    moving = page.evaluate("document.getAnimations().filter((one) => one.playState === 'running').length")
    assert moving == 0


def test_the_first_actions_are_previewed_put_off_and_explained(signed_in: Open) -> None:
    """Today begins with at most seven. Each opens its preview, can wait with a reason, and has a matter."""
    page = signed_in()
    first = page.locator("[data-test=action-1]")
    expect(first).to_be_visible(timeout=120_000)
    assert page.locator("[data-test^=action-]").count() <= 7
    title = first.get_by_role("heading").inner_text()
    first.get_by_role("button", name=re.compile("^Preview")).click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("button", name=re.compile("^Remove|^End"))).to_be_visible()
    dialog.get_by_role("button", name="Cancel").click()
    first.get_by_role("button", name=re.compile("^Later")).click()
    dialog.get_by_label("Because").fill("Waiting for the printing house.")
    dialog.get_by_role("button", name="Put it off").click()
    expect(page.get_by_text("You have put 1 action off.")).to_be_visible()
    expect(page.get_by_role("heading", name=title)).to_have_count(0)
    first.get_by_role("link", name=re.compile("^Why")).click()
    expect(page.get_by_role("heading", name="Reasons")).to_be_visible()
    page.get_by_label("Comment", exact=True).fill("Asked the owner.")
    page.get_by_role("button", name="Add the comment").click()
    expect(page.get_by_text("Asked the owner.", exact=True)).to_be_visible()
    refuse_faults(page, "matter")
    page.keyboard.press("Control+k")
    page.keyboard.type("what ends")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Expiry dates", level=1)).to_be_visible()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keyboard").get_by_text("This help")).to_be_visible()


def test_the_menu_of_a_phone_has_every_place(signed_in: Open) -> None:
    """And closes when one goes to one; a delegate's has only what there is for them."""
    page = signed_in(size=PHONE)
    page.get_by_role("button", name="Menu").click()
    menu = page.get_by_role("navigation", name="All places")
    assert menu.get_by_role("link").count() > 20
    refuse_faults(page, "menu")
    menu.get_by_role("link", name="Journal").click()
    expect(page.get_by_role("heading", name="Journal", level=1)).to_be_visible()
    expect(menu).to_have_count(0)
    delegate = signed_in("delegate", size=PHONE)
    delegate.get_by_role("button", name="Menu").click()
    assert delegate.get_by_role("navigation", name="All places").get_by_role("link").count() < 7


def test_the_sign_in_page_and_the_dialogs_are_sound_too(
    signed_in: Open, browser: Browser, stack: Demo, places: dict[str, str]
) -> None:
    """What is only there for a moment counts as well: each form in light or in dark, in turn."""
    context = browser.new_context(base_url=stack.address)
    page = context.new_page()
    page.goto("/sign-in")
    refuse_faults(page, "sign in")
    page.get_by_label("Address").fill("somebody@example.org")
    page.get_by_label("Password").fill("wrong wrong wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("do not fit together")
    for path in ("/forgotten", "/invitation#unknown", "/new-password#unknown", "/set-up"):
        page.goto(path)
        settled(page)
        refuse_faults(page, path)
    context.close()
    for dark in (False, True):
        page = signed_in(path=places["account"], dark=dark)
        page.get_by_role("button", name="End Run the mailbox of Edda Quill").click()
        expect(page.get_by_role("button", name="Remove 4 rights")).to_be_visible()
        refuse_faults(page, "the question before ending access")
        page.goto("/rounds")
        page.get_by_role("button", name="Open a round").click()
        expect(page.get_by_text("As things are, it would hold")).to_be_visible()
        refuse_faults(page, "opening a round")
        page.goto(places["round"])
        page.locator("[data-test=item-1]").click()
        page.get_by_role("button", name="Trim…").click()
        refuse_faults(page, "deciding")
        for number, (path, button) in enumerate(FORMS):
            if not in_turn(number, int(dark), 2):
                continue
            page.goto(places.get(path, path))
            settled(page)
            page.get_by_role("button", name=button, exact=True).first.click()
            expect(page.get_by_role("dialog").get_by_role("heading").first).to_be_visible()
            expect(page.get_by_text("Loading", exact=True)).to_have_count(0)
            page.wait_for_timeout(150)
            if button == "Edit":
                expect(page.get_by_role("dialog").get_by_label("Name").first).not_to_have_value("")
            refuse_faults(page, f"{button} on {path}")


def test_access_ends_by_keyboard_alone_and_the_page_follows_without_a_reload(
    signed_in: Open, stack: Demo, client: Client
) -> None:
    """From the account's page to *confirmed gone*, and the system itself agrees."""
    account = client.list("accounts", filter='name eq "Heating control"').rows[0]
    page = signed_in(path=f"/accounts/{account.id}")
    watching = signed_in(path=f"/accounts/{account.id}")
    row = watching.locator("li", has=watching.get_by_role("link", name="old_admin"))
    # Among the people, and among the sessions.
    expect(row).to_have_count(2)
    page.get_by_role("button", name="End Keeper of old_admin").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_contain_text("Let others in and put them out")
    page.get_by_label("Why").focus()
    page.keyboard.type("Nobody knows who this is.")
    for _ in range(2):
        page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    page.wait_for_url("**/revocations/**")
    expect(page.locator("[data-test=state]")).to_have_text(re.compile("confirmed gone"), timeout=120_000)
    expect(page.get_by_text("Read again: it is gone.", exact=True)).to_be_visible()
    expect(row).to_have_count(0)
    with psycopg.connect(stack.telemetry.url(telemetry.DATABASE)) as db:
        found = db.execute("select count(*) from pg_stat_activity where usename = 'old_admin'").fetchone()
    assert found == (0,)


def test_a_system_that_is_down_is_told_on_the_page_and_waited_for(signed_in: Open, stack: Demo, client: Client) -> None:
    """The step waits; when the system is back, it ends by itself."""
    grant = client.list("grants", filter='holder.name eq "Dov Merrin" and account.name eq "Weather readings"').rows[0]
    stack.telemetry.stop()
    try:
        found = client.revoke("Season over.", grants=[grant.id])
        page = signed_in(path=f"/revocations/{found.id}")
        expect(page.locator("[data-test=state]")).to_have_text("waiting for the system", timeout=120_000)
        expect(page.get_by_text("It is retried automatically")).to_be_visible()
    finally:
        stack.telemetry.start()
    page.get_by_role("button", name="Try now").click()
    expect(page.locator("[data-test=state]")).to_have_text(re.compile("confirmed gone"), timeout=120_000)


def test_a_reviewer_goes_through_their_items_by_keyboard(signed_in: Open, places: dict[str, str]) -> None:
    """Kept with a reason against a flag, which is asked for; then the next one opens."""
    page = signed_in("reviewer", "/")
    page.get_by_role("link", name="Sensitive accounts, autumn").click()
    page.get_by_role("button", name="Undecided", exact=True).click()
    first = page.locator("[data-test^=item-]").first
    number = first.get_attribute("data-test")
    first.focus()
    page.keyboard.press("k")
    expect(page.get_by_label("Why it is needed")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("There has to be a reason")
    page.keyboard.type("Asked the owner, who needs it until spring.")
    page.keyboard.press("Enter")
    expect(page.locator(f"[data-test={number}]")).to_have_count(0)
    expect(page.locator("[data-test^=item-][aria-current=true]")).to_be_focused()


def _write(page: Page, label: str, text: str) -> None:
    """Into a field, by keyboard: what is in it goes."""
    page.get_by_role("dialog").get_by_label(label, exact=False).first.focus()
    page.keyboard.press("Control+a")
    page.keyboard.type(text)


def test_a_review_from_schedule_to_evidence_by_keyboard_alone(
    signed_in: Open, stack: Demo, tokens: dict[str, str], tmp_path: Path
) -> None:
    """One key for an undisputed item; a disputed one takes a reason; the bundle is verified at the end."""
    page = signed_in(path="/rounds")
    page.get_by_role("button", name="Schedule a review").focus()
    page.keyboard.press("Enter")
    dialog = page.get_by_role("dialog")
    _write(page, "Name", "Seasonal")
    _write(page, "Which of them", 'account.sensitivity le 2 and account.name sw "P"')
    page.keyboard.press("Tab")
    expect(dialog.get_by_text("As things are, it would hold")).to_contain_text("grants")
    dialog.get_by_label("Who is asked first").focus()
    page.keyboard.type("One")
    page.keyboard.press("Tab")
    page.keyboard.type("Lene")
    expect(dialog.get_by_role("option", name=re.compile("Lene Marsh"))).to_be_visible()
    page.keyboard.press("Enter")
    dialog.get_by_label("Decisions happen").focus()
    page.keyboard.type("when")
    # Cut to its minute, that is at least 12 seconds ahead: time enough to write the rest.
    starts = datetime.now(ZoneInfo("Europe/London")) + timedelta(seconds=72)
    dialog.get_by_label("For the first time").focus()
    page.keyboard.type(starts.strftime("%m%d%Y"))
    page.keyboard.press("ArrowRight")
    page.keyboard.type(starts.strftime("%I%M%p"))
    expect(dialog.get_by_text("Opens", exact=True)).to_be_visible()
    dialog.get_by_role("button", name="Schedule it").focus()
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    expect(page.get_by_role("link", name="Seasonal, ")).to_be_visible(timeout=140_000)

    reviewer = signed_in("reviewer", "/rounds")
    link = reviewer.get_by_role("link", name="Seasonal, ")
    link.focus()
    reviewer.keyboard.press("Enter")
    current = reviewer.locator("[data-test^=item-][aria-current=true]")
    expect(current).to_be_visible()
    ident = reviewer.url.rpartition("/")[2].partition("?")[0]
    with Client(stack.address, tokens["reviewer"]) as client:
        waiting = [i for i in client.items(ident) if i.state == "undecided"]
    undisputed = [i for i in waiting if i.severity < 3]
    assert len(undisputed) >= 10
    presses = 0
    current.focus()
    for number in range(len(waiting)):
        here = current.get_attribute("data-test") or ""
        disputed = any(i.position == int(here.removeprefix("item-")) and i.severity >= 3 for i in waiting)
        reviewer.keyboard.press("k")
        presses += not disputed
        if disputed:
            expect(reviewer.get_by_label("Why it is needed")).to_be_focused()
            reviewer.keyboard.type("Asked, and needed.")
            reviewer.keyboard.press("Enter")
        left = len(waiting) - number - 1
        expect(reviewer.get_by_text(f"{left} of {len(waiting)} items left for you")).to_be_visible()
        if left:
            # The count follows at once; the focus goes on when the line has been drawn anew.
            expect(current).not_to_have_attribute("data-test", here)
    assert presses / len(undisputed) < 3

    page.get_by_role("link", name="Seasonal, ").focus()
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Progress").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("img", name="Items left by day")).to_be_visible()
    refuse_faults(page, "progress")
    page.get_by_role("button", name="Close the round").focus()
    page.keyboard.press("Enter")
    dialog.get_by_role("button", name=re.compile("^Close (the round|with)")).focus()
    page.keyboard.press("Enter")
    evidence = page.get_by_role("link", name="Download the evidence")
    expect(evidence).to_be_visible(timeout=120_000)
    evidence.focus()
    with page.expect_download() as taken:
        page.keyboard.press("Enter")
    found = evidence_bundle.verify(Path(taken.value.path()).read_bytes())
    assert (found.faults, found.items, found.is_trusted) == ((), len(waiting), False)


def test_a_question_is_asked_and_answered_and_many_are_kept_but_not_what_is_flagged(signed_in: Open) -> None:
    """The answer comes back into the line; the refusal lists what is flagged."""
    page = signed_in("administrator", "/rounds")
    page.get_by_role("button", name="Open a round").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("Wardens' mail")
    dialog.get_by_label("Which of them").fill('account.name eq "Wardens\' mailbox" or holder.name eq "Jory Penhale"')
    dialog.get_by_label("Who is asked first").select_option(label="One person")
    _choose(dialog, "Which person", "Lene Marsh")
    refuse_faults(page, "opening a round")
    dialog.get_by_role("button", name="Open the round").click()
    expect(page.get_by_role("heading", name="Wardens' mail", exact=True)).to_be_visible()
    reviewer = signed_in("reviewer", page.url.removeprefix(str(page.evaluate("location.origin"))))
    reviewer.locator("[data-test^=item-]", has_text="Fenna Aldous").click()
    reviewer.keyboard.press("a")
    reviewer.get_by_label("What you want to know").fill("Will you be back next season?")
    reviewer.keyboard.press("Enter")
    expect(reviewer.get_by_role("alert")).to_have_count(0)
    holder = signed_in("delegate", "/mine")
    holder.get_by_label("Will you be back next season?").fill("Yes, from May.")
    refuse_faults(holder, "a question to answer")
    holder.get_by_role("button", name="Answer", exact=True).click()
    expect(holder.get_by_role("heading", name="Questions to you")).to_have_count(0)
    reviewer.locator("[data-test^=item-]", has_text="Fenna Aldous").click()
    expect(reviewer.locator("[data-test=desk]")).to_contain_text("Yes, from May.")
    reviewer.get_by_label("Group by").select_option(label="account")
    for group in ("Wardens' mailbox", "Booking desk mailbox"):
        reviewer.get_by_role("button", name=f"Select all of {group}").click()
    many = reviewer.get_by_role("region", name="Many at once")
    many.get_by_role("button", name=re.compile("^Keep")).click()
    expect(many.get_by_role("alert")).to_contain_text("What is flagged can't be kept together")
    refuse_faults(reviewer, "many at once")


def test_each_sees_what_is_theirs(signed_in: Open) -> None:
    """A delegate finds their own access, without anybody else's and without buttons to end it."""
    page = signed_in("delegate", "/accounts")
    expect(page.get_by_role("link", name="Booking desk mailbox")).to_be_visible()
    expect(page.get_by_role("link", name="Payroll")).to_have_count(0)
    page.get_by_role("link", name="Booking desk mailbox").click()
    expect(page.get_by_role("heading", name="How you reach it")).to_be_visible()
    expect(page.get_by_role("button", name="End")).to_have_count(0)
    stranger = signed_in("stranger", "/accounts")
    expect(stranger.get_by_role("link", name="Pier bookings")).to_be_visible()
    others = stranger.locator("tbody tr").filter(has_not_text="Open Latch")
    expect(others).to_have_count(1)


def test_a_partner_switches_to_its_client_and_the_client_lets_somebody_in(signed_in: Open) -> None:
    """The client's name is in sight there, and the client sees who has been; who waits is let in by a word."""
    page = signed_in(AGENCY, "/organisations")
    expect(page.locator("[data-test=organisation]")).to_have_text("Slate & Fern")
    page.get_by_role("button", name="Switch to Hollin Fell Huts").click()
    expect(page.locator("[data-test=organisation]")).to_have_text("at your client Hollin Fell Huts")
    page.goto("/accounts")
    expect(page.get_by_role("link", name="Members' newsletter")).to_be_visible()
    expect(page.get_by_role("link", name="Sign-ins")).to_have_count(0)
    page = signed_in(path="/partners")
    known = page.get_by_role("listitem").filter(has_text=AGENCY)
    expect(known.last).to_contain_text("last here")
    page.get_by_role("button", name="Same person: let them in").click()
    expect(page.get_by_role("status").first).to_contain_text("Leo Fairburn is let in.")


def test_one_signs_in_by_the_identity_provider_and_out_again(browser: Browser, stack: Demo) -> None:
    """In a browser with its own rules about cookies: away to the provider and back to the page that was wanted."""
    context = browser.new_context(base_url=stack.address)
    page = context.new_page()
    page.goto("/sign-in?organisation=hollin-fell&then=/mine")
    page.get_by_role("link", name="Sign in with Fellside login").click()
    page.get_by_role("link", name="Rasmus Holt").click()
    expect(page.get_by_role("heading", name="My access", level=1)).to_be_visible()
    expect(page.locator("[data-test=who]")).to_contain_text("Rasmus Holt")
    page.locator("[data-test=who]").click()
    page.get_by_text("Sign out", exact=True).click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    assert page.request.get("/api/v1/me").status == 401
    context.close()


def test_a_passkey_signs_in_stands_for_a_code_and_proves_who_one_is(browser: Browser, stack: Demo) -> None:
    """With a browser's own authenticator; passkeys are for names, so here for localhost."""
    context = browser.new_context(base_url=f"http://localhost:{stack.port}")
    page = context.new_page()
    page.set_default_timeout(60_000)
    devtools = context.new_cdp_session(page)
    devtools.send("WebAuthn.enable")
    device = {"protocol": "ctap2", "transport": "internal", "automaticPresenceSimulation": True}
    able = dict.fromkeys(("hasResidentKey", "hasUserVerification", "isUserVerified"), True)
    devtools.send("WebAuthn.addVirtualAuthenticator", {"options": {**device, **able}})

    def by_password() -> None:
        page.goto("/sign-in?then=/me")
        page.get_by_label("Address").fill(ROLES["reviewer"])
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")

    by_password()
    page.get_by_label("What the new passkey is called").fill("Phone")
    page.get_by_role("button", name="Add a passkey").click()
    expect(page.get_by_role("status").first).to_contain_text("your password alone does not sign you in")
    context.clear_cookies()
    page.goto("/sign-in?then=/me")
    page.get_by_role("button", name="Sign in with a passkey").click()
    expect(page.locator("[data-test=who]")).to_contain_text("Lene Marsh")
    context.clear_cookies()
    by_password()
    page.get_by_role("button", name="Use your passkey").click()
    expect(page.get_by_role("heading", name="My sign-in", level=1)).to_be_visible()
    with psycopg.connect(stack.register.url(DATABASE)) as db:
        db.execute("update web_sessions set proved_at = null")
    page.get_by_role("button", name="Remove the passkey Phone").click()
    page.get_by_role("dialog").get_by_role("button", name="Use a passkey").click()
    expect(page.get_by_role("status").first).to_contain_text("Removed. Remove it from the device")
    expect(page.get_by_role("button", name="Remove the passkey Phone")).to_have_count(0)
    context.close()


def test_lists_are_searched_filtered_and_sorted(signed_in: Open) -> None:
    """And a filter that can't be read says why."""
    page = signed_in(path="/people")
    page.get_by_label("Search people").fill("tresco")
    expect(page.locator("tbody tr")).to_have_count(1)
    page.get_by_label("Search people").fill("")
    page.get_by_role("button", name="Left, with access").click()
    expect(page.locator("tbody tr").first).to_contain_text("left")
    page.get_by_role("columnheader", name="Person").get_by_role("button").click()
    expect(page.get_by_role("columnheader", name="Person")).to_have_attribute("aria-sort", "ascending")
    page.get_by_text("Filter, save, export").click()
    page.get_by_label("Filter", exact=True).fill("shoe pr")
    page.get_by_role("button", name="Apply").click()
    expect(page.get_by_role("alert")).to_contain_text("no attribute 'shoe'")


def test_a_file_is_checked_and_brought_in(signed_in: Open) -> None:
    """Its columns are matched; what it would do comes first, and refused lines can be taken away."""
    page = signed_in(path="/systems")
    file = {
        "name": "people.csv",
        "mimeType": "text/csv",
        "buffer": b"Number,Full name,Mail\nk1,Kim,kim@example.net\nk2,,x\n",
    }
    page.locator("input[type=file]").set_input_files(file)  # type: ignore[arg-type]
    expect(page.get_by_label("What Mail is")).to_have_value("address")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_text("Nothing was kept.")).to_be_visible()
    expect(page.get_by_text("Line 3, name: is empty")).to_be_visible()
    refuse_faults(page, "a file that was tried")
    with page.expect_download() as taken:
        page.get_by_role("button", name="Download the refused lines").click()
    assert "k2" in Path(taken.value.path()).read_text()
    page.get_by_label("keep the good lines").check()
    page.get_by_role("button", name="Import it").click()
    expect(page.get_by_text("1 added, 0 changed, 0 unchanged, 1 refused. Kept.")).to_be_visible()


def test_the_journal_is_verified_from_its_page(signed_in: Open) -> None:
    """With what to note."""
    page = signed_in(path="/journal")
    page.get_by_role("button", name="Verify").click()
    expect(page.get_by_text("Nothing is altered")).to_be_visible()


def test_an_offer_is_sent_accepted_and_used_while_its_sender_looks_on(
    signed_in: Open, browser: Browser, stack: Demo
) -> None:
    """The owner reads what it comes to; somebody new signs up on the way; it shows at the owner's open page at once."""
    owner = signed_in("owner", "/give")
    _choose(owner, "To which account", "Booking desk mailbox")
    _choose(owner, "To whom", "tobias.ren@hollinfell.example.org")
    owner.get_by_label("Name of tobias.ren@hollinfell.example.org").fill("Tobias Ren")
    owner.get_by_role("checkbox", name="Read mail").check()
    owner.get_by_label("only some").check()
    owner.get_by_role("button", name="All 4 one by one").click()
    expect(owner.get_by_text("4 parts chosen.")).to_be_visible()
    told = owner.get_by_role("region", name="Summary")
    expect(told.get_by_text("is one slip away from tobias.renn@hollinfell.example.org")).to_be_visible()
    expect(told.get_by_text("Let others into the mailbox")).to_be_visible()
    owner.get_by_role("button", name="Send 1 offer").click()
    owner.wait_for_url("**/offers")
    row = owner.get_by_role("row").filter(has_text="tobias.ren@")
    expect(row).to_contain_text("pending")

    link = _link(stack, "tobias.ren@hollinfell.example.org")
    guest = browser.new_context(base_url=stack.address, viewport=PHONE, reduced_motion="reduce").new_page()
    guest.goto(link)
    expect(guest.get_by_text("Read every message")).to_be_visible()
    settled(guest)
    refuse_faults(guest, "the offer's page")
    guest.get_by_label("Choose a password").fill("passwordpassword")
    guest.get_by_role("button", name="Accept and make my sign-in").click()
    expect(guest.get_by_role("alert")).to_contain_text("many people use")
    guest.get_by_role("button", name="Suggest a strong one").click()
    guest.get_by_role("button", name="Accept and make my sign-in").click()
    expect(guest.get_by_role("heading", name="My access")).to_be_visible()
    expect(row).to_contain_text("accepted")

    guest.get_by_role("button", name="Switch in").first.click()
    bar = guest.locator("[data-test=inside]")
    expect(bar).to_contain_text("You are in Booking desk mailbox, which is Tobias Renn’s.")
    expect(bar).to_contain_text("on behalf of Tobias Renn")
    expect(guest.get_by_role("heading", level=1, name="Booking desk mailbox")).to_be_visible()
    settled(guest)
    refuse_faults(guest, "inside an account")
    bar.get_by_role("button", name="Switch out").click()
    expect(bar).to_have_count(0)
    again = browser.new_context(base_url=stack.address).new_page()
    again.goto(link)
    expect(again.get_by_text("This offer is accepted")).to_be_visible()
    for page in (guest, again):
        page.context.close()


def _choose(scope: Page | Locator, label: str, name: str) -> None:
    """Pick an entry of a list that is searched as one types."""
    box = scope.get_by_role("combobox", name=label, exact=True)
    box.fill(name)
    scope.get_by_role("option", name=re.compile(f"^{re.escape(name)}")).first.click()


def _link(stack: Demo, address: str) -> str:
    """The link in the last mail to an address, once it has come."""

    def last() -> str | None:
        for message in reversed(stack.mail.messages(address)):
            plain = message.get_body(("plain",))
            found = re.search(r"http\S+#\S+", plain.get_content()) if plain is not None else None
            if found:
                return found[0]
        return None

    return until(last)


def test_a_request_is_answered_with_less_and_the_asker_hears_of_it(signed_in: Open) -> None:
    """By keyboard and labels alone."""
    asker = signed_in("delegate", "/mine")
    asker.get_by_role("button", name="Ask for access").click()
    asker.get_by_label("The account’s name").fill("Booking web site")
    asker.get_by_label("Why").fill("To see how full the huts are.")
    asker.get_by_role("button", name="Ask", exact=True).click()
    expect(asker.get_by_text("You will be told what comes of it")).to_be_visible()
    administrator = signed_in(path="/requests")
    administrator.get_by_role("row").filter(has_text="how full the huts are").get_by_role("button").click()
    dialog = administrator.get_by_role("dialog")
    expect(dialog.get_by_role("option", name="See the site's figures")).to_be_attached()
    refuse_faults(administrator, "answering a request")
    dialog.get_by_label("Level").select_option(label="See the site's figures")
    dialog.get_by_label("Last day").fill("2099-12-31")
    dialog.get_by_role("button", name="Give Fenna Aldous access").click()
    expect(dialog).to_have_count(0)
    asker.get_by_role("button", name="Done").click()
    expect(asker.get_by_text("Booking web site").first).to_be_visible()
    asker.get_by_role("link", name="Notices").click()
    expect(asker.get_by_text("granted your request for Booking web site")).to_be_visible()


def test_a_change_to_many_shows_a_line_for_each_before_and_after(signed_in: Open) -> None:
    """And a latch is set on the account's page, after seeing what breaks it."""
    page = signed_in(path="/grants")
    settled(page)
    page.goto('/grants?filter=account.name+eq+"Path+map+archive"+and+state+eq+"active"')
    settled(page)
    page.get_by_role("checkbox").first.check()
    page.get_by_role("button", name="Change…", exact=True).click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Last day").fill("2099-06-30")
    dialog.get_by_label("Why").fill("The season ends.")
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog.get_by_text("runs to the end of 30 June 2099")).to_be_visible()
    refuse_faults(page, "changing grants")
    dialog.get_by_role("button", name="Set or move the end: 1 grant").click()
    expect(dialog.get_by_role("button", name="Done")).to_be_visible()
    dialog.get_by_role("button", name="Done").click()
    page.goto("/accounts")
    page.get_by_role("link", name="Building plans").click()
    box = page.get_by_role("region", name="Latches")
    box.get_by_role("button", name="Set No outsiders").click()
    box.get_by_role("button", name="Preview").click()
    expect(box.get_by_text("is an outsider").first).to_be_visible()
    box.get_by_role("button", name="Set it to warn").click()
    expect(box.get_by_text("Broken: ").first).to_be_visible()


def test_a_review_is_scheduled_with_its_next_dates_shown_as_one_types(signed_in: Open) -> None:
    """And paused."""
    page = signed_in(path="/rounds")
    box = page.get_by_role("region", name="Reviews that open by themselves")
    expect(box.get_by_role("button", name="Pause Sensitive accounts")).to_be_visible()
    box.get_by_role("button", name="Schedule a review").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("Yearly of all")
    dialog.get_by_label("How often").select_option(label="every year")
    dialog.get_by_label("For the first time").fill("2030-07-01T09:00")
    expect(dialog.get_by_text("1 Jul 2031, 09:00")).to_be_visible()
    refuse_faults(page, "scheduling a review")
    dialog.get_by_role("button", name="Schedule it").click()
    expect(dialog).to_have_count(0)
    box.get_by_role("button", name="Pause Yearly of all").click()
    expect(box.get_by_role("button", name="Go on Yearly of all")).to_be_visible()


def test_a_limit_shows_what_it_would_raise_before_it_is_kept(signed_in: Open, client: Client) -> None:
    """And a switched-off rule what it would clear; leaving keeps nothing, and what happens meanwhile loses nothing."""
    page = signed_in("administrator")
    page.goto("/rules")
    first = page.get_by_role("region", name="Grants and links").get_by_role("listitem").first
    first.get_by_label("low").fill("10")
    first.get_by_label("medium").focus()
    would = page.get_by_role("region", name="What a change would do")
    # Two passes over the register, beside whatever else the machine has to do.
    expect(would.get_by_text(re.compile(r"\d+ raised"))).to_be_visible()
    first.get_by_role("checkbox", name=re.compile("^off")).check()
    expect(would.get_by_text(re.compile(r"\d+ cleared"))).to_be_visible()
    (flag,) = client.list("flags", filter='state eq "open"', limit=1).rows
    with page.expect_response(re.compile("/api/v1/rules$")):
        client.assign_flags([flag.id], None)
    settled(page)
    expect(first.get_by_label("low")).to_have_value("10")
    expect(first.get_by_role("checkbox", name=re.compile("^off"))).to_be_checked()
    page.reload()
    expect(first.get_by_label("low")).to_have_value("180")


def test_a_region_of_the_map_is_what_the_list_shows(signed_in: Open) -> None:
    """Picked by keyboard; the filter that it comes to matches just what was counted."""
    page = signed_in("administrator")
    page.goto("/map")
    place = page.get_by_role("button", name=re.compile(r"^\d+ grants: danger much, never used"))
    count = re.match(r"\d+", place.get_attribute("aria-label") or "")
    assert count is not None
    place.focus()
    page.keyboard.press("Enter")
    picked = page.get_by_role("region", name=re.compile("selected"))
    expect(picked.get_by_role("listitem")).to_have_count(int(count[0]))
    picked.get_by_role("link", name="Show as a list").click()
    expect(page.get_by_text(f"{count[0]} grants", exact=True)).to_be_visible()


def test_an_account_as_it_was_and_what_ends_on_a_day(signed_in: Open, places: dict[str, str]) -> None:
    """Before anything was recorded nobody could be known to reach it; a day with ends names them."""
    page = signed_in("administrator")
    page.goto(places["account"])
    picture = page.get_by_role("img", name=re.compile("Who reaches Booking desk mailbox"))
    expect(picture).to_contain_text("Booking desk")
    page.get_by_label("As it was on").fill("2001-01-01")
    expect(page.get_by_text("Nobody could reach it then")).to_be_visible()
    expect(picture).to_have_count(0)
    page.goto("/ends")
    page.get_by_role("button", name=re.compile("grants? ends?")).first.click()
    expect(page.get_by_role("region", name=re.compile("grants? ends?")).get_by_role("listitem").first).to_be_visible()


def test_a_forgotten_folder_is_closed_and_the_next_one_prevented(signed_in: Open) -> None:
    """Found in two clicks, closed with a preview of all that its rule opens; a guard; and a draft told as one types."""
    page = signed_in("administrator")
    page.get_by_role("navigation", name="Places").get_by_role("link", name="Risk").click()
    page.get_by_role("navigation", name="Risk").get_by_role("link", name="Exposures").click()
    page.get_by_role("button", name="Anyone can change", exact=True).click()
    row = page.get_by_role("row").filter(has_text="Anyone can change “Accidents of the year”")
    expect(row).to_contain_text("anyone")
    row.get_by_role("checkbox").check()
    page.get_by_role("button", name="Close 1 exposure").click()
    expect(page.locator("[data-test=counts]")).to_contain_text("4 would close")
    page.get_by_label("Why").fill("The jubilee is over.")
    refuse_faults(page, "closing an exposure")
    page.locator("[data-test=close-rules]").click()
    expect(page.get_by_text("confirmed").first).to_be_visible(timeout=120_000)
    page.goto("/exposures")
    settled(page)
    page.get_by_role("button", name="Set a guard").click()
    _choose(page.get_by_role("dialog"), "On", "Yearbook")
    page.get_by_label("Why").fill("Only we write it.")
    refuse_faults(page, "setting a guard")
    page.get_by_role("button", name="Set the guard").click()
    expect(page.get_by_role("button", name=re.compile("Lift.*No outsider may change Yearbook"))).to_be_visible()
    page.get_by_role("link", name="Yearbook").first.click()
    page.get_by_role("link", name="Access rules").click()
    rules = page.get_by_label("Rule document")
    expect(rules).to_have_value(re.compile("printers"))
    opens = {"rule": "again", "admit": ["anyone"], "to": ["fetch"], "on": ["/drafts/**"]}
    rules.fill(json.dumps({"form": "open-latch-rules-1", "rules": [{**opens, "to": ["shred"]}]}))
    expect(page.get_by_text("Line 1: The system has no permission “shred”.")).to_be_visible()
    rules.fill(json.dumps({"form": "open-latch-rules-1", "rules": [opens]}))
    page.get_by_role("button", name="Preview").click()
    expect(page.locator("[data-test=counts]")).to_contain_text("2 would open")
    expect(page.get_by_text("Anyone can see “Accidents of the year”.")).to_be_visible()


def test_flags_are_picked_and_given_to_somebody(signed_in: Open) -> None:
    """Many at once, and the button says what would end. The page explains its words."""
    page = signed_in("administrator")
    page.goto("/flags")
    page.get_by_role("button", name="Words on this page").click()
    expect(page.get_by_text("A concern raised by a rule")).to_be_visible()
    boxes = page.get_by_role("checkbox", name=re.compile("^Select: .* still holds "))
    boxes.nth(0).check()
    boxes.nth(1).check()
    many = page.get_by_role("region", name="Many at once")
    expect(many.get_by_role("button", name=re.compile("^End "))).to_be_visible()
    _choose(many, "Assigned to", "Lene Marsh")
    expect(page.get_by_text("Assigned to Lene Marsh.")).to_have_count(2)


def test_the_console_comes_in_the_language_that_somebody_chose(signed_in: Open, browser: Browser, stack: Demo) -> None:
    """A browser that asks for German gets it before anybody has signed in; a choice goes before that."""
    context = browser.new_context(base_url=stack.address, locale="de-AT", reduced_motion="reduce")
    page = context.new_page()
    page.goto("/sign-in")
    expect(page.get_by_role("button", name="Anmelden", exact=True)).to_be_visible()
    expect(page.locator("html")).to_have_attribute("lang", "de")
    context.close()
    page = signed_in("reviewer", "/me")
    page.get_by_label("Language, and how dates are written").select_option("de-DE")
    page.get_by_role("button", name="Save", exact=True).first.click()
    expect(page.get_by_role("heading", name="Meine Anmeldung")).to_be_visible()
    expect(page.get_by_role("link", name="Überprüfungen").first).to_be_visible()
    page.get_by_label("Sprache und Datumsform").select_option("")
    page.get_by_role("button", name="Speichern", exact=True).first.click()
    expect(page.get_by_role("heading", name="My sign-in")).to_be_visible()


class Hands:
    """Does what a person does, and counts it: a key, a click, or a field that is filled in."""

    def __init__(self, page: Page) -> None:
        self.page, self.steps = page, 0

    def goes(self, *names: str) -> None:
        """Click links or buttons, one after the other."""
        for name in names:
            self.steps += 1
            # Some say after it, for whoever does not see the page, what it is about.
            said = re.compile(rf"^{re.escape(name)}( ?[:\d].*)?$")
            found = self.page.get_by_role("link", name=said)
            found.or_(self.page.get_by_role("button", name=said)).first.click()

    def fills(self, label: str, text: str) -> None:
        self.steps += 1
        self.page.get_by_label(re.compile(f"^{re.escape(label)}")).first.fill(text)

    def chooses(self, label: str, name: str) -> None:
        self.steps += 1
        _choose(self.page, label, name)

    def finds(self, name: str) -> None:
        """By the search that is at hand everywhere: a key, then the name and Enter."""
        self.steps += 2
        self.page.keyboard.press("/")
        box = self.page.get_by_role("dialog").get_by_role("combobox")
        box.fill(name)
        self.page.get_by_role("option", name=re.compile(f"^.*{name}")).first.wait_for()
        box.press("Enter")

    def sees(self, text: str | re.Pattern[str]) -> int:
        """How many steps it took until this is on the page."""
        expect(self.page.get_by_text(text).first).to_be_visible()
        return self.steps


def test_twelve_jobs_take_at_most_five_steps(signed_in: Open) -> None:
    """Each from Today, or from the page of the account that it is about."""
    page = signed_in()
    took: dict[str, int] = {}

    def job(name: str) -> Hands:
        page.goto("/")
        settled(page)
        return Hands(page)

    hands = job("what do I do first")
    took["what do I do first"] = hands.sees("Do these first")
    hands = job("why is this flagged")
    hands.goes("Why")
    took["why is this flagged"] = hands.sees("Reasons")
    hands = job("who has access to X")
    hands.finds("Booking desk mailbox")
    took["who has access to X"] = hands.sees("Everyone and everything that can reach it")
    at_account = page.url
    hands.fills("As it was on", "1 Mar")
    took["who could in March"] = hands.sees("Who could reach it then")
    hands = job("what does Y have")
    hands.finds("Gwil Tresco")
    took["what does Y have"] = hands.sees("Everything that they can reach")
    hands = job("who left")
    hands.goes("Access", "People", "Left, with access")
    took["who left"] = hands.sees("Edda Quill")
    hands = job("what is open")
    hands.goes("Risk", "Exposures")
    took["what is open"] = hands.sees("What outsiders, or anyone at all, can see or change by access rules.")
    hands = job("review")
    hands.goes("Reviews", "Sensitive accounts, autumn")
    took["review"] = hands.sees("Keep") + 1
    hands = job("prove it")
    hands.goes("Organisation", "Journal", "Verify")
    took["prove it"] = hands.sees(re.compile("Nothing is altered"))
    hands = job("connect")
    hands.goes("Organisation", "Systems", "Connect or name a system")
    hands.fills("Name", "Lending shelf")
    hands.goes("Save")
    took["connect"] = hands.steps
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.goto(at_account)
    hands = Hands(page)
    page.get_by_role("button", name=re.compile("^End Answer mail of Jory Penhale")).click()
    hands.fills("Why", "He has left.")
    took["end it"] = hands.steps + 2
    expect(page.get_by_role("button", name=re.compile("^(End|Remove)")).last).to_be_enabled()
    page.goto(at_account)
    hands = Hands(page)
    hands.goes("Offer access")
    hands.chooses("To whom", "Imke Rosen")
    page.get_by_role("checkbox", name="Read mail").check()
    hands.fills("Last day", "in 6 weeks")
    took["give until a day"] = hands.steps + 2
    expect(page.get_by_role("button", name="Send 1 offer")).to_be_enabled()
    assert len(took) == 12
    assert {name: steps for name, steps in took.items() if steps > 5} == {}
