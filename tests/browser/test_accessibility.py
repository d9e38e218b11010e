"""axe-core on every view: in light, dark, forced colours, reduced motion, and at twice the text."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from tests.browser.test_cutting import bring
from tests.conftest import Server
from tests.make import G, L, dot, ora, photo

AXE = Path(__file__).parents[1] / "vendor" / "axe.min.js"
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
SIZES = ["target-size", "scrollable-region-focusable"]
SETTINGS: dict[str, tuple[dict[str, Any], str, list[str]]] = {
    "light": ({}, "", RULES),
    "dark": ({"color_scheme": "dark"}, "", ["color-contrast"]),
    "forced colours": ({"forced_colors": "active"}, "", ["color-contrast"]),
    "reduced motion": ({"reduced_motion": "reduce"}, "", ["color-contrast"]),
    "twice the text": ({}, "30px", SIZES),
}
"""what people set, the size of ``rem`` then, and the rules that this can break"""
USUAL: dict[str, Any] = {
    "color_scheme": "light", "forced_colors": "none", "reduced_motion": "no-preference",
}  # fmt: skip


def complaints(page: Page) -> list[str]:
    """What axe finds wrong, a line for each element: everything in light, and in each other
    setting what that can do wrong."""
    # Run from outside the page, past the policy that keeps foreign scripts out.
    page.evaluate(AXE.read_text("utf-8"))
    told = []
    for setting, (media, size, only) in SETTINGS.items():
        page.emulate_media(**(USUAL | media))
        page.evaluate("size => { document.documentElement.style.fontSize = size; }", size)
        found = page.evaluate("only => axe.run(document, { runOnly: only })", only)
        told += [
            f"{setting}: {broken['id']}: {node['target']} {node['failureSummary']}"
            for broken in found["violations"]
            for node in broken["nodes"]
        ]
    page.emulate_media(**USUAL)
    page.evaluate("() => { document.documentElement.style.fontSize = ''; }")
    return told


def test_every_view_can_be_used_by_everybody(page: Page, demo: Server, tmp_path: Path) -> None:
    design = ora(
        tmp_path / "views.ora",
        420,
        300,
        [
            G("Kites", [L("Near #figure", dot(300, 220, (40, 30, 200, 150)), 20, 20)]),
            L("Far #backdrop", photo(420, 300, 8)),
        ],
    )
    found: dict[str, list[str]] = {}

    def check(view: str) -> None:
        found[view] = complaints(page)

    page.goto(demo.url)
    check("sources")
    page.locator(".desk-row .tick").first.check()
    check("sources with one chosen")
    page.goto(f"{demo.url}/?view=table")
    check("sources as a table")
    page.goto(f"{demo.url}/runs")
    check("runs")
    bring(page, demo, design)
    page.keyboard.press("ArrowDown")
    check("cut")
    for fold in ("#slices", "#rules"):
        page.locator(f"{fold}:not([open]) > summary").click()
    page.locator("input[name=columns]").fill("2")
    page.get_by_role("button", name="Split").click()
    expect(page.locator("tbody.slice")).to_have_count(2)
    page.get_by_text("more").first.click()
    check("cut with slices")
    page.keyboard.press("Escape")
    page.get_by_role("link", name="originals").click()
    expect(page.get_by_role("heading", name="Originals")).to_be_visible()
    check("originals")
    page.go_back()
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("tbody.slice")).to_have_count(0)
    page.get_by_role("button", name="Shortcuts").click()
    check("keys")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    check("run")
    run = page.url
    page.get_by_role("link", name="Layout").click()
    check("layout")
    page.goto(f"{run}/proof")
    expect(page.get_by_text("Choose a point")).to_be_visible()
    check("proof")
    page.goto(f"{demo.url}/recipes")
    check("recipes")
    page.goto(f"{demo.url}/recipes/icon")
    page.get_by_text("Encoder settings and metadata").click()
    expect(page.locator("#effect table")).to_be_visible()
    check("recipe")
    page.goto(run)
    page.get_by_role("link", name="Back to the cuts").click()
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_role("heading", name="Two runs of")).to_be_visible()
    check("compare")
    page.goto(f"{demo.url}/slots")
    check("slots")
    page.goto(f"{demo.url}/slots/-")
    check("what all slots share")
    page.goto(f"{demo.url}/slots/gallery")
    page.get_by_role("button", name="4:3", exact=True).click()
    expect(page.locator("#tried .cropped")).to_be_visible()
    check("slot")
    page.get_by_role("link", name="Keys and webhook").click()
    expect(page.get_by_role("heading", name="Keys and webhook")).to_be_visible()
    check("keys and webhook")
    page.goto(f"{demo.url}/uploads")
    check("uploads")
    page.goto(f"{demo.url}/uploads?state=live")
    page.locator(".feed-picture").last.click()
    expect(page.locator("#handle")).to_be_visible()
    check("upload")
    for view in ("people", "people/trail", "sign-in", "health", "plan", "removed", "watched"):
        page.goto(f"{demo.url}/{view}")
        check(view)
    page.goto(f"{demo.url}/uploads?q=nothing+is+called+so")
    check("no upload")
    for path in ("", "stalls", "reports", "reports/first-morning", "reports/first-morning/edit"):
        page.goto(f"{demo.url}/festival/{path}")
        check(f"festival {path}")
    assert found == {view: [] for view in found}


def test_an_error_page_and_an_empty_wall_too(page: Page, empty_server: Server) -> None:
    page.goto(empty_server.url)
    expect(page.get_by_role("heading", name="Nothing here yet")).to_be_visible()
    assert complaints(page) == []
    for path in ("runs", "slots", "uploads"):
        page.goto(f"{empty_server.url}/{path}")
        assert complaints(page) == [], path
