"""Cutting by hand in a real browser: lines, drawn slices, many rows, and the layout put together."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import urljoin

import httpx
import pytest
import pyvips
from bench.designs import layered
from playwright.sync_api import Locator, Page, expect

from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import Plan
from tests.browser.conftest import overflow, place_of
from tests.browser.test_journey import open_source
from tests.conftest import Server, eventually
from tests.make import L, dot, flat, largest_difference, ora, photo
from tests.web.plans import give_plan

WIDTH, HEIGHT = 600, 400


def bring(page: Page, server: Server, file: Path) -> None:
    page.goto(server.url)
    page.locator("#file").set_input_files(file)
    expect(page.get_by_role("link", name=file.name).locator("img")).to_be_visible()
    open_source(page, server, file.name)
    expect(page.locator("#drawn image")).to_be_attached()


@pytest.fixture
def picture(page: Page, demo: Server, tmp_path: Path, request: pytest.FixtureRequest) -> Page:
    """A flat picture of its own for the test, open on the Cut screen."""
    file = tmp_path / f"{request.node.name.replace('_', '-')[:60]}.png"
    photo(WIDTH, HEIGHT, 5).pngsave(str(file))
    bring(page, demo, file)
    return page


def on_screen(page: Page, x: float, y: float) -> tuple[float, float]:
    """A place in canvas px as the mouse counts."""
    found = page.locator("#board").evaluate(
        "(b, [x, y]) => { const p = new DOMPoint(x, y).matrixTransform(b.getScreenCTM()); return [p.x, p.y]; }",
        [x, y],
    )
    return found[0], found[1]


def pull(page: Page, start: tuple[float, float], end: tuple[float, float]) -> None:
    """Drag from one place to another, in canvas px."""
    page.mouse.move(*on_screen(page, *start))
    page.mouse.down()
    for step in (0.4, 0.8, 1.0):
        between = [a + (b - a) * step for a, b in zip(start, end, strict=True)]
        page.mouse.move(*on_screen(page, between[0], between[1]))
    page.mouse.up()


def plan_of(page: Page) -> Plan:
    text = page.request.get(urljoin(page.url, "/plan/gefa.toml")).text()
    return parse_plan(text, "plan").for_source(page.title().removesuffix(" · Gefa"))


def drawn(page: Page) -> list[tuple[int, int, int, int]]:
    return [entry.rect for entry in plan_of(page).slices if entry.rect]


def numbers(row: Locator) -> list[str]:
    return [
        row.locator(f"input[name={side}]").input_value() for side in ("x", "y", "width", "height")
    ]


def test_lines_are_pulled_in_moved_stepped_and_thrown_out(picture: Page) -> None:
    page = picture
    pull(page, (-4, 200), (250.2, 210))
    expect(page.locator("tbody.slice")).to_have_count(2)
    pull(page, (300, -4), (310, 100))
    expect(page.locator("tbody.slice")).to_have_count(4)
    lines = plan_of(page).slices[0].guides
    assert lines is not None
    assert abs(int(lines.x[0]) - 250) <= 1
    assert abs(int(lines.y[0]) - 100) <= 1

    grip = page.locator(".guide-grip[data-axis=x]")
    grip.focus()
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("ArrowRight")
    moved = int(lines.x[0]) + 11
    expect(page.locator("#guides-x")).to_have_value(str(moved))
    expect(page.locator(".guide-grip[data-axis=x]")).to_be_focused()

    pull(page, (moved, 250), (400, 250))
    expect(page.locator("#guides-x")).to_have_value(re.compile("^(399|400|401)$"))
    page.locator("#guides-x").fill("25%, 75%")
    page.locator("#guides-x").press("Enter")
    expect(page.locator("tbody.slice")).to_have_count(6)
    pull(page, (150, 250), (-60, 250))
    expect(page.locator("#guides-x")).to_have_value("75%")
    page.locator(".guide-grip[data-axis=y]").focus()
    page.keyboard.press("Delete")
    expect(page.locator("tbody.slice")).to_have_count(2)
    page.keyboard.press("z")
    expect(page.locator("tbody.slice")).to_have_count(4)
    page.keyboard.press("y")
    expect(page.locator("tbody.slice")).to_have_count(2)


def test_slices_are_drawn_snapped_moved_resized_and_edited_as_numbers(picture: Page) -> None:
    page = picture
    page.locator("#slices > summary").click()
    page.locator("#guides-x").fill("300")
    page.locator("#guides-x").press("Enter")
    expect(page.locator("tbody.slice")).to_have_count(2)

    page.keyboard.press("Escape")
    page.keyboard.press("d")
    pull(page, (103, 92), (297, 251))
    expect(page.locator("tbody.slice")).to_have_count(3)
    ((x, y, width, height),) = drawn(page)
    assert x + width == 300, "its right edge snaps to the line"
    assert (abs(x - 103), abs(y - 92), abs(y + height - 251)) <= (1, 1, 1)

    expect(page.locator(".slice-area")).to_be_focused()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Shift+ArrowLeft")
    eventually(lambda: drawn(page) == [(x - 10, y + 1, width, height)], 10)
    page.keyboard.press("Alt+ArrowRight")
    eventually(lambda: drawn(page) == [(x - 10, y + 1, width + 1, height)], 10)

    pull(page, (x + 40, y + 60), (x + 140, y + 110))
    eventually(lambda: drawn(page)[0][0] > x + 60, 10)
    x, y, width, height = drawn(page)[0]
    pull(page, (x + width, y + height), (x + width - 43, y + height - 31))
    eventually(lambda: drawn(page)[0][2] < width - 30, 10)
    assert drawn(page)[0][:2] == (x, y)

    row = page.locator("tbody.slice").last
    row.locator("input[name=width]").fill("64")
    row.locator("input[name=width]").press("Enter")
    eventually(lambda: drawn(page)[0][2] == 64, 10)
    expect(row.locator("input[name=width]")).to_have_value("64")
    assert numbers(row) == [str(side) for side in drawn(page)[0]]
    row.locator("input[name=width]").fill("wide")
    row.locator("input[name=width]").press("Enter")
    expect(page.get_by_text("Give a number")).to_be_visible()

    page.locator(".slice-area").focus()
    page.keyboard.press("Delete")
    expect(page.locator(".slice-area")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".slice-area")).to_have_count(1)


def test_rows_are_filtered_selected_and_changed_together(
    page: Page, demo: Server, tmp_path: Path
) -> None:
    layers = [L(f"Kite {n}", dot(40, 40, (0, 0, 20 + n, 30)), 8 * n, 9 * n) for n in range(6)]
    file = ora(tmp_path / "together.ora", 200, 120, [*layers, L("Ground", flat(200, 120))])
    bring(page, demo, file)
    page.keyboard.press("f")
    page.keyboard.type("kite")
    expect(page.locator("tbody.part:visible")).to_have_count(6)
    page.keyboard.press("Escape")
    page.locator("tbody.part:visible .part-name").nth(1).click()
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Shift+ArrowDown")
    expect(page.locator("#bulk-count")).to_have_text("3 rows")
    page.keyboard.press("Space")
    expect(page.locator("tbody.part .tick:checked")).to_have_count(3)
    page.locator("#bulk-recipe").select_option("icon")
    eventually(lambda: [cut.recipe for cut in plan_of(page).cuts] == ["icon"] * 3, 10)
    page.get_by_role("button", name="deselect").click()
    page.locator("#filter").fill("")
    page.locator("#state").select_option("idle")
    expect(page.locator("tbody.part:visible")).to_have_count(5)
    page.locator("#state").select_option("")
    page.locator("#select-kind").select_option("layer")
    expect(page.locator("#bulk-count")).to_have_text("7 rows")
    page.locator("#bulk").get_by_role("button", name="Leave out").click()
    expect(page.locator("tbody.part .tick:checked")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("tbody.part .tick:checked")).to_have_count(3)


def test_a_sliced_picture_is_put_together_without_a_seam(picture: Page) -> None:
    page = picture
    text = (
        '[recipes.exact]\nformats = ["png"]\nwidths = [10000]\n'
        '[[slices]]\nguides = { x = [97, "33.3%", 431], y = ["27%", 203] }\nrecipe = "exact"\n'
    )
    with httpx.Client(base_url=urljoin(page.url, "/")) as client:
        give_plan(client, page.title().removesuffix(" · Gefa"), text)
    page.reload()
    expect(page.locator("tbody.slice")).to_have_count(12)
    page.locator("#parts .tick").uncheck()
    expect(page.locator("#sum dd").first).to_have_text("12")
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    address = page.url
    page.set_viewport_size({"width": WIDTH, "height": HEIGHT})
    page.goto(f"{address}/layout/layout.html")
    assert page.locator("img").count() == 12
    page.wait_for_function("[...document.images].every((i) => i.complete && i.naturalWidth > 0)")
    shot = pyvips.Image.new_from_buffer(page.screenshot(), "")
    picture_itself = photo(WIDTH, HEIGHT, 5)
    assert (shot.width, shot.height) == (WIDTH, HEIGHT)
    assert largest_difference(shot.extract_band(0, n=3), picture_itself) == 0
    page.set_viewport_size({"width": 417, "height": HEIGHT})
    assert overflow(page) <= 0


def test_a_design_of_300_layers_is_listed_outlined_and_scrolled(
    page: Page, demo: Server, tmp_path: Path
) -> None:
    bring(page, demo, layered(tmp_path / "crowd.ora", 300))
    expect(page.locator("tbody.part")).to_have_count(316)
    page.locator("#select-kind").select_option("group")
    page.locator("#bulk").get_by_role("button", name="Cut").click()
    expect(page.locator("#outlines .cut-line:not(.cut-line-pale)")).to_have_count(15)
    page.locator("#list").evaluate("list => { list.scrollTop = list.scrollHeight; }")
    expect(page.locator("tbody.part").last).to_be_in_viewport()


def test_the_cut_screen_works_at_800_px(page: Page, demo: Server, tmp_path: Path) -> None:
    page.set_viewport_size({"width": 800, "height": 900})
    file = tmp_path / "narrow.png"
    photo(WIDTH, HEIGHT, 6).pngsave(str(file))
    bring(page, demo, file)
    page.locator("#slices > summary").click()
    page.locator("input[name=columns]").fill("3")
    page.get_by_role("button", name="Split").click()
    expect(page.locator("tbody.slice")).to_have_count(3)
    for target in ("#run", "#draw-slice", "tbody.slice .tick >> nth=2"):
        box = place_of(page.locator(target))
        assert box["x"] >= 0
        assert box["x"] + box["width"] <= 800
    assert overflow(page) <= 0


def test_two_windows_on_one_plan_cost_none_of_each_other(picture: Page) -> None:
    other = picture.context.new_page()
    other.goto(picture.url)
    for window, name in ((picture, "first"), (other, "second")):
        field = window.locator("input[name=name]").first
        field.fill(name)
        field.press("Enter")
        if window is picture:
            eventually(lambda: [cut.name for cut in plan_of(picture).cuts] == ["first"], 10)
    expect(other.locator("#trouble")).to_contain_text("changed meanwhile, in another window")
    expect(other.locator("input[name=name]").first).to_have_value("first")
    other.locator("input[name=name]").first.fill("second")
    other.locator("input[name=name]").first.press("Enter")
    eventually(lambda: [cut.name for cut in plan_of(picture).cuts] == ["second"], 10)
