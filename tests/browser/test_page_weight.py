"""What Chromium loads of whole pages, against what Gefa says that it loads: files and bytes."""

from __future__ import annotations

import os
import re
import struct
import threading
import zlib
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import unquote, urlsplit

import pytest
from playwright.sync_api import Browser

from gefa.core.deliver.markup import Offer, image_set, preload
from gefa.core.deliver.named_pictures import NamedPictures
from gefa.core.plan.pages import AudienceRow, PictureEntry
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.weigh.addresses import of_made
from gefa.core.weigh.audience import Audience, viewport_of
from gefa.core.weigh.html_page import read_markup
from gefa.core.weigh.page_weight import SentFile, weigh_page
from gefa.core.weigh.shown import ShownPage
from gefa.core.weigh.shown_markup import shown_markup
from tests.core.test_page_weight import site

EVERYTHING = "GEFA_EVERY_VIEWPORT" in os.environ
"""6 pages × 8 viewports × 3 densities × 3 sets of formats; a part of them without"""
WIDTHS = (320, 375, 414, 600, 768, 1024, 1440, 1920) if EVERYTHING else (375, 600, 1440)
DENSITIES = (1, 1.5, 3) if EVERYTHING else (1, 3)
KNOWN = ((Format.AVIF, Format.WEBP), (Format.WEBP,), ())
MANIFEST = site(9, seed=7)
HERO = PictureEntry.model_validate(
    {
        "name": "hero",
        "sizes": "(min-width: 60em) calc(100vw - 320px), 100vw",
        "loading": "eager",
        "use": [
            {"cut": "art/cut 0", "media": "(max-width: 600px)"},
            {"cut": "art/cut 1", "media": "(orientation: landscape) and (width < 1200px)"},
            {"cut": "art/cut 2"},
        ],
    }
)
NAMED = NamedPictures(MANIFEST, [HERO])


def _offers(cut: str) -> list[Offer]:
    files = [file for file in MANIFEST.files if file.cut == cut]
    return [Offer(f.path, f.format, f.width, f.height) for f in files]


def _srcset(cut: str, format: str, told: dict[int, str]) -> str:
    return ", ".join(f"{cut.replace(' ', '%20')}-{w}.{format} {d}" for w, d in told.items())


PAGES = {
    "art": NAMED.markup("hero") + NAMED.markup("art/cut 3"),
    "sizes": "".join(
        # Gefa writes no entry that browsers ignore; a page may have one all the same.
        NAMED.markup(f"art/cut {at}", sizes=sizes, loading=loading).replace("77vw", "50%")
        for at, (sizes, loading) in enumerate(
            (
                ("50vw", "eager"),
                ("calc(33.3vw - 20px)", "lazy"),
                ("(max-width: 599px) 80vw, min(40vw, 400px)", "lazy"),
                ("clamp(200px, 30vw, 500px)", "lazy"),
                ("(max-width: 599px) calc(100vw - 2rem), (width < 1100px) 77vw, 25em", "eager"),
            )
        )
    ),
    "density": f"""
      <img src="art/cut%204-640.jpeg" srcset="{
        _srcset("art/cut 4", "jpeg", {960: "1.5x", 1280: "2x", 1920: "3x"})
    }" width="640" height="360" alt="">
      <img srcset="{_srcset("art/cut 5", "webp", {320: "1x", 640: "2x"})}" width="320" alt=""
        height="180" loading="lazy">""",
    "plain": """<img src="art/cut%206-960.jpeg" alt="" width="300" height="200">
      <img src="art/cut%206-960.jpeg" alt="" width="100" height="100" loading="lazy">
      <template><img src="art/cut%207-320.jpeg" alt=""></template>
      <noscript><img src="art/cut%207-640.jpeg" alt=""></noscript>
      <!-- <img src="art/cut%207-960.jpeg" alt=""> -->
      <picture><source srcset="art/cut%208-320.avif" type="image/x-new">
        <img src="art/cut%208-320.jpeg" alt="" width="9" height="9"></picture>""",
    "styles": f"<style>.a {{ {image_set(_offers('art/cut 1'), 640)} }}</style>"
    '<div class="a" style="height: 40px"></div>'
    "<div style=\"height: 40px; background: url('art/cut%202-320.jpeg')\"></div>",
    "preload": preload(list(NAMED.cases(HERO))) + NAMED.markup("hero", loading="eager"),
}


