"""`make screenshots`: the pictures in docs/screenshots, drawn anew from the demo data."""

from __future__ import annotations

import io
import os
import re
import shlex
import shutil
import subprocess
import tempfile
import time
import zipfile
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page, expect, sync_playwright

from openlatch.client import Client
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import Demo

SHOTS = Path("docs/screenshots")
ADMINISTRATOR = "ines.calder@hollinfell.example.org"
DESK = (1280, 800)
DISPLAY = ":87"


def _page(
    browser: Browser, demo: Demo, size: tuple[int, int] = DESK, dark: bool = False, who: str = ADMINISTRATOR
) -> Page:
    context = browser.new_context(
        base_url=demo.address,
        viewport={"width": size[0], "height": size[1]},
        color_scheme="dark" if dark else "light",
        reduced_motion="reduce",
    )
    page = context.new_page()
    page.goto("/sign-in")
    page.get_by_label("Address").fill(who)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.locator("[data-test=who]").wait_for()
    return page


def _shoot(page: Page, name: str, path: str = "") -> None:
    if path:
        page.goto(path)
    page.wait_for_timeout(900)
    expect(page.get_by_text("Loading", exact=True)).to_have_count(0, timeout=30_000)
    page.screenshot(path=SHOTS / f"{name}.png")
    print(name)


def _console(browser: Browser, demo: Demo, client: Client) -> None:
    def first(kind: str, written: str) -> Any:
        return client.list(kind, filter=written, limit=1).rows[0].id

    page = _page(browser, demo)
    for name in ("flags", "drift"):
        _shoot(page, name, f"/{name}")
    # What the actions would clear is worked out first.
    page.goto("/")
    page.locator("[data-test=action-1]").wait_for(timeout=180_000)
    _shoot(page, "today", "/")
    account = first("accounts", 'name eq "Booking desk mailbox"')
    _shoot(page, "account", f"/accounts/{account}")
    _exposing(page, first("accounts", 'name eq "Yearbook"'))
    item = first("rounds", 'name eq "Sensitive accounts, autumn"')
    reviewer = _page(browser, demo, who="lene.marsh@hollinfell.example.org")
    reviewer.goto(f"/rounds/{item}")
    reviewer.locator("[data-test^=item-]", has_text="Sunniva Bakke").last.click()
    reviewer.keyboard.press("t")
    _shoot(reviewer, "round")
    _report(browser, client, first("rounds", 'name sw "Old web shop"'))
    _pictures(browser, demo, account)
    dark = _page(browser, demo, dark=True)
    dark.goto(f"/accounts/{account}")
    dark.get_by_role("button", name="End Run the mailbox of Edda Quill").click()
    _shoot(dark, "ending")
    grant = first("grants", 'holder.name eq "Col Abernethy" and account.name eq "Heating control"')
    found = client.revoke("Left in April; nobody took it away.", grants=[grant])
    page.goto(f"/revocations/{found.id}")
    page.get_by_text("confirmed gone").wait_for()
    _shoot(page, "revocation")
    _leaving(page, client, first("people", 'name eq "Gwil Tresco"'), first("people", 'name eq "Imke Rosen"'))


def _exposing(page: Page, rules: Any) -> None:
    """What is open to outsiders, what a draft of rules would open, and what is open against a guard."""
    _shoot(page, "exposures", "/exposures")
    page.goto(f"/accounts/{rules}/rules")
    box = page.get_by_label("Rule document")
    text = box.input_value()
    box.fill(text.replace('["list", "fetch"]', '["list", "fetch", "upload"]').replace('"/drafts/**"', '"/**"'))
    page.get_by_role("button", name="Preview").click()
    page.get_by_text(re.compile(r"would open")).first.wait_for()
    page.evaluate("window.scrollTo(0, 0)")
    _shoot(page, "draft")


def _leaving(page: Page, client: Client, person: Any, heir: Any) -> None:
    """Somebody is let leave: what is gone by now, and what waits for hands."""
    heirs = {one.account.id: heir for one in client.preview_leaving(person).accounts}
    client.prove(PASSWORD)
    client.let_leave(person, "His contract is over.", heirs)
    page.goto(f"/people/{person}/leaving")
    page.get_by_text(re.compile(r"^\d+ confirmed")).first.wait_for()
    _shoot(page, "leaving")


