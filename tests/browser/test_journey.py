"""The journeys a newcomer makes, in a real browser."""

from __future__ import annotations

import json
import re
import time
import zipfile
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import overflow, place_of
from tests.conftest import Server, eventually
from tests.make import L, dot, flat, ora, photo

DROP = """([name, data]) => {
  const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
  const carried = new DataTransfer();
  carried.items.add(new File([bytes], name));
  for (const type of ["dragenter", "dragover", "drop"])
    document.body.dispatchEvent(new DragEvent(type, { dataTransfer: carried, bubbles: true, cancelable: true }));
}"""


def design(path: Path) -> Path:
    """A square in each corner and one that nobody marked."""
    layers = [
        L("Red pin #icon", dot(90, 90, (0, 0, 80, 80)), 10, 10),
        L("Blue pin #icon", dot(90, 90, (0, 0, 80, 80), (0, 0, 255)), 300, 200),
        L("Plain", dot(60, 60, (0, 0, 60, 60), (0, 99, 0)), 180, 120),
        L("Ground", flat(400, 300, (240, 235, 220))),
    ]
    return ora(path, 400, 300, layers)


def drop(page: Page, file: Path) -> None:
    import base64

    page.evaluate(DROP, [file.name, base64.b64encode(file.read_bytes()).decode()])


def open_source(page: Page, server: Server, name: str) -> None:
    page.goto(server.url)
    page.get_by_role("link", name=name).click()
    expect(page.locator("#list")).to_be_visible()
    page.wait_for_load_state()


