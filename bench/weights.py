"""Weighing pages: how fast, and what the best ladders save."""

from __future__ import annotations

import random
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from bench.rungs import rungs
from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.deliver.markup import Offer, picture
from gefa.core.geometry import Size, height_for
from gefa.core.plan.load import parse_plan
from gefa.core.plan.pages import AudienceRow, PageEntry
from gefa.core.read import read
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.weigh.audience import Audience, neutral
from gefa.core.weigh.best_ladder import Demand, best_ladders, cost_of, proposed
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.ladders import ladders_of
from gefa.core.weigh.page_weight import weigh_page
from gefa.core.weigh.shown import ShownFile
from gefa.core.weigh.site_pages import SitePages
from gefa_demo.photographs import SCENES, draw_photograph
from gefa_demo.plan import PLAN

PAGES, PICTURES, ROWS, LADDERS = 200, 30, 60, 100
WIDTHS = (320, 640, 960, 1280, 1600)
MEASURED = (160, 240, 320, 480, 640, 800, 1000, 1280, 1600)
"""px that the curve of a photograph is measured at"""


@dataclass
class Weighing:
    """Seconds for a site, and for its ladders; bytes with the best ladders against equal steps."""

    site: float
    ladders: float
    best: float


def weighing() -> Weighing:
    """A site of drawn-up weights, then photographs of the sample site."""
    manifest = _manifest(PAGES * PICTURES)
    audience = Audience("many", _rows())
    started = time.process_time()
    pages = SitePages(manifest, [])
    shown = [
        pages.page(
            PageEntry.model_validate(
                {
                    "name": f"page {page}",
                    "pictures": [
                        {"picture": f"cut {page * PICTURES + at}", "sizes": _SIZES[at % 3]}
                        for at in range(PICTURES)
                    ],
                }
            )
        )
        for page in range(PAGES)
    ]
    for one in shown:
        weigh_page(one, audience, visits=False)
    site = time.process_time() - started
    some = shown[: -(-LADDERS // PICTURES)]
    naturals = {f"cut {at}": WIDTHS[-1] for at in range(LADDERS)}
    started = time.process_time()
    found = ladders_of(some, audience, naturals)
    ladders = (time.process_time() - started) * LADDERS / len(found)
    return Weighing(site, ladders, _against_equal_steps())


_SIZES = ("100vw", "(max-width: 600px) calc(100vw - 32px), 307px", "(max-width: 900px) 50vw, 33vw")


def _rows() -> list[AudienceRow]:
    chance = random.Random(5)
    return [
        AudienceRow(
            viewport_width=chance.randint(320, 2560),
            device_pixel_ratio=chance.choice((1, 1.5, 2, 2.625, 3)),
            share=chance.random() + 0.01,
        )
        for _ in range(ROWS)
    ]


def _manifest(cuts: int) -> Manifest:
    manifest = Manifest(sources=["a"])
    for number in range(cuts):
        name = f"cut {number}"
        files = [
            File(
                cut=name, path=f"{name}-{width}.{format.value}", format=format, width=width,
                height=width * 2 // 3, sha256="", quality=50, reused=False,
                bytes=round((1 + at) * width**1.6),
            )
            for at, format in enumerate((Format.AVIF, Format.WEBP, Format.JPEG))
            for width in WIDTHS
        ]  # fmt: skip
        size = Size(WIDTHS[-1], WIDTHS[-1] * 2 // 3)
        offers = [Offer(f.path, f.format, f.width, f.height) for f in files]
        manifest.files += files
        manifest.cuts.append(
            CutRecord(
                name=name, source="a", part="/", recipe="r", origin="hand", x=0, y=0,
                width=size.width, height=size.height, alpha=None, baseline_bytes=None, shown=size,
                markup=picture(offers, size, ""),
            )
        )  # fmt: skip
    return manifest


def _against_equal_steps() -> float:
    """Photographs as the sample site's pages show them, for the neutral audience: bytes of a visit
    with the best ladder, against as many equal steps up to the natural width."""
    audience = neutral()
    plan = parse_plan(PLAN, "gefa.toml")
    shown = {one.picture: one.sizes for page in plan.pages for one in page.pictures}
    best = equal = 0.0
    with tempfile.TemporaryDirectory() as folder:
        for at, scene in enumerate(SCENES):
            name = f"photos/{scene.file.removesuffix('.jpg')}"
            if name not in shown:
                continue
            draw_photograph(at, Path(folder))
            natural = read(Path(folder) / scene.file).size.width
            sizes = shown[name] or f"(max-width: {natural}px) 100vw, {natural}px"
            curve = _curve(Path(folder) / scene.file, natural)
            demand = Demand(audience.needed(sizes), audience.shares, curve, natural)
            ladder = proposed(best_ladders([demand]))
            steps = [
                round(natural * (1 + i) / len(ladder.widths)) for i in range(len(ladder.widths))
            ]
            best += ladder.bytes
            equal += cost_of(steps, [demand]).bytes
    return best / equal


def _curve(file: Path, natural: int) -> WeightCurve:
    """What AVIF weighs at some widths."""
    document = read(file)
    widths = (*(width for width in MEASURED if width < natural), natural)
    sizes = [Size(width, height_for(document.size, width)) for width in widths]
    files = []
    for size, image in rungs(document, document.canvas, document.canvas_rect, sizes):
        data = encode(image, Format.AVIF, 55)
        files.append(ShownFile("f", Format.AVIF, size.width, size.width, size.height, len(data)))
    return WeightCurve.of(files)
