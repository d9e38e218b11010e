"""Every page at widths from a phone to a large screen, and what a thumb can hit."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import overflow, place_of
from tests.conftest import Server, start
from tests.web.test_people import ROUTES

WIDTHS = (390, 800, 1280, 1920)
DESIGN = "designs/programme.ora"
NO_PAGES = (
    r"/api/.*", r"/festival.*", r"/healthz|/readyz|/metrics|/favicon.ico", r"/welcome|/account.*",
    r".*\.(zip|json|toml|css|pdf)", r".*/(file|files|tried|fragment|events?|preview|picture)(/.*)?",
    r".*/(reference|curve|bitmap|thumb|state|progress|effect|trial|rows|sum)(/.*)?",
    r"/weight/(at|ladder)", r"/sign-in/.*", r"/plan/import.*", r"/desk/.*", r"/sources/.*/(?!originals).*",
    r"/sources", r"/runs/.*/pdf.*", r"/runs/.*/layout/.+", r"/slots/.*/(tests|tried|try).*",
    r"/uploads/.*/.*", r"/runs/.*/proof/.+/.+",
)  # fmt: skip
"""what a browser loads beside pages, or as parts of them"""
TARGETS = """() => {
  const small = [];
  for (const one of document.querySelectorAll("a[href], button, select, input, summary, textarea")) {
    if (!one.checkVisibility() || one.type === "hidden" || one.disabled) continue;
    const inSentence = getComputedStyle(one).display === "inline"
      && one.parentElement.textContent.trim() !== one.textContent.trim();
    if (inSentence || one.closest(".sentence, .sr-only, pre")) continue;
    one.scrollIntoView({ block: "center", inline: "center" });
    const box = one.getBoundingClientRect();
    const x = box.x + box.width / 2, y = box.y + box.height / 2;
    const hits = (dx, dy) => {
      const found = document.elementFromPoint(x + dx, y + dy);
      return found && (one.contains(found) || found.closest("label")?.control === one);
    };
    if (![[0, -20], [0, 20]].every(([dx, dy]) => hits(dx, dy)))
      small.push(`${one.outerHTML.slice(0, 90)} ${Math.round(box.width)} × ${Math.round(box.height)}`);
  }
  return small;
}"""
"""controls that a thumb misses by 20 px above or below their middle; links in a sentence may be as
high as its lines (WCAG 2.2, 2.5.5)"""


@pytest.fixture(scope="module")
def served(
    tmp_path_factory: pytest.TempPathFactory, loaded_demo: Path, free_port: Callable[[], int]
) -> Iterator[Server]:
    """The demo, with a run of one design."""
    folder = tmp_path_factory.mktemp("layout") / "data"
    shutil.copytree(loaded_demo, folder)
    server = start("demo", folder, free_port())
    with server.client(headers={"Authorization": f"Bearer {server.site_key}"}) as site:
        for _ in range(2):  # so that there are two to compare
            run = site.post("/api/v1/runs", json={"sources": [server.source(DESIGN)]}).json()["id"]
            answer = site.get(f"/api/v1/runs/{run}", headers={"Prefer": "wait=90"})
            assert answer.json()["state"] == "done"
    yield server
    server.stop()


def addresses(served: Server) -> list[str]:
    """A page of every kind."""
    with served.client(follow_redirects=True) as client:
        runs = re.findall(r'href="(/runs/\w+)"', client.get("/runs").text)
        run, before = list(dict.fromkeys(runs))[:2]
        proof = next(iter(re.findall(rf'href="({run}/proof/[^"]+)"', client.get(run).text)))
        upload = re.findall(r'href="(/uploads/\w{31})"', client.get("/uploads").text)[0]
    source = f"/sources/{served.source(DESIGN)}"
    return [
        "/", "/?view=table", source, f"{source}/originals", "/plan", "/recipes", "/recipes/figure",
        "/runs", run, f"{run}/compare?against={before.rpartition('/')[2]}", f"{run}/layout/", f"{run}/proof", proof.replace("&amp;", "&"),
        "/weight", "/weight?page=home", "/slots", "/slots/-", "/slots/gallery", "/slots/gallery/keys",
        "/uploads", upload, "/keys", "/people", "/people/trail", "/health", "/removed", "/watched",
        "/sign-in", "/nowhere",
    ]  # fmt: skip


@pytest.fixture(scope="module")
def pages(served: Server) -> list[str]:
    return addresses(served)


def test_every_page_is_among_them(pages: list[str]) -> None:
    paths = [page.partition("?")[0] for page in pages]
    for method, route in ROUTES:
        if method == "GET" and not any(re.fullmatch(no, route.path) for no in NO_PAGES):
            whole = re.sub(r"\{\w+:path\}", ".+", route.path)
            pattern = re.sub(r"\{\w+\}", "[^/]+", whole)
            assert any(re.fullmatch(pattern, path) for path in paths), route.path


@pytest.mark.parametrize("width", WIDTHS)
def test_no_page_is_wider_than_its_window(
    browser: Browser, served: Server, pages: list[str], width: int
) -> None:
    page = browser.new_page(viewport={"width": width, "height": 844}, reduced_motion="reduce")
    wide = {}
    for path in pages:
        page.goto(f"{served.url}{path}")
        over = overflow(page)
        if over > 0:
            wide[path] = over
    page.close()
    assert wide == {}


def test_a_thumb_hits_what_editors_and_reviewers_use(
    browser: Browser, served: Server, pages: list[str]
) -> None:
    page = browser.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
    small = {}
    for path in pages:
        if re.match(r"/(uploads|runs|sign-in|weight$|slots$|\?view=table|$)", path):
            page.goto(f"{served.url}{path}")
            page.wait_for_load_state("networkidle")
            small[path] = page.evaluate(TARGETS)
    page.close()
    assert small == {path: [] for path in small}


def test_text_twice_as_large_fits_too(browser: Browser, served: Server, pages: list[str]) -> None:
    """WCAG 2.2, 1.4.4: at 200 % nothing is lost. Chromium's own setting enlarges ``rem``."""
    page = browser.new_page(viewport={"width": 1280, "height": 800}, reduced_motion="reduce")
    wide = {}
    for path in pages:
        page.goto(f"{served.url}{path}")
        page.evaluate(
            """async () => {
              document.documentElement.style.fontSize = "30px";
              for (let frame = 0; frame < 3; frame++) await new Promise(requestAnimationFrame);
            }"""
        )
        over = overflow(page)
        if over > 0:
            wide[path] = over
    page.close()
    assert wide == {}


