"""The sample website in Chromium: each page loads the files that Gefa says, and nothing jumps."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from typing import Any

import httpx
import pytest
from playwright.sync_api import Browser, Page, Route, expect

from gefa.core.conditions import Viewport, parse_sizes, shown_width
from gefa.core.cut.crop import crop_round
from gefa.core.deliver.browser import picked
from gefa.core.deliver.markup import Offer
from gefa.core.geometry import Rect, Size
from gefa.core.treat.formats import Format
from gefa_demo.site.app import BANNER, CARD, LATER_BANNER, in_text
from gefa_demo.site.gefa import Showing
from gefa_demo.site.posts import Content, PictureBlock, Record
from tests.browser.conftest import place_of
from tests.conftest import HTTP, Server, eventually
from tests.make import photo, with_profile

VIEWPORTS = (390, 820, 1280)
SHIFTS = """
window.shifts = 0;
new PerformanceObserver((list) => {
  for (const entry of list.getEntries()) if (!entry.hadRecentInput) window.shifts += entry.value;
}).observe({ type: "layout-shift", buffered: true });
"""


@contextmanager
def seen(browser: Browser, width: int, density: float) -> Iterator[tuple[Page, list[str]]]:
    """A page in a viewport, and the paths of files that it loads."""
    context = browser.new_context(
        viewport={"width": width, "height": 800}, device_scale_factor=density
    )
    page = context.new_page()
    asked: list[str] = []
    page.on(
        "request",
        lambda r: asked.append(httpx.URL(r.url).raw_path.decode()) if "/m/" in r.url else None,
    )
    page.add_init_script(SHIFTS)
    yield page, asked
    context.close()


def shown_on(content: Content) -> dict[str, list[tuple[str, Showing]]]:
    """Which uploads each page shows, and how."""
    banners = [LATER_BANNER if at else BANNER for at in range(len(content.stalls))]
    pages = {
        "": [(post.upload, CARD) for post in content.posts],
        "stalls": [(s.upload, b) for s, b in zip(content.stalls, banners, strict=True)],
    }
    for report in content.reports:
        pictures = [block for block in report.blocks if isinstance(block, PictureBlock)]
        pages[f"reports/{report.id}"] = [(p.upload, in_text(p.placed)) for p in pictures]
    return pages


@pytest.mark.parametrize("density", [1, 2])
@pytest.mark.parametrize("width", VIEWPORTS)
def test_each_page_loads_what_gefa_says_and_nothing_else(
    browser: Browser, demo: Server, width: int, density: int
) -> None:
    pages = shown_on(Record(demo.folder).read())
    pages = {
        path: shown
        for path, shown in pages.items()
        if path in ("", "stalls", "reports/first-morning")
    }
    assert [len(shown) >= 2 for shown in pages.values()] == [True] * 3
    for path, shown in pages.items():
        told = []
        for upload, showing in shown:
            params = {**showing.query, "viewport": width, "density": density}
            answer = HTTP.get(f"{demo.url}/api/v1/uploads/{upload}/markup", params=params)
            if answer.is_success:
                told.append(answer.json()["loads"]["url"])
        with seen(browser, width, density) as (page, asked):
            page.goto(f"{demo.url}/festival/{path}", wait_until="load")
            images = page.locator("main img:not(.hero img)")
            expect(images).to_have_count(len(told))
            for image in images.all():
                image.scroll_into_view_if_needed()
                eventually(partial(image.evaluate, "i => i.complete && i.naturalWidth > 0"), 20)
            current = images.evaluate_all("all => all.map(i => new URL(i.currentSrc).pathname)")
            assert current == told, path
            assert sorted(asked) == sorted(set(told)), path
            assert page.evaluate("window.shifts") == 0, path


def test_chromium_picks_what_is_said_of_any_ladder(browser: Browser) -> None:
    rng = random.Random(5)

    # Nobody answers there: a browser says as well what it chose.
    def address(at: int, width: int) -> str:
        return f"http://127.0.0.1:1/{at}/{width}"

    def entry() -> str:
        length = rng.choice(
            ["{}vw", "calc({}vw - 20px)", "min({}vw, 500px)", "clamp(90px, {}vw, 40em)"]
        )
        return length.format(rng.randint(5, 120))

    def sizes() -> str:
        limit = rng.randint(200, 1500)
        condition = rng.choice(
            ["(max-width: {}px)", "(min-width: {}px)", "(width > {}px)", "not (width >= {}px)"]
        )
        return f"{condition.format(limit)} {entry()}, {entry()}"

    cases = [(sorted(rng.sample(range(40, 3000), rng.randint(1, 7))), sizes()) for _ in range(150)]
    images = "".join(
        f'<img srcset="{", ".join(f"{address(at, w)} {w}w" for w in widths)}" sizes="{size}" width="9" height="9">'
        for at, (widths, size) in enumerate(cases)
    )

    for width, density in ((390, 1), (390, 3), (820, 1.5), (1280, 1), (1440, 2)):
        with seen(browser, width, density) as (page, _):
            page.set_content(f"<!DOCTYPE html>{images}")
            found = page.locator("img").evaluate_all("all => all.map(i => i.currentSrc)")
            for at, (widths, size) in enumerate(cases):
                offers = [Offer(address(at, w), Format.JPEG, w, w) for w in widths]
                shown = shown_width(parse_sizes(size), Viewport(width, 800, density))
                assert found[at] == picked(offers, shown, density).url, (
                    width,
                    density,
                    widths,
                    size,
                )


def drop(page: Page, selector: str, name: str, data: bytes) -> None:
    """Drop a file onto an element."""
    transfer = page.evaluate_handle(
        """([name, bytes]) => { const t = new DataTransfer();
        t.items.add(new File([new Uint8Array(bytes)], name, { type: "image/jpeg" })); return t; }""",
        [name, list(data)],
    )
    for kind in ("dragenter", "dragover", "drop"):
        page.locator(selector).first.dispatch_event(kind, {"dataTransfer": transfer})


def test_a_picture_is_dropped_into_a_report_placed_and_taken_out_again(
    page: Page, demo: Server
) -> None:
    page.goto(f"{demo.url}/festival/reports")
    page.get_by_role("button", name="Write a report").click()
    page.locator("#title").fill("Wind & <sand>")
    page.locator(".words").fill("Before it.\n\nAfter it.")
    page.locator(".words").evaluate("field => field.setSelectionRange(12, 12)")
    drop(page, ".words", "wind.jpg", bytes(photo(700, 500, 81).jpegsave_buffer(Q=88)))
    expect(page.locator(".editing-picture img")).to_be_visible()
    expect(page.locator(".words")).to_have_count(2)
    page.locator(".where").select_option("left")
    page.locator(".caption").fill("From the dune")
    page.locator(".alt").fill("Sand in the wind")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()
    page.get_by_role("link", name="View report").click()
    expect(page.get_by_role("heading", name="Wind & <sand>")).to_be_visible()
    figure = page.locator("figure.placed-left")
    expect(figure.get_by_role("img", name="Sand in the wind")).to_be_visible()
    expect(figure.get_by_text("From the dune")).to_be_visible()
    assert page.locator("article > p").all_inner_texts()[:2] == ["Before it.", "After it."]
    source = str(figure.locator("img").evaluate("i => i.currentSrc"))

    page.get_by_role("link", name="Edit report").click()
    page.get_by_role("button", name="Remove").click()
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("#blocks figure")).to_have_count(1)
    page.get_by_role("button", name="Remove").click()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()
    assert HTTP.get(source).status_code == 404, "what no page uses is served no more"

    page.locator(".words").first.click()
    drop(page, ".words", "notes.jpg", b"these are words")
    expect(
        page.get_by_text("notes.jpg was not inserted: notes.jpg is not accepted")
    ).to_be_visible()


def new_slot(page: Page, demo: Server, name: str) -> None:
    page.goto(f"{demo.url}/slots")
    page.locator("#new-name").fill(name)
    page.get_by_label("based on").select_option("stalls")
    page.get_by_role("button", name="Create").click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()


def test_a_slot_is_tried_changed_undone_and_given_back(page: Page, demo: Server) -> None:
    new_slot(page, demo, "tried")
    before = HTTP.get(f"{demo.url}/uploads").text.count("<tr class")
    page.get_by_role("button", name="1:1", exact=True).click()
    expect(page.locator("#tried .cropped")).to_be_visible()
    expect(page.locator("#tried [data-crop-line]")).to_have_count(3)
    expect(page.locator("#effect .crop-effect")).to_have_count(3)
    expect(page.locator("#effect")).to_contain_text(
        "Not 1,440 px: the picture has only 1,200 × 300 px for it"
    )
    page.get_by_label("Ratio of crop 3").fill("1:9")
    page.get_by_label("Ratio of crop 3").press("Enter")
    expect(page.locator("#tried figcaption")).to_contain_text("tall")
    expect(page.locator("#effect")).to_contain_text("133 × 1,200 px")
    page.get_by_label("Name of crop 2").fill("wide")
    page.get_by_label("Name of crop 2").press("Enter")
    expect(
        page.locator("#row-crops, #trouble").get_by_text("two crops have the same name")
    ).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_label("Ratio of crop 3")).to_have_value("4:5")
    page.get_by_label("Mask").select_option("circle")
    expect(page.locator("#effect .mask-circle")).to_have_count(3)
    page.get_by_role("button", name="Markup: Use the default").click()
    expect(page.get_by_label("Mask")).to_have_value("none")
    assert HTTP.get(f"{demo.url}/uploads").text.count("<tr class") == before, "nothing is saved"
    absurd = with_profile(photo(90, 60), "jpeg", b"absurd")
    page.locator("#trial-file").set_input_files(
        {"name": "absurd.jpg", "mimeType": "image/jpeg", "buffer": absurd}
    )
    expect(page.locator("#tried").get_by_role("alert")).to_contain_text("colour profile")


def test_a_focal_point_is_dragged_and_what_is_made_is_what_was_shown(
    page: Page, demo: Server
) -> None:
    new_slot(page, demo, "dragged")
    page.locator("#s-review").select_option("yes")
    expect(page.locator("#row-review.setting-own")).to_be_visible()
    page.get_by_label("Widths of crop 3").fill("200")
    page.get_by_label("Widths of crop 3").press("Enter")
    page.get_by_role("link", name="Keys and webhook").click()
    page.get_by_label("New key for").fill("the test")
    page.get_by_role("button", name="Create key").click()
    key = page.locator("#made").inner_text()
    answer = HTTP.post(
        f"{demo.url}/api/v1/slots/dragged/uploads",
        files={"file": ("a very long name of a photograph that somebody took.jpg", bytes(photo(900, 600, 82).jpegsave_buffer()))},
        headers={"Authorization": f"Bearer {key}", "Prefer": "wait=60"}, timeout=70,
    )  # fmt: skip
    id = answer.json()["id"]
    page.goto(f"{demo.url}/uploads?slot=dragged&state=held")
    page.get_by_role("link", name="a very long name").click()
    box = place_of(page.locator("#focal svg"))
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.8, box["y"] + box["height"] * 0.25, steps=5)
    shown = page.locator('.crop-effect [data-crop="tall"]').get_attribute("viewBox")
    page.mouse.up()
    page.keyboard.press("Shift+ArrowLeft")
    page.keyboard.press("+")
    expect(page.locator("#zoom-said")).to_have_text("1.1 times")
    wanted = page.locator('.crop-effect [data-crop="tall"]').get_attribute("viewBox")
    assert wanted != shown

    keyed = {"Authorization": f"Bearer {key}"}

    def moved() -> Any:
        found = HTTP.get(f"{demo.url}/api/v1/uploads/{id}", headers=keyed).json()
        return found if not found["making"] and found["focal"]["zoom"] == 1.1 else None

    found = eventually(moved, 40)
    rect = next(crop["rect"] for crop in found["crops"] if crop["name"] == "tall")
    assert " ".join(str(rect[side]) for side in ("x", "y", "width", "height")) == wanted
    assert abs(found["focal"]["x"] - 0.799) < 0.01
    expect(page.get_by_role("button", name="Reset to suggested focal point")).to_be_visible()

    page.get_by_label("Alt text").fill("Grain and gradients")
    page.get_by_label("Tags").fill("grain, sea")
    page.get_by_label("Tags").press("Enter")
    expect(page.locator("#markup")).to_contain_text("The markup appears once the upload is live.")
    page.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("Live.", exact=True)).to_be_visible()
    page.locator("#new-file").set_input_files(
        {
            "name": "other.png",
            "mimeType": "image/png",
            "buffer": photo(300, 300, 4).pngsave_buffer(),
        }
    )
    expect(page.locator("h1")).to_have_text("other.png")
    expect(page.locator("#focal svg")).to_have_attribute("viewBox", "0 0 300 300")
    page.get_by_label("Reject, reason").fill("Too plain")
    page.get_by_role("button", name="Reject").click()
    expect(page.locator("h1")).to_contain_text("a very long name")
    expect(page.get_by_text("other.png was rejected: Too plain.")).to_be_visible()
    page.get_by_label("with sizes").fill("50vw")
    page.get_by_label("Alt text").fill("Grain")
    page.get_by_label("Tags").focus()
    expect(page.locator("#text-html")).to_contain_text('alt="Grain"')
    expect(page.locator("#text-html")).to_contain_text('sizes="50vw"')
    page.goto(f"{demo.url}/uploads?tag=grain")
    expect(page.get_by_text("1 upload", exact=False)).to_be_visible()
    page.get_by_role("link", name="a very long name").click()
    page.get_by_text("Remove upload").click()
    page.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_role("button", name="Restore").click()
    expect(page.get_by_text("Live.", exact=True)).to_be_visible()


def approve_while_an_earlier_answer_is_under_way(page: Page) -> None:
    """Both answers are to replace the same element, and the first takes it away."""
    asked: list[Route] = []
    for path in ("describe", "approve", "files?*"):
        page.route(f"**/{path}", lambda route: asked.append(route))
    page.wait_for_load_state("load")  # keys are listened to once the scripts have run
    expect(page.locator("#handle")).to_be_visible()
    with page.expect_request("**/describe"):
        page.keyboard.press("+")
    with page.expect_request("**/approve"):
        page.get_by_role("button", name="Approve").click()
    while len(asked) < 2:
        page.wait_for_timeout(20)
    earlier, later = asked
    earlier.continue_()
    expect(page.get_by_role("button", name="Approve")).to_have_count(0)
    later.continue_()
    expect(page.get_by_text("Live.", exact=True)).to_be_visible()
    page.unroute_all(behavior="ignoreErrors")


def test_held_uploads_are_decided_on_in_the_feed(page: Page, demo: Server) -> None:
    new_slot(page, demo, "queued")
    page.locator("#s-review").select_option("yes")
    expect(page.locator("#row-review.setting-own")).to_be_visible()
    page.get_by_role("link", name="Keys and webhook").click()
    page.get_by_role("button", name="Create key").click()
    key = page.locator("#made").inner_text()
    for name in ("yes.jpg", "no.jpg", "late.jpg"):
        HTTP.post(
            f"{demo.url}/api/v1/slots/queued/uploads",
            files={"file": (name, bytes(photo(90, 60, len(name)).jpegsave_buffer()))},
            headers={"Authorization": f"Bearer {key}", "Prefer": "wait=60"}, timeout=70,
        )  # fmt: skip
    page.goto(f"{demo.url}/uploads?slot=queued&state=held")
    row = page.locator("tr", has_text="yes.jpg")
    row.get_by_role("button", name="Approve").click()
    expect(page.locator("tr", has_text="yes.jpg")).to_have_count(0)
    row = page.locator("tr", has_text="no.jpg")
    row.get_by_text("Reject", exact=True).first.click()
    row.get_by_label("Reason").fill("Too small")
    row.get_by_role("button", name="Reject").click()
    page.get_by_role("link", name="late.jpg").click()
    approve_while_an_earlier_answer_is_under_way(page)
    page.goto(f"{demo.url}/uploads?slot=queued&state=held")
    expect(page.get_by_text("No upload matches")).to_be_visible()
    page.goto(f"{demo.url}/uploads?slot=queued")
    expect(page.locator("tr", has_text="no.jpg")).to_contain_text("Too small")
    expect(page.locator("tr", has_text="yes.jpg")).to_contain_text("live")


def test_a_crop_is_the_same_in_the_browser_as_in_the_files(page: Page, demo: Server) -> None:
    """A thousand of them, with sizes and ratios that come out at halves of a pixel too."""
    rng = random.Random(7)
    asked = []
    for _ in range(1000):
        size = Size(rng.randint(1, 6000), rng.randint(1, 6000))
        ratio = rng.choice([1.0, 1.5, 0.75, 16 / 9, 2.0, rng.uniform(0.05, 20)])
        focal = (rng.choice([0.5, 0.25, rng.random()]), rng.choice([0.5, 0.125, rng.random()]))
        asked.append((size, ratio, focal, rng.choice([1.0, 2.0, 4.0, round(rng.uniform(1, 8), 2)])))
    page.goto(demo.url)
    found = page.evaluate(
        """async (asked) => {
            const { cropRound } = await import("/static/js/crop.js");
            return asked.map(([width, height, ratio, x, y, zoom]) =>
              cropRound({ width, height }, ratio, { x, y, zoom }));
        }""",
        [[s.width, s.height, ratio, *focal, zoom] for s, ratio, focal, zoom in asked],
    )
    expected = [crop_round(size, ratio, focal, zoom) for size, ratio, focal, zoom in asked]
    assert [Rect(r["x"], r["y"], r["width"], r["height"]) for r in found] == expected
