"""The desk in a browser: a folder is brought in, found, chosen, treated, run, stopped and taken."""

from __future__ import annotations

import io
import re
import zipfile
from pathlib import Path

import httpx
from playwright.sync_api import Page, expect

from tests.conftest import Server, eventually
from tests.make import photo
from tests.web.plans import plan_for

PHOTOS = 16


def folder_of_photographs(folder: Path) -> Path:
    site = folder / "photos"
    (site / "sea").mkdir(parents=True)
    for number in range(PHOTOS):
        place = site / "sea" if number % 2 else site
        picture = photo(700, 500, number).jpegsave_buffer()
        (place / f"{number:02}-kites.jpg").write_bytes(picture)
    (site / "broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 and no more")
    (site / "empty.png").write_bytes(b"")
    (site / "notes.txt").write_text("what nobody brings in")
    return site


def chosen(page: Page) -> int:
    return page.locator(".desk-row .tick:checked").count()


def test_a_folder_is_found_treated_run_stopped_and_taken(
    page: Page, empty_server: Server, tmp_path: Path
) -> None:
    page.goto(empty_server.url)
    page.locator("#folder-input").set_input_files(folder_of_photographs(tmp_path))
    expect(page.locator(".arriving")).to_contain_text(
        f"{PHOTOS + 1} files brought in, 1 refused, 1 other file in the folder left out",
    )
    expect(page.locator(".arrivals")).to_contain_text("photos/empty.pngis empty")
    expect(page.locator(".desk-row")).to_have_count(PHOTOS + 1)
    expect(page.locator(".standing-failed")).to_have_count(1)
    expect(page.locator("#desk-sum")).to_contain_text(f"{PHOTOS} cuts")

    page.keyboard.press("t")
    expect(page.locator("table#desk-rows")).to_be_visible()
    page.locator("#desk-folder").select_option("photos/sea")
    expect(page.locator(".desk-row")).to_have_count(PHOTOS // 2)
    assert "folder=photos%2Fsea" in page.url
    page.locator("#desk-sort").select_option("name")
    expect(page).to_have_url(re.compile("sort=name"))
    rows = page.locator(".desk-row")
    rows.nth(1).locator(".tick").click()
    rows.nth(4).locator(".tick").click(modifiers=["Shift"])
    assert chosen(page) == 4
    page.keyboard.press("Escape")
    assert chosen(page) == 0
    rows.nth(0).locator("a").focus()
    page.keyboard.press("Shift+ArrowDown")
    assert chosen(page) == 2
    expect(page.locator("#desk-sum")).to_contain_text("2 sources selected · 2 cuts")
    expect(page.locator("#run-button")).to_have_text("Run 2 sources")

    page.keyboard.press("a")
    assert chosen(page) == PHOTOS // 2
    page.locator("#desk-tags").fill("sea, wind")
    page.locator("button[value=tags]").click()
    expect(page.locator(".desk-tag", has_text="wind")).to_have_count(PHOTOS // 2)
    page.locator("#desk-recipe").select_option("icon")
    page.locator("button[value=recipe]").click()
    expect(page.locator(".history-said")).to_have_text(f"Recipe icon for {PHOTOS // 2} sources")
    assert chosen(page) == PHOTOS // 2, "what is chosen stays so"
    with httpx.Client(base_url=empty_server.url) as client:
        assert plan_for(client, "photos/sea/01-kites.jpg").default == "icon"
        page.get_by_role("button", name="Undo").click()
        eventually(lambda: plan_for(client, "photos/sea/01-kites.jpg").default is None)
    page.locator("button[value=remove]").click()
    expect(page.get_by_text("No source matches")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".desk-row")).to_have_count(PHOTOS // 2)

    page.get_by_role("button", name=f"Run {PHOTOS // 2} sources").click()
    page.get_by_role("button", name="Stop").click()
    expect(page.get_by_text("stopped").first).to_be_visible()
    page.goto(f"{empty_server.url}/?q=00-kites")
    page.get_by_role("button", name="Run 1 source").click()
    bundle = page.get_by_role("link", name="Bundle (zip)")
    expect(bundle).to_be_visible()
    with page.expect_download() as download:
        bundle.click()
    with zipfile.ZipFile(io.BytesIO(Path(download.value.path()).read_bytes())) as packed:
        assert any(name.startswith("photos/00-kites") for name in packed.namelist())
    page.goto(empty_server.url)
    expect(page.locator(".standing-up-to-date")).to_have_count(1)
    page.goto("about:blank")  # it asks for what is not settled, and the server stops first
