"""People in the browser: the first link, what each role sees, and the way out."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import place_of
from tests.browser.test_accessibility import complaints
from tests.browser.test_cutting import bring
from tests.conftest import Server
from tests.make import G, L, dot, ora

PASSPHRASE = "seven kites over quillmere"


def test_from_the_first_owner_to_a_viewer_and_out(
    page: Page, empty_server: Server, tmp_path: Path
) -> None:
    home = empty_server.url
    design = ora(
        tmp_path / "kites.ora",
        420,
        300,
        [G("Kites", [L("Near #figure", dot(300, 220, (40, 30, 200, 150)), 20, 20)])],
    )
    bring(page, empty_server, design)
    source = page.url
    found: dict[str, list[str]] = {}

    def sign_in(name: str) -> None:
        page.get_by_label("Name").fill(name)
        page.get_by_label("Passphrase").fill(PASSPHRASE)
        page.get_by_role("button", name="Sign in").click()

    def choose(link: str) -> None:
        page.goto(link)
        found[f"welcome {len(found)}"] = complaints(page)
        page.get_by_label("Passphrase at least").fill(PASSPHRASE)
        page.get_by_label("Repeat passphrase").fill(PASSPHRASE)
        page.get_by_role("button", name="Save and sign in").click()
        expect(page.get_by_role("heading", name="Sources")).to_be_visible()

    page.goto(f"{home}/people")
    found["nobody yet"] = complaints(page)
    page.get_by_label("Invite person").fill("Ada")
    page.get_by_role("button", name="Create invite link").click()
    choose(page.locator("#made").inner_text())
    page.get_by_role("link", name="People").click()
    page.get_by_label("Invite person").fill("Viv")
    page.locator(".roles-form").get_by_label("viewer", exact=True).check()
    page.get_by_role("button", name="Create invite link").click()
    link = page.locator("#made").inner_text()
    found["people"] = complaints(page)
    page.get_by_role("link", name="Ada").click()
    found["account"] = complaints(page)
    page.get_by_role("button", name="Sign out", exact=True).click()
    found["sign in"] = complaints(page)

    choose(link)
    expect(page.get_by_text("choose files")).to_have_count(0)
    expect(page.get_by_role("link", name="People")).to_have_count(0)
    posts: list[str] = []
    page.on(
        "request", lambda request: posts.append(request.url) if request.method == "POST" else None
    )
    page.goto(source)
    expect(page.locator("#drawn image")).to_be_attached()
    expect(page.get_by_role("button", name="Run")).to_have_count(0)
    expect(page.get_by_label("Cut Near")).to_be_disabled()
    found["cut of a viewer"] = complaints(page)
    # Nothing on the picture changes anything: no line is pulled, no slice is drawn.
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Space")
    page.keyboard.press("d")
    edge = place_of(page.locator("#board"))
    page.mouse.move(edge["x"] + 2, edge["y"] + 80)
    page.mouse.down()
    page.mouse.move(edge["x"] + 120, edge["y"] + 120, steps=4)
    page.mouse.up()
    assert posts == []
    page.goto(f"{home}/recipes/figure")
    expect(page.get_by_label("Which formats")).to_be_disabled()
    expect(page.locator("#effect table")).to_be_visible()
    found["recipe of a viewer"] = complaints(page)
    page.context.clear_cookies()
    page.goto(f"{home}/runs")
    expect(page).to_have_url(f"{home}/sign-in?to=%2Fruns")
    sign_in("viv")
    expect(page.get_by_role("heading", name="Runs")).to_be_visible()
    assert found == {view: [] for view in found}
