"""Drawings beside Chromium: whole, in slices, and part by part."""

from __future__ import annotations

import base64
import io
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image
from playwright.sync_api import Browser, Page

from gefa.core.deliver.manifest import Sprite
from gefa.core.deliver.sprite import sprite_file
from gefa.core.geometry import Rect
from gefa.core.read import read
from gefa.core.read.document import Document, Part
from gefa.core.treat.svg_file import svg_file

WIDTH, HEIGHT = 300, 200
ANTIALIASED = 1.6
"""levels of 255 that pixels may differ by in the mean: the edges of small shapes"""
FAR_OFF = 12
"""pixels of a part that may differ by more than 40 levels: single ones along edges"""

BLURRED_AND_SHADOWED = """
<defs><filter id="b" x="-.5" y="-.5" width="2" height="2"><feGaussianBlur stdDeviation="12"/></filter>
<filter id="s" x="-.5" y="-.5" width="2" height="2">
  <feDropShadow dx="14" dy="20" stdDeviation="6" flood-color="#00f"/></filter></defs>
<rect id="a" x="30" y="30" width="120" height="90" fill="#c20" filter="url(#b)"/>
<circle id="c" cx="200" cy="90" r="50" fill="#2a4" filter="url(#s)"/>
<g id="t" transform="translate(20 120) scale(2)">
  <rect width="50" height="20" fill="#82f" filter="url(#b)"/></g>"""
CLIPPED_AND_MASKED = """
<defs><filter id="b" x="-1" y="-1" width="3" height="3"><feGaussianBlur stdDeviation="10"/></filter>
<clipPath id="k"><rect x="60" y="60" width="60" height="40"/></clipPath>
<mask id="m"><rect x="180" y="60" width="60" height="60" fill="#fff" filter="url(#b)"/></mask></defs>
<g id="a" clip-path="url(#k)">
  <rect x="30" y="30" width="120" height="90" fill="#c20" filter="url(#b)"/></g>
<g id="mk" mask="url(#m)"><rect x="150" y="20" width="140" height="150" fill="#06a"/></g>"""
MOVED_BY_THEIR_FILTER = """
<defs><filter id="o" x="-3" y="-3" width="9" height="9"><feOffset dx="90" dy="40"/></filter>
<filter id="so" x="-3" y="-3" width="9" height="9">
  <feGaussianBlur in="SourceAlpha" stdDeviation="4"/><feOffset dx="60" dy="80"/></filter></defs>
<rect id="a" x="20" y="20" width="40" height="30" fill="#c20" filter="url(#o)"/>
<rect id="sh" x="150" y="20" width="40" height="30" fill="#c20" filter="url(#so)"/>"""
GROUPS_IN_PATTERNS = """
<defs><filter id="b"><feGaussianBlur stdDeviation="2"/></filter>
<pattern id="p" width="60" height="60" patternUnits="userSpaceOnUse"><g opacity=".5">
  <rect x="20" y="20" width="36" height="36" fill="#c20"/></g></pattern>
<pattern id="q" width="1" height="1"><g filter="url(#b)">
  <rect x="10" y="6" width="12" height="12" fill="#06a"/></g></pattern></defs>
<rect id="a" x="20" y="20" width="26" height="26" fill="url(#p)"/>
<rect id="c" x="100" y="20" width="26" height="26" fill="url(#q)"/>"""
SELECTED_BY_SIBLINGS = """
<style>rect:nth-child(2){fill:#c00;stroke:#00c;stroke-width:4} rect:last-child{fill:#0a0}
rect + circle{fill:#f0f}</style>
<rect id="one" x="10" y="10" width="40" height="40"/>
<g id="g"><rect id="x" x="70" y="10" width="40" height="40"/>
<rect id="y" x="130" y="10" width="40" height="40"/><circle id="z" cx="220" cy="30" r="20"/>
<rect id="w" x="250" y="10" width="40" height="40"/></g>"""
VARIABLES_AND_COLOURS = """
<style>:root{--brand: oklch(0.65 0.2 30);--soft: rgb(0 100 200 / 50%)} .v{fill:var(--brand)}</style>
<rect id="a" class="v" x="10" y="10" width="40" height="40"/>
<rect id="b" x="70" y="10" width="40" height="40" fill="var(--soft)"/>
<rect id="c" x="130" y="10" width="40" height="40" style="fill:var(--no, lab(50% 40 30))"/>
<g style="--k:hwb(200 10% 20%)">
  <rect id="d" x="190" y="10" width="40" height="40" style="fill:var(--k)"/></g>
<rect id="e" x="240" y="10" width="40" height="40" fill="color(display-p3 0 .6 .2)"/>"""
EMS_AND_ORIGINS = """
<rect id="a" width="5em" height="2em" fill="#c20"/>
<switch><g id="de" systemLanguage="de"><rect x="100" width="50" height="50" fill="#f00"/></g>
<g id="en" systemLanguage="en"><rect x="100" width="50" height="50" fill="#0f0"/></g></switch>
<rect id="to" x="200" y="20" width="40" height="40" fill="#00f" transform="rotate(45)"
  transform-origin="220px 40px"/>"""
