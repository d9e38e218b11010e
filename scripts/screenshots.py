"""``make screenshots``: one current picture of each main view, from the demo data."""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path

import httpx
from playwright.sync_api import Page, sync_playwright
from playwright.sync_api import TimeoutError as PlaywrightTimeout

from gefa.serve import free_port
from gefa_demo.pennants import draw_pennants
from gefa_demo.shapes import MADDER, TIDE

SHOWN = """() => [...document.images].every((image) => {
  const place = image.getBoundingClientRect();
  return image.complete || place.top > innerHeight || place.left > innerWidth;
})"""
SETTLE_MS = 6_000
"""for pictures: lazy ones in a strip that scrolls may never be loaded"""
TARGET = Path(__file__).parents[1] / "docs" / "screenshots"


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        port = free_port("127.0.0.1", 0)
        command = [sys.executable, "-m", "gefa", "demo", "--data", folder, "--port", str(port)]
        server = subprocess.Popen(command)
        try:
            url = f"http://127.0.0.1:{port}"
            _wait_until_settled(url)
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(
                    executable_path="/usr/bin/chromium",
                    args=["--no-sandbox", "--disable-gpu", "--disable-background-networking"],
                )
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                _views(page, url)
                browser.close()
        finally:
            server.terminate()
            server.wait()


def _wait_until_settled(url: str) -> None:
    for _ in range(3000):  # ten minutes: the demo has one core where others use the machine
        try:
            settled = "data-unsettled" not in httpx.get(url).text
            if settled and "files are being made of" not in httpx.get(f"{url}/uploads").text:
                return
        except httpx.HTTPError:
            pass
        time.sleep(0.2)
    raise SystemExit("the demo did not come up")


def _views(page: Page, url: str) -> None:
    page.goto(url)
    _shoot(page, "sources")
    page.get_by_role("link", name="poster.ora").click()
    page.wait_for_selector("#list")
    page.keyboard.press("ArrowDown")
    for _ in range(5):
        page.keyboard.press("ArrowDown")
    _shoot(page, "cut")
    page.goto(url)
    page.locator("#run-button").click()
    page.wait_for_selector("[role=progressbar]")
    page.get_by_text(re.compile("about .* left")).wait_for(timeout=60_000)
    _shoot(page, "run-progress", settle=False)
    page.get_by_role("link", name="Bundle (zip)").wait_for(timeout=300_000)
    _shoot(page, "run")
    _proof(page)
    _compare(page)
    page.get_by_role("link", name="Layout").click()
    page.frame_locator("iframe").locator("img").first.wait_for()
    _shoot(page, "layout")
    page.goto(f"{url}/plan")
    _shoot(page, "plan")
    _slices(page, url)
    _recipe(page, url)
    _revision(page, url)
    page.goto(f"{url}/weight?page=photographs")
    page.locator(".sent-row img").first.wait_for()
    _shoot(page, "weight")
    _site(page, url)


def _site(page: Page, url: str) -> None:
    page.goto(f"{url}/slots")
    _shoot(page, "slots")
    page.goto(f"{url}/slots/stalls")
    page.get_by_role("button", name="16:9", exact=True).click()
    page.locator("#tried .cropped").wait_for(timeout=60_000)
    _shoot(page, "slot")
    page.goto(f"{url}/uploads")
    _shoot(page, "uploads")
    page.get_by_role("link", name="close-cloth.jpg").click()
    page.locator("#handle").wait_for()
    page.locator("#text-html").wait_for()
    _shoot(page, "upload")
    page.goto(f"{url}/festival/")
    _shoot(page, "festival")
    page.goto(f"{url}/festival/stalls")
    _shoot(page, "stalls")


def _slices(page: Page, url: str) -> None:
    page.goto(url)
    page.get_by_role("link", name="shoreline.jpg").click()
    page.locator("#drawn image").wait_for()
    if not page.locator("#slices[open]").count():
        page.locator("#slices > summary").click()
    page.locator("tbody.slice").nth(3).wait_for()
    page.locator(".slice-area, tbody.slice .tick").first.focus()
    _shoot(page, "slices")


def _proof(page: Page) -> None:
    run = page.url
    page.goto(f"{run}/proof/art/Red-kite")
    page.get_by_text("Choose a point").wait_for(timeout=60_000)
    page.get_by_text("…", exact=True).first.wait_for(state="detached", timeout=60_000)
    _shoot(page, "proof")
    page.get_by_role("button", name="difference").click()
    page.keyboard.press("2")
    _shoot(page, "difference")
    page.goto(run)


def _compare(page: Page) -> None:
    """The run beside one by another quality of one cut."""
    run = page.url
    page.goto(f"{run}/proof/art/Red-kite?format=webp")
    page.get_by_role("link", name=re.compile("WebP at quality 35")).click(timeout=60_000)
    page.get_by_role("button", name="For this cut").click()
    page.get_by_role("button", name="Run again").click()
    page.get_by_role("button", name="Compare").click(timeout=60_000)
    page.get_by_role("heading", name="Two runs of").wait_for()
    _shoot(page, "compare")
    page.goto(run)


def _recipe(page: Page, url: str) -> None:
    page.goto(f"{url}/recipes")
    page.locator("#new-name").fill("story")
    page.get_by_role("button", name="Create").click()
    page.locator("#sample").select_option(label="photos/kites-at-noon.jpg")
    page.locator("#effect table").wait_for(timeout=60_000)
    page.locator("#w-fit").select_option("cover")
    page.locator("#w-ratio").wait_for()
    page.wait_for_timeout(600)
    page.locator("#effect table").wait_for(timeout=60_000)
    page.locator("#tried img").wait_for()
    page.locator("h1").click()
    _shoot(page, "recipe")


def _revision(page: Page, url: str) -> None:
    """The sheet of pennants once more, with one of them in another colour."""
    page.goto(url)
    page.get_by_role("link", name="pennants.svg").click()
    address = page.url
    with tempfile.TemporaryDirectory() as folder:
        sheet = Path(folder) / "pennants.svg"
        draw_pennants(sheet)
        sheet.write_text(sheet.read_text("utf-8").replace(MADDER, TIDE, 2), "utf-8")
        httpx.post(f"{url}/sources", files={"file": (f"designs/{sheet.name}", sheet.read_bytes())})
    page.goto(address)
    page.get_by_text("New in revision 2").wait_for(timeout=20_000)
    page.locator("#changes img").first.wait_for(timeout=20_000)
    _shoot(page, "revision")


def _shoot(page: Page, name: str, *, settle: bool = True) -> None:
    if settle:
        page.wait_for_load_state("networkidle")
        with suppress(PlaywrightTimeout):
            page.wait_for_function(SHOWN, timeout=SETTLE_MS)
    page.screenshot(path=TARGET / f"{name}.png")


if __name__ == "__main__":
    main()