def _pictures(browser: Browser, demo: Demo, account: Any) -> None:
    """Who reaches an account by which path, the map with a region picked, and a limit being changed."""
    page = _page(browser, demo)
    page.goto(f"/accounts/{account}")
    page.locator("figure").scroll_into_view_if_needed()
    page.locator("figure").evaluate("box => window.scrollTo(0, box.offsetTop - 90)")
    _shoot(page, "paths")
    page.goto("/map")
    for danger in ("most", "much"):
        page.get_by_role("button", name=re.compile(f"danger {danger}, never used")).click()
    _shoot(page, "map")
    page.goto("/trends")
    page.locator("svg path").first.wait_for()
    _shoot(page, "trends")
    page.goto("/rules")
    page.get_by_label("medium").first.fill("60")
    page.get_by_label("high").first.focus()
    page.wait_for_load_state("networkidle")
    page.get_by_text(re.compile(r"\d+ raised")).wait_for()
    _shoot(page, "rules")


def _report(browser: Browser, client: Client, ident: Any) -> None:
    """The report out of the evidence of a review."""
    with zipfile.ZipFile(io.BytesIO(client.evidence(ident))) as archive:
        report = archive.read("report.html").decode()
    page = browser.new_context(viewport={"width": DESK[0], "height": DESK[1]}).new_page()
    page.set_content(report)
    _shoot(page, "report")


def _giving(browser: Browser, demo: Demo) -> None:
    """An offer before it is sent, the same as whoever it is for reads it, and somebody inside an account."""
    page = _page(browser, demo, who="tobias.renn@hollinfell.example.org")
    page.goto("/give")
    for label, words in (
        ("To which account", "Booking desk mailbox"),
        ("To whom", "tobias.ren@hollinfell.example.org"),
    ):
        page.get_by_role("combobox", name=label).fill(words)
        page.get_by_role("option", name=words).first.click()
    page.get_by_label("Name of tobias.ren@").fill("Tobias Renner")
    page.get_by_label("Answer mail").check()
    page.get_by_label("only some").check()
    page.get_by_label("Last day").fill("2099-03-31")
    page.evaluate("window.scrollTo(0, 0)")
    _shoot(page, "offer")
    guest = browser.new_context(base_url=demo.address, viewport={"width": DESK[0], "height": DESK[1]}).new_page()
    guest.goto(_link(demo, "wim.halloran@wardens.example.net"))
    _shoot(guest, "acceptance")
    delegate = _page(browser, demo, who="fenna.aldous@wardens.example.net")
    delegate.goto("/mine")
    delegate.get_by_role("button", name="Switch in to Wardens' mailbox").click()
    delegate.locator("[data-test=inside]").wait_for()
    _shoot(delegate, "inside")


def _link(demo: Demo, address: str) -> str:
    """The link in the mail to an address, once it has come."""
    for _ in range(100):
        for message in demo.mail.messages(address):
            plain = message.get_body(("plain",))
            found = re.search(r"http\S+#\S+", plain.get_content()) if plain is not None else None
            if found:
                return found[0]
        time.sleep(0.2)
    raise RuntimeError(f"no mail to {address} came")


def _terminal(demo: Demo, token: str) -> None:
    """A real terminal window with real commands in it."""
    commands = (
        "openlatch next -n 2",
        "openlatch flag list -n 3",
        'openlatch account show "Heating control"',
        'openlatch paths "Gwil Tresco" "Weather readings"',
        "openlatch journal verify",
    )
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "OPENLATCH_URL": demo.address,
        "OPENLATCH_TOKEN": token,
        "PATH": f"{Path('.venv/bin').resolve()}:{os.environ['PATH']}",
    }
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    window = None
    try:
        time.sleep(1.5)
        look = ["-fa", "DejaVu Sans Mono", "-fs", "10", "-bg", "#141815", "-fg", "#eeebdf", "-geometry", "158x48+0+0"]
        shown = "; ".join(f"printf '%s\\n' {shlex.quote('$ ' + c)}; {c}" for c in commands) + "; sleep 90"
        window = subprocess.Popen(
            ["xterm", *look, "-e", "bash", "-c", shown], env=environment, stderr=subprocess.DEVNULL
        )
        time.sleep(45)
        subprocess.run(["import", "-window", "root", str(SHOTS / "terminal.png")], env=environment, check=True)
        print("terminal")
    finally:
        if window is not None:
            window.terminate()
        screen.terminate()
        screen.wait(10)


def main() -> None:
    """Start the demo apart from any other, draw everything, stop it."""
    SHOTS.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="openlatch-shots-"))
    folder.chmod(0o755)
    demo = Demo(folder / "demo", 0)
    try:
        demo.start()
        with Client(demo.address) as client:
            token = client.make_token(ADMINISTRATOR, PASSWORD).token
        with Client(demo.address, token) as client, sync_playwright() as playwright:
            program = shutil.which("chromium")
            arguments = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
            browser = playwright.chromium.launch(executable_path=program, args=arguments)
            _terminal(demo, token)
            _giving(browser, demo)
            _console(browser, demo, client)
            browser.close()
    finally:
        demo.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