DRAWINGS = {
    name: value for name, value in globals().items() if isinstance(value, str) and "<" in value
}
Levels = NDArray[np.float64]
"""rows × columns × RGBA, premultiplied, 0..255"""

HIDE_ALL_BUT = """
id => {
  const kept = document.getElementById(id), above = new Set();
  for (let e = kept; e; e = e.parentElement) above.add(e);
  const resources = ["defs", "style", "filter", "clipPath", "mask", "pattern"];
  const hide = element => {
    for (const child of element.children) {
      if (child === kept) continue;
      if (above.has(child)) hide(child);
      else if (!resources.includes(child.tagName)) child.style.display = "none";
    }
  };
  hide(document.querySelector("svg"));
}"""


@pytest.fixture(scope="module")
def screen(browser: Browser) -> Page:
    return browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})


def premultiplied(pixels: NDArray[np.uint8]) -> Levels:
    levels = pixels.astype(np.float64)
    levels[..., :3] *= levels[..., 3:] / 255
    return levels


def seen(screen: Page, drawing: str, only: str = "") -> Levels:
    screen.set_content(f'<body style="margin:0">{drawing}</body>')
    if only:
        screen.evaluate(HIDE_ALL_BUT, only)
    shot = Image.open(io.BytesIO(screen.screenshot(omit_background=True)))
    return premultiplied(np.asarray(shot.convert("RGBA")))


def shown_file(screen: Page, data: bytes) -> Levels:
    """An SVG file as an ``<img>`` shows it."""
    source = f"data:image/svg+xml;base64,{base64.b64encode(data).decode()}"
    screen.set_content(f'<body style="margin:0"><img style="display:block" src="{source}">')
    screen.wait_for_function("document.images[0].complete")
    shot = screen.locator("img").screenshot(omit_background=True)
    return premultiplied(np.asarray(Image.open(io.BytesIO(shot)).convert("RGBA")))


def piece_of(levels: Levels, place: Rect, scale: int) -> Levels:
    rows = slice(place.y * scale, place.bottom * scale)
    return levels[rows, place.x * scale : place.right * scale]


def drawn(document: Document, part: Part, places: list[Rect]) -> Levels:
    """The part on an empty canvas, from pieces that are drawn one by one."""
    canvas = np.zeros((HEIGHT, WIDTH, 4))
    for place in places:
        piece = premultiplied(document.render(part, place, place.width).numpy())
        shown = place.intersection(document.canvas_rect)
        if not shown.empty:
            rows = slice(shown.y - place.y, shown.bottom - place.y)
            columns = slice(shown.x - place.x, shown.right - place.x)
            canvas[shown.y : shown.bottom, shown.x : shown.right] = piece[rows, columns]
    return canvas


def check(ours: Levels, theirs: Levels, what: str) -> None:
    visible = (ours[..., 3] > 0) | (theirs[..., 3] > 0)
    apart = np.abs(ours - theirs)
    assert visible.any(), what
    assert apart[visible].mean() < ANTIALIASED, what
    assert (apart.max(axis=2) > 40).sum() <= FAR_OFF, what