def _png(width: int, height: int, size: int) -> bytes:
    """A picture of so many px that weighs about so much."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return (
            struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        )

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    rows = zlib.compress((b"\0" + b"\x80" * width) * height, 1)
    png = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")
    return png + b"\0" * max(0, size - len(png))


@dataclass
class Site:
    """A server of the pages, and the paths that were asked for at each visit."""

    url: str
    asked: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    weights: dict[str, int] = field(default_factory=dict)


@pytest.fixture(scope="module")
def served() -> Iterator[Site]:
    files = {file.path: file for file in MANIFEST.files}

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            split = urlsplit(self.path)
            visit, _, path = unquote(split.path).lstrip("/").partition("/")
            if path in files:
                file = files[path]
                body = _png(file.width, file.height, file.bytes)
                kind = "image/png"
                found.asked[visit].add(path)
                found.weights[path] = len(body)
            elif path in PAGES:
                body, kind = _page(path, split.query.split(",")).encode(), "text/html"
            else:
                self.send_error(404)
                return
            self.send_response(200)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.send_header("Cache-Control", "no-store")
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    found = Site(f"http://127.0.0.1:{server.server_port}/")
    yield found
    server.shutdown()


def _page(name: str, known: list[str]) -> str:
    """A page for a browser that knows only some formats: it has never heard of the others."""
    html = PAGES[name]
    for format in (Format.AVIF, Format.WEBP):
        if format.value not in known:
            html = html.replace(FORMATS[format].media_type, f"image/x-{format.value}")
    head = re.findall(r"<link[^>]*>|<style>.*?</style>", html, re.S)
    body = re.sub(r"<link[^>]*>|<style>.*?</style>", "", html, flags=re.S)
    style = "<style>img { display: block; max-width: 100%; height: auto }</style>"
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><title>{name}</title>{style}"
        f'<link rel="icon" href="data:,">{"".join(head)}<body>{body}'
    )


def _told(name: str, audience: Audience) -> list[list[SentFile]]:
    """What each row is sent of a page."""
    files = {file.path: of_made(file) for file in MANIFEST.files}
    found = shown_markup(
        read_markup(PAGES[name]), lambda url: files.get(unquote(url)) or f"{url} is not there"
    )
    assert not found.problems
    visits = weigh_page(ShownPage(name, tuple(found.pictures)), audience).visits
    return [visit.files for visit in visits]


def test_chromium_loads_what_is_told(browser: Browser, served: Site) -> None:
    compared, wrong = 0, []
    rows = [
        AudienceRow(viewport_width=width, device_pixel_ratio=density, share=1, formats=formats)
        for width in WIDTHS
        for density in DENSITIES
        for formats in KNOWN
    ]
    told = {name: _told(name, Audience("all", rows)) for name in PAGES}
    for at in range(0, len(rows), len(KNOWN)):
        viewport = viewport_of(rows[at])
        context = browser.new_context(
            viewport={"width": int(viewport.width), "height": int(viewport.height)},
            device_scale_factor=viewport.density,
        )
        page = context.new_page()
        for number, row in enumerate(rows[at : at + len(KNOWN)], at):
            known = ",".join(format.value for format in row.formats)
            for name in PAGES:
                visit = f"{number}-{name}"
                page.goto(f"{served.url}{visit}/{name}?{known}", wait_until="load")
                page.evaluate(_TO_THE_END)
                page.wait_for_function("[...document.images].every((one) => one.complete)")
                expected = {file.path for file in told[name][number] if file.bytes}
                compared += 1
                if served.asked[visit] != expected:
                    wrong.append((name, row, sorted(served.asked[visit]), sorted(expected)))
                    continue
                weights = {f.path: f.bytes for f in told[name][number] if f.bytes}
                for path, size in weights.items():
                    assert size == served.weights[path] or size < 3_000
        context.close()
    print(f"{compared} visits compared, {len(wrong)} otherwise")
    assert not wrong, f"{len(wrong)} of {compared}: {wrong[:3]}"


_TO_THE_END = """
for (const one of document.images) one.scrollIntoView();
new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
"""