def test_from_drop_to_bundle(page: Page, demo: Server, tmp_path: Path) -> None:
    page.goto(demo.url)
    drop(page, design(tmp_path / "signs.ora"))
    tile = page.get_by_role("link", name="signs.ora")
    expect(tile.locator("img")).to_be_visible()
    tile.click()

    expect(page.get_by_label("Cut Red pin")).to_be_checked()
    expect(page.get_by_label("Cut Plain")).not_to_be_checked()
    expect(page.locator("#outlines .cut-line:not(.cut-line-pale)")).to_have_count(2)
    expect(page.locator("#sum dd").nth(1)).to_have_text("4")

    page.get_by_label("Cut Plain").check()
    expect(page.locator("#outlines .cut-line:not(.cut-line-pale)")).to_have_count(3)
    row = page.locator("tbody", has=page.get_by_label("Cut Plain"))
    row.get_by_label("Recipe", exact=True).select_option("icon")
    expect(page.locator("#sum dd").nth(1)).to_have_text("6")
    row.get_by_label("File name").fill("green")
    row.get_by_label("File name").press("Tab")
    expect(row.get_by_label("File name")).to_have_value("green")
    expect(row).to_contain_text("by hand")

    page.get_by_role("button", name="Run").click()
    expect(page.get_by_role("heading", name="Run of signs.ora")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Bundle (zip)").click()
    bundle = tmp_path / "bundle.zip"
    download.value.save_as(bundle)
    with zipfile.ZipFile(bundle) as archive:
        manifest = json.loads(archive.read("manifest.json"))
        assert {file["path"] for file in manifest["files"]} < set(archive.namelist())
        archive.extractall(tmp_path / "site")
    assert {cut["name"] for cut in manifest["cuts"]} == {"Red-pin", "Blue-pin", "green"}
    assert len(manifest["files"]) == 6

    page.goto((tmp_path / "site" / "markup.html").as_uri())
    # Lazy pictures are not waited for by the page's own load event.
    page.wait_for_function("[...document.images].every((i) => i.complete && i.naturalWidth > 0)")
    chosen = page.evaluate("[...document.images].map((i) => i.currentSrc)")
    assert len(chosen) == 3
    assert all(".webp" in source for source in chosen)


def test_a_bad_file_is_told_beside_its_name_and_the_good_one_comes_in(
    page: Page, demo: Server, tmp_path: Path
) -> None:
    good, bad = tmp_path / "good-one.png", tmp_path / "letter.txt"
    photo(120, 80).pngsave(str(good))
    bad.write_text("Dear festival")
    page.goto(demo.url)
    page.locator("#file").set_input_files([bad, good])
    expect(page.locator("#arrivals")).to_contain_text("letter.txt")
    expect(page.locator("#arrivals")).to_contain_text("is not a picture or design that Gefa reads")
    expect(page.get_by_role("link", name="good-one.png").locator("img")).to_be_visible()
    expect(page.locator("#arrivals tr")).to_have_count(1)


def test_a_click_on_the_picture_finds_the_topmost_part_by_its_pixels(
    page: Page, demo: Server
) -> None:
    open_source(page, demo, "poster.ora")
    board = page.locator("#board")

    def click(x: int, y: int) -> str:
        """At a place in canvas px; what the line below the picture says then."""
        point = board.evaluate(
            "(b, [x, y]) => { const p = new DOMPoint(x, y).matrixTransform(b.getScreenCTM()); return [p.x, p.y]; }",
            [x, y],
        )
        page.mouse.click(*point)
        return page.locator("#pointed").inner_text()

    eventually(lambda: "Sun badge" in click(1340, 1560), 10)
    expect(page.locator("tbody.here")).to_contain_text("layer")
    click(800, 60)
    expect(page.locator("#pointed")).to_have_text("Shore/Paper sky")
    click(560, 800)
    expect(page.locator("#pointed")).to_have_text("Kites/Red kite")
    click(345, 730)
    expect(page.locator("#pointed")).to_have_text("Shore/Paper sky")


def test_progress_is_shown_while_a_run_goes_on(page: Page, demo: Server, tmp_path: Path) -> None:
    file = tmp_path / "slow.png"
    photo(1500, 1000, 3).pngsave(str(file))
    page.goto(demo.url)
    page.locator("#file").set_input_files(file)
    tile = page.get_by_role("link", name="slow.png")
    expect(tile.locator("img")).to_be_visible()
    tile.click()
    page.get_by_role("button", name="Run").click()
    bar = page.get_by_role("progressbar")
    expect(bar).to_be_visible()
    expect(page.get_by_text(re.compile(r"of \d cuts?"))).to_be_visible()
    eventually(lambda: bar.count() == 0 or int(bar.get_attribute("aria-valuenow") or 0) > 0, 30)
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    expect(bar).to_have_count(0)
    expect(page.get_by_role("button", name="Stop")).to_be_hidden()


def test_a_visitor_shares_a_photograph_and_sees_the_right_variant(page: Page, demo: Server) -> None:
    page.goto(f"{demo.url}/festival/")
    page.get_by_label("Photo").set_input_files(demo.folder / "samples" / "photos" / "dusk.jpg")
    page.get_by_label("What does it show?").fill("Dusk over the bay")
    page.get_by_role("button", name="Share").click()
    picture = page.get_by_alt_text("Dusk over the bay")
    expect(picture).to_be_visible()
    picture.scroll_into_view_if_needed()
    eventually(lambda: picture.evaluate("i => i.complete && i.naturalWidth"), 20)
    assert picture.evaluate("i => i.currentSrc").endswith("dusk-card-320.avif")
    box = place_of(picture)
    assert box["width"] / box["height"] == pytest.approx(1.5, rel=0.01)


def test_what_was_changed_a_moment_ago_is_in_the_run(
    page: Page, demo: Server, tmp_path: Path
) -> None:
    page.goto(demo.url)
    drop(page, design(tmp_path / "hurry.ora"))
    page.get_by_role("link", name="hurry.ora").click()
    name = page.locator("tbody", has=page.get_by_label("Cut Red pin")).get_by_label("File name")
    expect(name).to_have_value("Red pin")

    def late(route: Route) -> None:
        time.sleep(1)
        route.continue_()

    page.route("**/plan", late)
    name.fill("first")
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    expect(page.locator("#sheet")).to_contain_text("first")

    page.unroute("**/plan")
    page.get_by_role("link", name="Back to the cuts").click()
    page.wait_for_url("**/sources/*")  # before that nothing hears of a change
    no = json.dumps({"detail": "It cannot be called so."})
    page.route("**/plan", lambda route: route.fulfill(status=422, body=no))
    name.fill("second")
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_role("alert")).to_contain_text("Not saved: It cannot be called so.")
    page.wait_for_timeout(400)
    assert "/sources/" in page.url, "nothing is run that nobody meant"


def check_widths(page: Page) -> None:
    for width in (1280, 800, 390):
        page.set_viewport_size({"width": width, "height": 800})
        assert overflow(page) <= 0, (page.url, width)


def test_nothing_sticks_out_of_a_narrow_window(page: Page, demo: Server) -> None:
    for link in ("poster.ora", "kites-at-noon.jpg"):
        page.goto(demo.url)
        check_widths(page)
        page.get_by_role("link", name=link).click()
        expect(page.locator("#list")).to_be_visible()
        check_widths(page)
    for path in (
        "/recipes",
        "/recipes/backdrop",
        "/runs",
        "/slots",
        "/slots/stalls",
        "/uploads",
        "/festival/stalls",
    ):
        page.goto(f"{demo.url}{path}")
        check_widths(page)
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as client:
        found = client.get("/api/v1/slots/gallery/uploads").json()["uploads"][-1]["id"]
    for path in (f"/uploads/{found}", "/slots/gallery/keys"):
        page.goto(f"{demo.url}{path}")
        expect(page.locator("main")).to_be_visible()
        check_widths(page)
