"""The Weight screen in Chromium: moved along, dragged, by keys, for everybody."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import overflow, place_of
from tests.browser.test_accessibility import complaints
from tests.web.test_weight import weighed_site


def test_a_page_is_looked_at_and_its_ladder_made_better(
    page: Page, tmp_path: Path, free_port: Callable[[], int]
) -> None:
    with weighed_site(tmp_path / "data", free_port()) as site:
        url = site.server.url
        page.goto(f"{url}/weight")
        assert complaints(page) == []
        page.keyboard.press("m")
        page.get_by_role("link", name="home").click()
        expect(page.get_by_role("heading", name="home")).to_be_visible()
        assert complaints(page) == []

        # Along the chart, by keys and by the mouse; the address follows.
        chart = page.locator("#weight-chart")
        chart.focus()
        page.keyboard.press("Home")
        expect(page.locator("#sent")).to_contain_text("840 px needed, 900 px sent")
        assert chart.get_attribute("aria-valuetext") == "280 px at 3 device pixels"
        page.keyboard.press("ArrowDown")
        expect(page.locator("#sent")).to_contain_text("560 px needed")
        expect(page).to_have_url(re.compile("width=280&density=2"))
        box = place_of(chart)
        page.mouse.move(box["x"] + box["width"] * 0.9, box["y"] + box["height"] / 2)
        expect(page.locator("#sent")).to_contain_text("800 px needed")
        page.reload()
        expect(page.locator("#sent")).to_contain_text("800 px needed")

        # A width of the ladder is moved, typed, and taken.
        page.goto(f"{url}/weight?page=home&cut=dune")
        rung = page.locator(".rung-tried").first
        rung.focus()
        for _ in range(3):
            page.keyboard.press("ArrowRight")
        expect(page.locator(".ladder-table").first).to_contain_text("771")
        field = page.get_by_label("Try widths")
        expect(field).to_have_value("771")
        expect(page.locator(".rung-tried").first).to_be_focused()
        place = place_of(page.locator(".rung-tried").first)
        page.mouse.move(place["x"] + 7, place["y"] + 7)
        page.mouse.down()
        page.mouse.move(place["x"] - 60, place["y"] + 7, steps=4)
        page.mouse.up()
        expect(field).not_to_have_value("771")
        assert int(field.input_value()) < 760
        field.fill("600, 760")
        expect(page.locator(".ladder-table").first).to_contain_text("600, 760")
        expect(page.locator(".rung-tried")).to_have_count(2)
        page.get_by_role("button", name="Use for this cut").click()
        expect(page.get_by_role("status").first).to_contain_text("Saved: Widths 600, 760 for dune")

        # At a narrow window nothing lies beside the screen.
        page.set_viewport_size({"width": 390, "height": 844})
        for path in ("/weight", "/weight?page=home"):
            page.goto(f"{url}{path}")
            page.wait_for_load_state("networkidle")
            assert overflow(page) <= 0, path
