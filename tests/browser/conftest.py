"""Debian's Chromium, driven by Playwright."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

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
expect.set_options(timeout=20_000)


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
