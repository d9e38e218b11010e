"""Recipes as sentences and proofs in a real browser."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import urljoin

import pytest
from playwright.sync_api import Page, Response, expect

from tests.browser.conftest import overflow, place_of
from tests.browser.test_cutting import bring
from tests.conftest import Server
from tests.make import L, dot, ora, photo


@pytest.fixture
def recipe(page: Page, demo: Server, tmp_path: Path, request: pytest.FixtureRequest) -> Page:
    """A recipe of its own for the test, tried on a photograph."""
    name = re.sub(r"[^a-z]+", "-", request.node.name)[:50]
    file = tmp_path / f"{name}.jpg"
    photo(720, 480, 6).jpegsave(str(file))
    bring(page, demo, file)
    page.goto(f"{demo.url}/recipes")
    page.keyboard.press("n")
    page.locator("#new-name").fill(name)
    page.get_by_role("button", name="Create").click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()
    page.locator("#sample").select_option(label=file.name)
    expect(page.locator("#effect table")).to_be_visible()
    return page


def test_words_of_a_sentence_are_changed_and_the_effect_follows(recipe: Page) -> None:
    expect(recipe.locator("#effect")).to_contain_text("It is a photograph")
    expect(recipe.locator("#tried img")).to_be_visible()
    recipe.locator("#w-widths").fill("120, 240")
    recipe.keyboard.press("Tab")
    expect(recipe.locator("#effect tbody tr")).to_have_count(2)
    expect(recipe.locator("#effect")).to_contain_text("240 px")
    expect(recipe.locator("#w-fit")).to_be_focused()
    recipe.locator("#w-fit").select_option("cover")
    expect(recipe.locator("#w-ratio")).to_have_value("3:2")
    recipe.locator("#w-ratio").fill("1:1")
    recipe.keyboard.press("Tab")
    expect(recipe.locator("#tried img")).to_have_attribute("height", "240")
    expect(recipe.locator("#tried-said")).to_contain_text("240 × 240 px")


def test_a_word_that_makes_no_sense_is_refused_beside_it_and_undo_takes_back(recipe: Page) -> None:
    recipe.locator("#w-look").fill("lovely")
    recipe.keyboard.press("Tab")
    beside = recipe.locator("#sentence p", has=recipe.locator("#w-look"))
    expect(beside.get_by_role("alert")).to_contain_text("the look is 'lovely'")
    recipe.locator("#w-look").fill("60")
    recipe.keyboard.press("Tab")
    expect(recipe.get_by_role("alert")).to_have_count(0)
    expect(recipe.locator("#effect")).to_contain_text("look 60")
    recipe.locator("h1").click()
    recipe.keyboard.press("z")
    expect(recipe.locator("#w-look")).to_have_value("75")


def test_a_recipe_can_be_written_by_key_alone(recipe: Page) -> None:
    recipe.locator("#w-formats_by").focus()
    recipe.keyboard.press("ArrowUp")
    expect(recipe.locator("#w-format-png")).to_be_visible()
    for format in ("avif", "webp", "jpeg"):
        recipe.locator(f"#w-format-{format}").focus()
        recipe.keyboard.press("Space")
    expect(recipe.locator("#effect thead th")).to_have_count(2)
    expect(recipe.locator("#effect")).to_contain_text("no loss")


def test_an_answer_takes_no_word_from_under_a_key(recipe: Page) -> None:
    def is_answer(answer: Response) -> bool:
        return answer.request.method == "POST" and "/effect" not in answer.url

    recipe.locator("#w-formats_by").focus()
    recipe.keyboard.press("ArrowUp")
    expect(recipe.locator("#w-format-png")).to_be_visible()
    for what, key in (("jpeg", "Space"), ("png", "Shift")):
        with recipe.expect_response(is_answer):
            recipe.locator("#w-format-avif").focus()
            recipe.keyboard.press("Space")
            recipe.locator(f"#w-format-{what}").focus()
            recipe.keyboard.down(key)
        recipe.wait_for_timeout(300)
        recipe.keyboard.up(key)
    expect(recipe.locator("#w-format-jpeg")).not_to_be_checked()
    # The answer that was put off for a key that changes nothing is shown all the same.
    expect(recipe.locator("#effect thead th")).to_have_count(4)
    recipe.reload()
    expect(recipe.locator("#w-format-jpeg")).not_to_be_checked()
    expect(recipe.locator("#w-format-avif")).to_be_checked()


def shown(page: Page) -> None:
    """Wait until both pictures of a proof are on the screen."""
    expect(page.locator("#canvas")).to_be_visible()
    expect(page.locator("#proof-said")).to_be_hidden()


@pytest.fixture
def proof(page: Page, demo: Server, tmp_path: Path, request: pytest.FixtureRequest) -> Page:
    """The proof of a run of two cuts."""
    name = re.sub(r"[^a-z]+", "-", request.node.name)[:50]
    layers = [
        L("Near #figure", dot(300, 220, (40, 30, 200, 150), (40, 90, 160)), 20, 20),
        L("Far #backdrop", photo(420, 300, 8)),
    ]
    bring(page, demo, ora(tmp_path / f"{name}.ora", 420, 300, layers))
    page.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_role("link", name="Proof", exact=True)).to_be_visible()
    page.goto(f"{page.url}/proof")
    shown(page)
    return page


def show_near(proof: Page, query: str = "") -> None:
    """The proof of the cut Near, whose name has its source's in front where others have a Near."""
    address = proof.locator(".strip a").filter(has_text="Near").get_attribute("href")
    proof.goto(urljoin(proof.url, f"{(address or '').partition('?')[0]}{query}"))
    shown(proof)


