"""The main journeys by keyboard alone, and what a screen reader is told on the way."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.conftest import Server
from tests.make import G, L, dot, flat, ora

MOST_TABS = 120


def tab_to(page: Page, name: str, what: str = "*") -> None:
    """Press Tab until what has the focus is called ``name``; so whoever sees nothing finds it."""
    for _ in range(MOST_TABS):
        page.keyboard.press("Tab")
        called = page.evaluate(
            """(what) => {
              const one = document.activeElement;
              if (!one.matches(what)) return "";
              const told = one.getAttribute("aria-label") ?? one.labels?.[0]?.textContent;
              const picture = one.querySelector?.("img[alt]")?.alt ?? "";
              return `${told ?? one.textContent} ${picture}`.trim();
            }""",
            what,
        )
        if name in called:
            return
    raise AssertionError(f"Tab never comes to {name}")


def shown(page: Page) -> None:
    """Wait until the page is painted: Chromium drops keys that come before."""
    while not page.evaluate("performance.getEntriesByName('first-contentful-paint').length"):
        page.wait_for_timeout(100)
    page.wait_for_timeout(300)


def press(page: Page, key: str, until: Callable[[], None]) -> None:
    """Press ``key`` until it has worked: a key is lost while a page is still being put up."""
    shown(page)
    for _ in range(4):
        page.keyboard.press(key)
        with suppress(AssertionError):
            until()
            return
    page.keyboard.press(key)
    until()


def heard(page: Page) -> list[str]:
    """Roles and names in the order of a screen reader, by Chromium's accessibility tree."""
    return [line.strip(" -") for line in page.locator("main").aria_snapshot().splitlines()]


def in_order(lines: list[str], *wanted: str) -> None:
    at = 0
    for words in wanted:
        found = next((i for i in range(at, len(lines)) if words in lines[i]), None)
        assert found is not None, f"{words!r} does not come after the line {lines[at]!r}: {lines}"
        at = found


def test_from_a_design_to_its_bundle_and_proof(page: Page, demo: Server, tmp_path: Path) -> None:
    group = G("Kites", [L("Near", dot(160, 120, (20, 20, 80, 60)), 10, 10)])
    design = ora(tmp_path / "by-key.ora", 200, 150, [group, L("Sky", flat(200, 150))])
    page.goto(demo.url)
    shown(page)
    tab_to(page, "choose files", "input")
    page.locator("#file").set_input_files(design)  # the chooser is the system's
    expect(page.get_by_role("link", name="by-key.ora").locator("img")).to_be_visible()
    tab_to(page, "by-key.ora", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="by-key.ora")).to_be_visible()
    in_order(
        heard(page),
        'heading "by-key.ora"', 'group "Zoom"', '"Filter by name"', "table",
        'columnheader "Part and file name"', 'checkbox "Cut the whole canvas"',
        'checkbox "Cut Near"', 'button "Run"',
    )  # fmt: skip

    row = page.locator("tbody.part", has=page.locator("[data-called=Near]")).or_(
        page.locator("tbody.part[data-called=Near]")
    )
    for _ in range(8):
        page.keyboard.press("ArrowDown")
        if "here" in (row.get_attribute("class") or ""):
            break
    page.keyboard.press(" ")
    expect(row.get_by_role("checkbox")).to_be_checked()
    name = row.get_by_role("textbox", name="File name")
    expect(name).to_be_visible()
    page.keyboard.press("n")
    expect(name).to_be_focused()
    page.keyboard.press("Control+a")
    page.keyboard.type("near-kite")
    page.keyboard.press("Enter")
    expect(page.locator("#history")).to_contain_text("Named Kites/Near")
    page.keyboard.press("Escape")
    page.keyboard.press("r")
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible(timeout=60_000)
    in_order(
        heard(page),
        'heading "Run of', "Made", 'link "Bundle (zip)"', 'link "Proof"', 'link "Markup"', "table",
        "near-kite",
    )  # fmt: skip
    with page.expect_download() as download:
        page.keyboard.press("d")
    assert download.value.suggested_filename.endswith(".zip")
    page.keyboard.press("p")
    expect(page.get_by_role("slider", name="Divider")).to_be_visible(timeout=60_000)
    beside = page.get_by_role("button", name="side by side")
    press(
        page, "v", lambda: expect(beside).to_have_attribute("aria-pressed", "true", timeout=2_000)
    )
    page.keyboard.press("v")
    page.keyboard.press("v")
    tab_to(page, "Divider")
    before = page.locator("#divider").get_attribute("aria-valuenow")
    page.keyboard.press("ArrowRight")
    expect(page.locator("#divider")).not_to_have_attribute("aria-valuenow", before or "")


def test_an_upload_is_described_and_its_crop_moved(page: Page, demo: Server) -> None:
    page.goto(demo.url)
    shown(page)
    page.keyboard.press("i")
    expect(page.get_by_role("heading", name="Uploads", exact=True)).to_be_visible()
    tab_to(page, "Search", "input")
    page.keyboard.type("long-dune")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("q=long-dune"))
    shown(page)
    tab_to(page, "long-dune.jpg", "a")
    page.keyboard.press("Enter")
    expect(page.locator("#handle")).to_be_visible()
    expect(page.get_by_role("heading", name="Markup")).to_be_visible()
    in_order(
        heard(page),
        'heading "long-dune.jpg"', 'button "Focal point', 'heading "Alt text and tags"',
        'textbox "Alt text"', 'heading "Markup"', 'heading "The file"',
    )  # fmt: skip
    tab_to(page, "Focal point")
    across = page.get_by_label("Focal point across in %")
    before = across.input_value()
    page.keyboard.press("ArrowRight")
    expect(across).not_to_have_value(before)
    page.wait_for_load_state("networkidle")
    shown(page)
    tab_to(page, "Alt text", "textarea")
    page.keyboard.press("Control+a")
    page.keyboard.type("Ripples on a dune, by key")
    page.keyboard.press("Tab")
    expect(page.get_by_text("✓ Saved")).to_be_visible()
    page.reload()
    expect(page.get_by_role("textbox", name="Alt text")).to_have_value("Ripples on a dune, by key")


def test_many_sources_are_chosen_treated_and_undone(page: Page, demo: Server) -> None:
    page.goto(f"{demo.url}/?view=table&q=tide")  # two sources, whatever else tests bring in
    in_order(
        heard(page),
        'heading "Sources"', 'searchbox "Search names and tags"', "table", 'columnheader "State"',
        'button "Run',
    )  # fmt: skip
    shown(page)
    page.keyboard.press("ArrowDown")
    page.keyboard.press(" ")
    page.keyboard.press("Shift+ArrowDown")
    expect(page.locator("tr.selected")).to_have_count(2)
    tab_to(page, "Tags", "input")
    page.keyboard.type("by-key")
    page.keyboard.press("Enter")
    expect(page.locator(".desk-tag", has_text="by-key")).to_have_count(2)
    tab_to(page, "Undo", "button")
    page.keyboard.press("Enter")
    expect(page.locator(".desk-tag", has_text="by-key")).to_have_count(0)
