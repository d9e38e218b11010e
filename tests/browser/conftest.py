"""Debian's Chromium, driven by Playwright."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, FloatRect, Locator, Page, expect, sync_playwright

from tests.conftest import SLOWNESS

ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]

# Other tests keep the machine busy.
SECONDS = 60 * SLOWNESS
expect.set_options(timeout=SECONDS * 1000)


def overflow(page: Page, seconds: float = 5) -> float:
    """Px by which ``page`` is wider than its window. Which tables scroll by themselves is found out
    a frame or two after the window has changed, so what is too wide is asked again for a while."""
    deadline = time.monotonic() + seconds
    while True:
        over = page.evaluate("document.documentElement.scrollWidth - innerWidth")
        if over <= 0 or time.monotonic() > deadline:
            return float(over)
        page.wait_for_timeout(50)


def place_of(locator: Locator) -> FloatRect:
    """Where an element is, in px, once its page has its style sheet and pictures."""
    locator.page.wait_for_load_state("load")
    box = locator.bounding_box()
    assert box is not None
    return box


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    path = shutil.which("chromium") or shutil.which("chromium-browser")
    assert path, "Chromium is missing: sudo apt-get install chromium"
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path=path, args=ARGUMENTS)
        yield opened
        opened.close()


EXPECTED = (
    "422 (Unprocessable Entity)", "Status Error Code 422", "net::ERR_ABORTED", "htmx:sendAbort",
    "htmx:afterRequest",
)  # fmt: skip
"""what Chromium mentions although nothing is wrong: a refusal the page explains, leaving a page
before all its pictures have come, and a change that is followed by another at once"""


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page; anything it complains about fails the test."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    context.set_default_timeout(SECONDS * 1000)
    opened = context.new_page()
    complaints: list[str] = []

    def hear(text: str) -> None:
        if not any(word in text for word in EXPECTED):
            complaints.append(text)

    opened.on("pageerror", lambda error: hear(str(error)))
    opened.on(
        "console",
        lambda m: hear(f"{m.text} {m.location['url']}") if m.type in ("error", "warning") else None,
    )
    opened.on("requestfailed", lambda request: hear(f"{request.url} {request.failure}"))
    yield opened
    context.close()
    assert complaints == []