COPY = """(c, [x, y]) => {
  const copy = new OffscreenCanvas(c.width, c.height).getContext('2d', { willReadFrequently: true });
  copy.drawImage(c, 0, 0);
  const all = copy.getImageData(0, 0, c.width, c.height).data;
  const at = (x, y) => all.slice(...[0, 3].map((k) =>
    (Math.floor(y * c.height) * c.width + Math.floor(x * c.width)) * 4 + k));"""
"""a canvas copied to where it can be read: reading the real one makes it slow, and is complained of"""


def pixel(page: Page, x: float, y: float) -> list[int]:
    """Of the canvas, at shares of its width and height."""
    found = page.locator("#canvas").evaluate(f"{COPY} return [...at(x, y)]; }}", [x, y])
    return list(found[:3])


def test_the_filmstrip_goes_from_cut_to_cut_by_key(proof: Page) -> None:
    strip = proof.locator(".strip a")
    expect(strip).to_have_count(2)
    expect(proof.locator("#look")).to_have_text(re.compile(r"^\d"))
    expect(strip.filter(has_text="look")).to_have_count(2)
    here = proof.locator(".strip [aria-current]").inner_text().splitlines()[0]
    proof.keyboard.press("ArrowRight" if strip.first.get_attribute("aria-current") else "ArrowLeft")
    expect(proof.locator("h1")).not_to_have_text(here)
    shown(proof)


def test_pictures_are_divided_beside_each_other_and_subtracted_on_any_ground(proof: Page) -> None:
    show_near(proof)
    blue = pixel(proof, 0.5, 0.45)
    assert blue[2] > blue[0] + 60
    proof.get_by_role("button", name="Black ground").click()
    proof.keyboard.press("v")
    expect(proof.get_by_role("button", name="side by side")).to_have_attribute(
        "aria-pressed", "true"
    )
    proof.keyboard.press("v")
    expect(proof.locator("#scale-said")).to_contain_text("White: 32 levels of 255 or more")
    assert max(pixel(proof, 0.5, 0.45)) < 100, "hardly any difference"
    proof.locator("#amplified").select_option("32")
    expect(proof.locator("#scale-said")).to_contain_text("White: 8 levels")
    proof.keyboard.press("v")
    proof.keyboard.press("8")
    expect(proof.locator("[data-times='8']")).to_have_attribute("aria-pressed", "true")
    proof.reload()
    shown(proof)
    expect(proof.locator("[data-times='8']")).to_have_attribute("aria-pressed", "true")


def test_pixels_are_not_smoothed_and_both_pictures_move_together(proof: Page) -> None:
    show_near(proof, "?format=png")
    proof.keyboard.press("8")
    proof.get_by_role("button", name="White ground").click()
    colours = proof.locator("#canvas").evaluate(
        f"{COPY} const found = new Set(); for (let i = 0; i < all.length; i += 4)"
        " found.add(all.slice(i, i + 3).join()); return found.size; }",
        [0, 0],
    )
    assert colours <= 3, "edges of pixels would be blended"
    divider = proof.get_by_role("slider", name="Divider")
    divider.focus()
    proof.keyboard.press("End")
    expect(divider).to_have_attribute("aria-valuenow", "100")
    left = pixel(proof, 0.3, 0.5)
    proof.keyboard.press("Home")
    assert pixel(proof, 0.3, 0.5) == left, "PNG is the reference"
    box = place_of(proof.locator("#canvas"))
    proof.mouse.move(box["x"] + 200, box["y"] + 200)
    proof.mouse.down()
    proof.mouse.move(box["x"] + 5000, box["y"] + 200, steps=3)
    proof.mouse.up()
    assert pixel(proof, 0.2, 0.5) != left, "moved past the edge"


def test_a_point_of_the_curve_is_chosen_and_kept_for_the_cut(proof: Page) -> None:
    expect(proof.get_by_text("Choose a point")).to_be_visible()
    point = proof.get_by_role("link", name=re.compile("WebP at quality 35"))
    point.focus()
    proof.route("**/curve?*", lambda route: None)  # it is kept while its curve is still measured
    proof.keyboard.press("Enter")
    expect(proof.get_by_text("Not made yet")).to_be_visible()
    shown(proof)
    proof.get_by_role("button", name="For this cut").click()
    expect(proof.locator(".kept")).to_contain_text("WebP 35")
    proof.get_by_role("button", name="Run again").click()
    expect(proof.get_by_role("link", name="Bundle (zip)")).to_be_visible()
    proof.get_by_role("link", name="Back to the cuts").click()
    expect(proof.get_by_text("exception:")).to_be_visible()
    proof.wait_for_load_state()  # the button is drawn before the script that listens to it runs
    proof.get_by_role("button", name="Use the default").click()
    expect(proof.get_by_text("exception:")).to_have_count(0)


def test_the_sheet_leads_to_proofs_and_to_another_run(proof: Page) -> None:
    proof.goto(re.sub(r"/proof/.*", "", proof.url))
    proof.get_by_role("link", name="JPEG", exact=True).click()
    expect(proof).to_have_url(re.compile("format=jpeg"))
    proof.get_by_role("link", name="heaviest first").click()
    expect(proof).to_have_url(re.compile("format=jpeg.*sort=weight"))
    proof.locator("table.weights a").first.click()
    shown(proof)
    assert "format=jpeg" in proof.url
    proof.go_back()
    expect(proof.get_by_role("heading", name="Run of")).to_be_visible()
    proof.keyboard.press("p")
    shown(proof)


def test_a_proof_fits_into_a_narrow_window(proof: Page) -> None:
    for width in (800, 390):
        proof.set_viewport_size({"width": width, "height": 800})
        assert overflow(proof) <= 0, width
        expect(proof.locator("#canvas")).to_be_visible()
