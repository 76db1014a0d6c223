"""The browser that tests use: Debian's, without a window."""

from __future__ import annotations

import shutil

from playwright.sync_api import Browser, Playwright


def launch(playwright: Playwright) -> Browser:
    """A new browser. The one that never has a window needs half of the processor's time; the other does as well."""
    program = shutil.which("chromium-headless-shell") or shutil.which("chromium")
    assert program, "Install Debian's package chromium"
    arguments = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
    return playwright.chromium.launch(executable_path=program, args=arguments)
