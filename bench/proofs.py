"""How soon a proof is on the screen, and its curves."""

from __future__ import annotations

import shutil
import time
from dataclasses import dataclass
from pathlib import Path

import httpx
import pyvips
from playwright.sync_api import Page, expect, sync_playwright

from bench.cutting import serving
from gefa.core.plan.plan import Plan
from gefa.core.treat.recipe import Recipe
from gefa_demo.photographs import draw_photograph

WIDTH, HEIGHT = 4000, 3000
PLAN = Plan(
    default="whole",
    recipes={"whole": Recipe(formats=("avif", "webp", "jpeg"), widths=(960, 1920, WIDTH))},
)


@dataclass
class Proofing:
    """Seconds from asking for a proof until a picture is on the screen, until both are, until
    both are at the natural size; and from then until the curves are complete."""

    first: float
    both: float
    natural: float
    curves: float


def proofing(folder: Path) -> Proofing:
    """A picture of 12 megapixels, in a real browser on a real server."""
    picture = folder / "twelve.jpg"
    image = pyvips.Image.new_from_file(str(draw_photograph(1, folder))).autorot()
    grown = image.resize(WIDTH / image.width, vscale=HEIGHT / image.height)
    grown.jpegsave(str(picture), Q=92)
    with serving(folder / "proofing") as url, sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        with httpx.Client(base_url=url, timeout=60, follow_redirects=True) as client:
            brought = client.post(
                "/sources",
                files={"file": (picture.name, picture.read_bytes())},
                headers={"Accept": "application/json"},
            )
            source = brought.json()["results"][0]["source"]
            client.post("/plan", data={"text": PLAN.to_toml()})
            page.goto(f"{url}/sources/{source}")
            page.get_by_role("button", name="Run", exact=True).click(timeout=60_000)
            expect(page.get_by_role("link", name="Proof")).to_be_visible(timeout=300_000)
        run = page.url
        first, both = _shown(page, f"{run}/proof/twelve?width=1920")
        measured = time.perf_counter()
        expect(page.get_by_text("Choose a point")).to_be_visible(timeout=300_000)
        curves = time.perf_counter() - measured
        _, natural = _shown(page, f"{run}/proof/twelve?width={WIDTH}")
        return Proofing(first, both, natural, curves)


def _shown(page: Page, address: str) -> tuple[float, float]:
    started = time.perf_counter()
    page.goto(address)
    page.wait_for_selector("[data-there]", timeout=60_000)
    first = time.perf_counter() - started
    page.wait_for_selector("#proof-said", state="hidden", timeout=60_000)
    return first, time.perf_counter() - started
