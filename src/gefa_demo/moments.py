"""Eighteen more photographs of the festival, smaller than the others: what a phone takes on the way
from the car park to the dune."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from gefa_demo.photographs import HEIGHT, WIDTH, Scene, draw_scene, lay, sand, sea, sky
from gefa_demo.shapes import CHALK, DUSK, MADDER, PINE, SAFFRON, TIDE, Pixels, kite, ridge

MOMENT_WIDTH = 1600
"""px"""
DAY, HAZE, STORM, DAWN, DUSK_SKY, CLEAR = (
    ("#4a86b4", "#d5e4e8"),
    ("#8fb0c2", "#f2e9d8"),
    ("#4d5a66", "#b9c0bf"),
    ("#596a94", "#f3c79c"),
    ("#2b3357", "#e58f5c"),
    ("#3576ad", "#c4dde8"),
)
_CLOTH = ((MADDER, SAFFRON), (TIDE, CHALK), (PINE, SAFFRON), (DUSK, MADDER))


class Moment(NamedTuple):
    """``water`` and ``beach`` are the heights of horizons in px of the full size, 0 for none;
    ``kites`` are x, y, size in px and degrees."""

    file: str
    alt: str
    light: tuple[str, str]
    cloud: float
    water: int
    beach: int
    kites: tuple[tuple[int, int, int, int], ...]

    def draw(self, seed: int) -> Pixels:
        """The picture at half size."""
        pixels = sky(*self.light, self.cloud, seed)
        if self.water:
            pixels = sea(pixels, self.water, "#35707f", seed + 1)
        far = "".join(
            kite(x, y, size, turn, _CLOTH[(seed + i) % len(_CLOTH)])
            for i, (x, y, size, turn) in enumerate(self.kites)
        )
        if far:
            pixels = lay(pixels, far, 1.4)
        if self.beach:
            pixels = sand(
                pixels, ridge(WIDTH, HEIGHT, self.beach, 60, seed), "#ecd7aa", "#a07d4e", seed
            )
        return pixels


_MOMENTS = (
    Moment("car-park.jpg", "The first kites over the car park", HAZE, 0.2, 0, 1480,
           ((500, 500, 90, 12), (1900, 380, 70, -18))),
    Moment("over-the-ridge.jpg", "A kite comes up over the ridge", CLEAR, -0.1, 0, 980,
           ((1400, 620, 210, 20),)),
    Moment("tide-out.jpg", "The tide is out", HAZE, 0.05, 700, 1100, ()),
    Moment("tide-in.jpg", "The tide is coming in", DAY, 0.15, 640, 1560, ((2050, 330, 80, -10),)),
    Moment("squall.jpg", "A squall far out", STORM, 0.5, 900, 0, ((900, 480, 110, 34),)),
    Moment("after-the-squall.jpg", "After the squall", STORM, 0.1, 1000, 1500, ()),
    Moment("two-lines.jpg", "Two kites on crossed lines", CLEAR, 0.0, 0, 1540,
           ((900, 620, 240, 28), (1500, 640, 240, -28))),
    Moment("the-swarm.jpg", "Nine kites at once", DAY, 0.1, 0, 1600,
           tuple((300 + 240 * i, 300 + 170 * (i % 4), 60 + 14 * (i % 3), 9 * i - 36)
                 for i in range(9))),
    Moment("early.jpg", "Before the first visitors", DAWN, -0.2, 1150, 1450, ()),
    Moment("flat-calm.jpg", "Not a breath of wind", DAWN, -0.3, 980, 0, ()),
    Moment("last-light.jpg", "The last kite of the day", DUSK_SKY, -0.1, 1200, 1580,
           ((1300, 560, 130, 14),)),
    Moment("lamps-on.jpg", "The lamps are lit", DUSK_SKY, -0.25, 0, 1400, ((600, 700, 60, -8),)),
    Moment("from-the-pier.jpg", "The beach from the pier", DAY, 0.05, 760, 0,
           ((700, 400, 90, 16), (1700, 520, 60, -20))),
    Moment("from-the-dune.jpg", "The beach from the dune", HAZE, -0.05, 620, 1240,
           ((1180, 330, 150, 6),)),
    Moment("runaway.jpg", "One that got away", CLEAR, 0.25, 0, 0, ((1900, 420, 60, 48),)),
    Moment("cloud-bank.jpg", "A bank of cloud", DAY, 0.6, 0, 1500, ((1000, 760, 80, -14),)),
    Moment("sand-blows.jpg", "The sand is blowing", STORM, -0.2, 0, 820, ()),
    Moment("long-shadow.jpg", "Low sun on the dune", DAWN, 0.0, 0, 1020, ((560, 420, 100, 10),)),
)  # fmt: skip


def draw_moment(index: int, folder: Path) -> Path:
    """Write the moment numbered ``index`` as a JPEG; returns its path."""
    return draw_scene(MOMENTS[index], 70 + index, folder)


MOMENTS = tuple(Scene(one.file, one.alt, one.draw, width=MOMENT_WIDTH) for one in _MOMENTS)