def test_two_fingers_zoom_the_proof(browser: Browser, served: Server, pages: list[str]) -> None:
    page = browser.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
    page.goto(f"{served.url}{next(path for path in pages if '/proof/' in path)}")
    expect(page.locator("[data-times='1']")).to_have_attribute("aria-pressed", "true")
    box = place_of(page.locator("#canvas"))
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    touch = page.context.new_cdp_session(page)
    for kind, apart in (("touchStart", 20), ("touchMove", 30), ("touchMove", 45), ("touchEnd", 0)):
        fingers = [{"x": x - apart, "y": y, "id": 1}, {"x": x + apart, "y": y, "id": 2}]
        touch.send(
            "Input.dispatchTouchEvent",
            {"type": kind, "touchPoints": fingers if apart else []},
        )
    expect(page.locator("[data-times='2']")).to_have_attribute("aria-pressed", "true")
    page.close()


def test_outlines_with_room_have_names_and_so_has_what_is_pointed_at(
    page: Page, served: Server, pages: list[str]
) -> None:
    page.goto(f"{served.url}{next(path for path in pages if path.startswith('/sources/'))}")
    names = page.locator("#names text")
    expect(names.first).to_be_attached()
    known = page.locator(".cut-line[data-name]").evaluate_all("all => all.map(e => e.dataset.name)")
    assert set(names.all_text_contents()) <= set(known)
    hidden = [name for name in known if name and name not in names.all_text_contents()]
    page.keyboard.press("ArrowDown")
    called = page.locator("tbody.here").get_attribute("data-called")
    expect(page.locator("#names text", has_text=called or "?").first).to_be_attached()
    page.locator("[data-zoom=in]").click(click_count=3)
    for name in hidden[:1]:  # there is room at a larger zoom
        expect(page.locator("#names text", has_text=name).first).to_be_attached()
