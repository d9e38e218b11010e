"""The main journeys by keyboard alone, and what a screen reader is told on the way."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import SECONDS
from tests.browser.test_cutting import bring, drawn
from tests.conftest import HTTP, Server, eventually, start
from tests.make import G, L, dot, flat, ora, photo
from tests.web.test_sign_in import PASSPHRASE
from tests.web.test_weight import weighed_site

TRY_SECONDS = 8
"""before a key is pressed again"""
MOST_TABS = 120


SLOW_ANSWERS = """() => {
  const ask = window.fetch;
  window.fetch = async (...all) => {
    await new Promise((go) => setTimeout(go, 1000));
    return ask(...all);
  };
}"""
"""answers of a server come a second later: the focus may have gone on by then"""


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
    expect.set_options(timeout=TRY_SECONDS * 1000)
    try:
        for _ in range(4):
            page.keyboard.press(key)
            with suppress(AssertionError):
                until()
                return
    finally:
        expect.set_options(timeout=SECONDS * 1000)
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
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_be_hidden()
    page.keyboard.press("r")
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    in_order(
        heard(page),
        'heading "Run of', "Made", 'link "Bundle (zip)"', 'link "Proof"', 'link "Markup"', "table",
        "near-kite",
    )  # fmt: skip
    with page.expect_download() as download:
        page.keyboard.press("d")
    assert download.value.suggested_filename.endswith(".zip")
    page.keyboard.press("p")
    expect(page.get_by_role("slider", name="Divider")).to_be_visible()
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
    expect(page.get_by_text("Choose a point")).to_be_visible()
    tab_to(page, "WebP at quality 35", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Not made yet")).to_be_visible()
    shown(page)
    tab_to(page, "For this cut", "button")
    page.keyboard.press("Enter")
    expect(page.locator(".kept")).to_contain_text("WebP 35")


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


def test_a_picture_is_split_and_a_slice_placed(page: Page, demo: Server, tmp_path: Path) -> None:
    file = tmp_path / "sliced-by-key.png"
    photo(600, 400, 5).pngsave(str(file))
    bring(page, demo, file)
    shown(page)
    page.keyboard.press("l")
    tab_to(page, "columns", "input")
    page.keyboard.press("Control+a")
    page.keyboard.type("3")
    page.keyboard.press("Enter")
    expect(page.locator("tbody.slice")).to_have_count(3)
    tab_to(page, "Draw a slice", "button")
    page.keyboard.press("Enter")
    expect(page.locator("#draw-slice")).to_have_attribute("aria-pressed", "true")
    page.locator("#guides-y").focus()
    page.keyboard.type("50%")
    page.keyboard.press("Enter")  # in a field it sends the field
    expect(page.locator("tbody.slice")).to_have_count(6)
    assert drawn(page) == []
    expect(page.locator("#draw-slice")).to_have_attribute("aria-pressed", "true")
    page.locator("#draw-slice").focus()
    page.keyboard.press("Enter")
    area = page.locator(".slice-area")
    expect(area).to_be_focused()
    assert drawn(page) == [(150, 100, 300, 200)]
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Alt+ArrowUp")
    eventually(lambda: drawn(page) == [(160, 100, 300, 199)], 10)
    page.keyboard.press("Delete")
    expect(area).to_have_count(0)
    page.keyboard.press("z")
    expect(area).to_have_count(1)


def test_a_ladder_is_used_and_undone(
    page: Page, tmp_path: Path, free_port: Callable[[], int]
) -> None:
    with weighed_site(tmp_path / "data", free_port()) as site:
        page.goto(site.server.url)
        shown(page)
        page.keyboard.press("m")
        expect(page.get_by_role("heading", name="Weight", exact=True)).to_be_visible()
        shown(page)
        tab_to(page, "home", "a")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="home")).to_be_visible()
        shown(page)
        in_order(heard(page), 'heading "home"', "Mean", "slider", 'heading "Ladder"', "table")
        tab_to(page, "Width 1")
        widths = page.get_by_label("Try widths")
        before = widths.input_value()
        page.evaluate(SLOW_ANSWERS)
        with page.expect_response("**/weight/ladder**"):
            page.keyboard.press("ArrowRight")
            expect(widths).not_to_have_value(before)
            tab_to(page, "Use for this cut", "button")
        expect(page.locator(".ladder-table tbody").first).to_contain_text(widths.input_value())
        expect(page.get_by_role("button", name="Use for this cut")).to_be_focused()
        page.keyboard.press("Enter")
        expect(page.get_by_role("status").first).to_contain_text("Saved: Widths")
        press(
            page,
            "z",
            lambda: expect(page.get_by_role("status").first).to_contain_text(
                "Undone", timeout=2_000
            ),
        )


def test_a_slot_is_made_and_its_held_uploads_decided_on(page: Page, demo: Server) -> None:
    page.goto(f"{demo.url}/slots")
    shown(page)
    page.keyboard.press("n")
    page.keyboard.type("by-key")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="by-key")).to_be_visible()
    shown(page)
    tab_to(page, "Review", "select")
    page.keyboard.press("ArrowDown")
    expect(page.locator("#row-review.setting-own")).to_be_visible()
    tab_to(page, "Keys and webhook", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Keys and webhook")).to_be_visible()
    shown(page)
    tab_to(page, "Create key", "button")
    page.keyboard.press("Enter")
    key = page.locator("#made").inner_text()
    for name in ("yes.jpg", "no.jpg"):
        HTTP.post(
            f"{demo.url}/api/v1/slots/by-key/uploads",
            files={"file": (name, bytes(photo(90, 60, len(name)).jpegsave_buffer()))},
            headers={"Authorization": f"Bearer {key}", "Prefer": "wait=60"}, timeout=70,
        )  # fmt: skip

    page.goto(f"{demo.url}/uploads?slot=by-key&state=held")
    shown(page)
    tab_to(page, "Approve yes.jpg", "button")
    page.keyboard.press("Enter")
    expect(page.locator("tr", has_text="yes.jpg")).to_have_count(0)
    shown(page)
    tab_to(page, "Reject no.jpg", "summary")
    page.keyboard.press("Enter")
    tab_to(page, "Reason", "input")
    page.keyboard.type("Too small")
    page.keyboard.press("Enter")
    expect(page.get_by_text("No upload matches")).to_be_visible()


def test_a_person_is_added_signs_in_and_out(page: Page, empty_server: Server) -> None:
    page.goto(f"{empty_server.url}/people")
    shown(page)
    tab_to(page, "Invite person", "input")
    page.keyboard.type("Ada")
    page.keyboard.press("Enter")
    page.goto(page.locator("#made").inner_text())
    shown(page)
    for field in ("Passphrase at least", "Repeat passphrase"):
        tab_to(page, field, "input")
        page.keyboard.type(PASSPHRASE)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Sources")).to_be_visible()
    shown(page)
    tab_to(page, "Ada", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Sign out", exact=True)).to_be_visible()
    shown(page)
    tab_to(page, "Sign out", "button")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    shown(page)
    in_order(heard(page), 'heading "Sign in"', 'textbox "Name"', 'textbox "Passphrase"', "button")
    for field, words in (("Name", "ada"), ("Passphrase", PASSPHRASE)):
        tab_to(page, field, "input")
        page.keyboard.type(words)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Sources")).to_be_visible()


def test_a_photograph_is_shared_and_a_report_written(
    page: Page, demo: Server, tmp_path: Path
) -> None:
    file = tmp_path / "shared-by-key.jpg"
    photo(700, 500, 33).jpegsave(str(file))
    page.goto(f"{demo.url}/festival/")
    shown(page)
    tab_to(page, "Photo", "input")
    page.locator("#photo").set_input_files(file)  # the chooser is the system's
    tab_to(page, "What does it show?", "input")
    page.keyboard.type("Dusk, by key")
    page.keyboard.press("Enter")
    expect(page.get_by_role("img", name="Dusk, by key")).to_be_visible()

    shown(page)
    tab_to(page, "Field reports", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Field reports")).to_be_visible()
    shown(page)
    tab_to(page, "Write a report", "button")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Title")).to_be_visible()
    shown(page)
    tab_to(page, "Title", "input")
    page.keyboard.press("Control+a")
    page.keyboard.type("Wind, by key")
    tab_to(page, "Text", "textarea")
    page.keyboard.type("Before it.")
    tab_to(page, "Insert picture", "input")
    page.locator("#add").set_input_files(file)
    expect(page.locator(".alt")).to_be_focused()
    page.keyboard.type("Sand, by key")
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("ArrowUp")
    expect(page.locator("figure.placed-right")).to_be_visible()
    tab_to(page, "Remove", "button")
    page.keyboard.press("Enter")
    expect(page.locator("#blocks figure")).to_have_count(0)
    page.keyboard.press("Enter")  # the focus is on Undo
    expect(page.locator("#blocks figure")).to_have_count(1)
    tab_to(page, "Save", "button")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()
    tab_to(page, "View report", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Wind, by key")).to_be_visible()
    in_order(heard(page), "Before it.", 'img "Sand, by key"', 'link "Edit report"')


def test_a_folder_is_watched_and_let_go(
    page: Page, tmp_path: Path, free_port: Callable[[], int]
) -> None:
    folder = tmp_path / "site" / "photos"
    folder.mkdir(parents=True)
    photo(300, 200, 12).pngsave(str(folder / "watched-by-key.png"))
    under = ("--workers", "1", "--watch-under", str(tmp_path / "site"))
    server = start("serve", tmp_path / "data", free_port(), *under)
    try:
        page.goto(server.url)
        shown(page)
        tab_to(page, "Watch", "a")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="Watched folders")).to_be_visible()
        shown(page)
        tab_to(page, "Folder", "input")
        page.keyboard.type("/nowhere")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("/nowhere")
        shown(page)
        tab_to(page, "Folder", "input")
        page.keyboard.press("Control+a")
        page.keyboard.type(str(folder))
        page.keyboard.press("Enter")
        expect(page.get_by_role("cell", name="watched", exact=True)).to_be_visible()
        in_order(heard(page), 'heading "Watched folders"', 'textbox "Folder"', "table", "watched")
        shown(page)
        page.keyboard.press("s")
        expect(page.get_by_role("link", name="watched-by-key.png")).to_be_visible()
        page.goto(f"{server.url}/watched")
        shown(page)
        tab_to(page, "Stop watching", "button")
        page.keyboard.press("Enter")
        expect(page.get_by_text("No folder is watched yet.")).to_be_visible()
    finally:
        server.stop()


def test_parts_are_filtered_selected_and_changed_together(
    page: Page, demo: Server, tmp_path: Path
) -> None:
    layers = [L(f"Kite {n}", dot(40, 40, (0, 0, 20 + n, 30)), 8 * n, 9 * n) for n in range(4)]
    bring(page, demo, ora(tmp_path / "many-by-key.ora", 200, 120, [*layers, L("Sky", flat(9, 9))]))
    shown(page)
    page.keyboard.press("f")
    page.keyboard.type("kite")
    expect(page.locator("tbody.part:visible")).to_have_count(4)
    page.keyboard.press("Escape")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Shift+ArrowDown")
    expect(page.locator("#bulk-count")).to_have_text("3 rows")
    page.keyboard.press(" ")
    expect(page.locator("tbody.part .tick:checked")).to_have_count(3)
    tab_to(page, "Recipe", "#bulk-recipe")
    page.keyboard.type("icon")
    page.keyboard.press("Tab")
    expect(page.locator("#history")).to_contain_text("icon")
    tab_to(page, "Undo", "button")
    page.keyboard.press("Enter")
    expect(page.locator("tbody.part .tick:checked")).to_have_count(3)
    tab_to(page, "Undo", "button")
    page.keyboard.press("Enter")
    expect(page.locator("tbody.part .tick:checked")).to_have_count(0)


def test_a_slot_is_tried_changed_and_undone(page: Page, demo: Server) -> None:
    page.goto(f"{demo.url}/slots")
    shown(page)
    page.keyboard.press("n")
    page.keyboard.type("tried-by-key")
    tab_to(page, "based on", "select")
    page.keyboard.type("stalls")
    tab_to(page, "Create", "button")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="tried-by-key")).to_be_visible()
    shown(page)
    tab_to(page, "1:1", "button")
    page.keyboard.press("Enter")
    expect(page.locator("#tried .cropped")).to_be_visible()
    ratio = page.get_by_label("Ratio of crop 3")
    before = ratio.input_value()
    tab_to(page, "Ratio of crop 3", "input")
    page.keyboard.press("Control+a")
    page.keyboard.type("1:9")
    page.keyboard.press("Enter")
    expect(page.locator("#effect")).to_contain_text("133 × 1,200 px")
    tab_to(page, "Undo", "button")
    page.keyboard.press("Enter")
    expect(ratio).to_have_value(before)


def test_a_run_is_stopped_and_two_are_compared(
    page: Page, empty_server: Server, tmp_path: Path
) -> None:
    files = [tmp_path / f"gust-{number}.jpg" for number in range(6)]
    for number, file in enumerate(files):
        photo(700, 500, number).jpegsave(str(file))
    page.goto(empty_server.url)
    shown(page)
    page.locator("#file").set_input_files(files)  # the chooser is the system's
    expect(page.locator("#run-button")).to_have_text("Run 6 sources")
    stopped = page.get_by_text("Stopped just now")
    page.keyboard.press("r")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    press(page, "x", lambda: expect(stopped).to_be_visible(timeout=5_000))
    page.goto(f"{empty_server.url}/?q=gust-1.jpg")
    bundle = page.get_by_role("link", name="Bundle (zip)")
    for _ in range(2):
        run = page.locator("#run-button")
        press(page, "r", lambda: expect(page).to_have_url(re.compile("/runs/"), timeout=5_000))
        expect(bundle).to_be_visible()
        assert run.count() == 0
        page.go_back()
        expect(run).to_be_visible()
    page.go_forward()
    expect(bundle).to_be_visible()
    shown(page)
    tab_to(page, "Compare", "button")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/compare"))
    in_order(heard(page), "heading", "Compare with the run of", "table")