@pytest.mark.parametrize("name", DRAWINGS)
def test_a_drawing_is_as_chromium_shows_it(name: str, screen: Page, tmp_path: Path) -> None:
    drawing = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}"'
        f' viewBox="0 0 {WIDTH} {HEIGHT}">{DRAWINGS[name]}</svg>'
    )
    file = tmp_path / "drawing.svg"
    file.write_text(drawing, "utf-8")
    document = read(file)
    assert document.notices == []
    columns, rows = (0, 97, 200, WIDTH), (0, 66, 130, HEIGHT)
    slices = [
        Rect(left, top, right - left, bottom - top)
        for left, right in pairwise(columns)
        for top, bottom in pairwise(rows)
    ]
    whole = seen(screen, drawing)
    check(drawn(document, document.canvas, slices), whole, "slices")
    check(drawn(document, document.canvas, [document.canvas_rect]), whole, "canvas")
    for part in document.canvas.walk():
        extent = document.extent(part)
        if part is not document.canvas and part.id != "g":
            check(drawn(document, part, [extent]), seen(screen, drawing, part.id), part.path)


@pytest.mark.parametrize("name", DRAWINGS)
def test_a_part_as_a_file_of_its_own_is_what_the_part_shows(
    name: str, browser: Browser, tmp_path: Path
) -> None:
    """At 1x and 3x, with what the part refers to and no more."""
    file = tmp_path / "drawing.svg"
    file.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}"'
        f' viewBox="0 0 {WIDTH} {HEIGHT}">{DRAWINGS[name]}</svg>', "utf-8",
    )  # fmt: skip
    document = read(file)
    for scale in (1, 3):
        screen = browser.new_page(
            viewport={"width": WIDTH, "height": HEIGHT}, device_scale_factor=scale
        )
        for part in document.canvas.walk():
            region = document.extent(part)
            picture = document.render(part, region, region.width)
            ours = shown_file(screen, svg_file(document, part, region, picture))
            theirs = seen(screen, file.read_text("utf-8"), part.id)
            inside = region.intersection(document.canvas_rect)
            at = inside.moved(-region.x, -region.y)
            apart = np.abs(piece_of(ours, at, scale) - piece_of(theirs, inside, scale))
            assert apart.mean() < 1, (part.path, scale)
        screen.close()


def test_a_sprite_shows_what_its_files_show(browser: Browser, tmp_path: Path) -> None:
    files: dict[str, bytes] = {}
    for name, body in DRAWINGS.items():
        file = tmp_path / f"{name}.svg"
        file.write_text(
            f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}"'
            f' viewBox="0 0 {WIDTH} {HEIGHT}">{body}</svg>', "utf-8",
        )  # fmt: skip
        document = read(file)
        region = document.canvas_rect
        picture = document.render(document.canvas, region, WIDTH)
        files[name] = svg_file(document, document.canvas, region, picture)
    sprite = Sprite(recipe="r", path="r/sprite.svg", symbols={name: name for name in files})
    data = sprite_file(sprite, lambda name: files[name])
    screen = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})
    page = '<body style="margin:0">'
    screen.route("**/page.html", lambda route: route.fulfill(body=page, content_type="text/html"))
    screen.route(
        "**/sprite.svg", lambda route: route.fulfill(body=data, content_type="image/svg+xml")
    )
    screen.goto("http://gefa.test/page.html")
    for name, file_data in files.items():
        screen.evaluate(
            "html => new Promise(done => { document.body.innerHTML = html; setTimeout(done, 150) })",
            f'<svg style="display:block" width="{WIDTH}" height="{HEIGHT}">'
            f'<use href="/r/sprite.svg#{name}"/></svg>',
        )
        shot = Image.open(io.BytesIO(screen.screenshot(omit_background=True))).convert("RGBA")
        theirs = premultiplied(np.asarray(shot))
        single = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})
        ours = shown_file(single, file_data)
        single.close()
        assert ours.any(), name
        assert np.abs(ours - theirs).mean() < 0.5, name
    screen.close()
