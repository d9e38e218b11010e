"""The festival poster, an OpenRaster design with groups, shadows and blend modes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pyvips

from gefa_demo.designs import Layer, LayerGroup, cropped, shadowed, write_design
from gefa_demo.shapes import (
    CHALK,
    DUSK,
    MADDER,
    PINE,
    SAFFRON,
    SAND,
    TIDE,
    drawn,
    kite,
    noise,
    ridge,
    star,
)

WIDTH, HEIGHT = 1600, 2200


def draw_poster(target: Path) -> None:
    """Write the poster."""
    write_design(target, _layers(), WIDTH, HEIGHT)


def _sky() -> Layer:
    down = np.linspace(0, 1, HEIGHT, dtype=np.float32)[:, None]
    top, bottom = np.array([96, 150, 178.0]), np.array([246, 226, 190.0])
    colour = top + (bottom - top) * down[..., None] ** 0.8
    colour = colour + noise(HEIGHT, WIDTH, 420, 4, 11)[..., None] * 10
    grain = np.random.default_rng(5).normal(0, 2.2, (HEIGHT, WIDTH, 1))
    alpha = np.full((HEIGHT, WIDTH, 1), 255.0)
    pixels = np.concatenate([np.broadcast_to(colour + grain, (HEIGHT, WIDTH, 3)), alpha], axis=2)
    image = pyvips.Image.new_from_array(pixels.clip(0, 255).astype(np.uint8))
    return Layer("Paper sky", image.copy(interpretation="srgb"))


def _glow() -> Layer:
    body = (
        f'<defs><radialGradient id="g"><stop offset="0" stop-color="{CHALK}"/>'
        f'<stop offset=".35" stop-color="{SAFFRON}" stop-opacity=".75"/>'
        f'<stop offset="1" stop-color="{SAFFRON}" stop-opacity="0"/></radialGradient></defs>'
        '<circle cx="1120" cy="620" r="520" fill="url(#g)"/>'
    )
    return cropped("Sun glow", drawn(WIDTH, HEIGHT, body), opacity=0.85, op="svg:screen")


def _hills(name: str, base: int, seed: int, colour: str, **options: Any) -> Layer:
    body = f'<path d="{ridge(WIDTH, HEIGHT, base, 90, seed)}" fill="{colour}"/>'
    return cropped(name, drawn(WIDTH, HEIGHT, body), **options)


def _tide_lines() -> Layer:
    lines = "".join(
        f'<path d="M-20 {1720 + i * 46} q 200 {-34 + i * 3} 410 0 t 410 0 t 410 0 t 410 0"'
        f' fill="none" stroke="{CHALK}" stroke-width="{9 - i}" stroke-opacity=".8"/>'
        for i in range(6)
    )
    return cropped(
        "Tide lines #figur", drawn(WIDTH, HEIGHT, lines), opacity=0.7, op="svg:soft-light"
    )


def _kite_layer(
    name: str, x: int, y: int, size: int, turn: float, colours: tuple[str, str]
) -> Layer:
    """Drawn on a larger sheet, so that a kite can hang over the canvas edge."""
    room = 600
    image = drawn(WIDTH + 2 * room, HEIGHT, kite(x + room, y, size, turn, colours))
    return cropped(name, shadowed(image, 14, 0.35, 26), dx=-room)


def _lettering(text: str, size: int, y: int, colour: str) -> str:
    """Capital letters built from strokes, so that no typeface is needed."""
    width = size * 0.62
    start = (WIDTH - len(text) * width) / 2
    strokes = []
    for index, letter in enumerate(text):
        shape = LETTERS.get(letter)
        if shape:
            strokes.append(
                f'<path transform="translate({start + index * width} {y}) scale({size / 10})"'
                f' d="{shape}"/>'
            )
    return (
        f'<g fill="none" stroke="{colour}" stroke-width="1.25" stroke-linejoin="round"'
        f' stroke-linecap="square">{"".join(strokes)}</g>'
    )


LETTERS = {
    "A": "M0 10 L2.3 0 L4.6 10 M.8 6.6 H3.8",
    "D": "M.3 0 V10 H1.6 Q4.6 10 4.6 5 T1.6 0 Z",
    "E": "M4.4 0 H.3 V10 H4.4 M.3 5 H3.6",
    "I": "M2.3 0 V10",
    "K": "M.3 0 V10 M4.4 0 L.5 5.4 L4.6 10",
    "L": "M.3 0 V10 H4.4",
    "M": "M.1 10 V0 L2.4 5.6 L4.7 0 V10",
    "Q": "M2.3 0 Q4.6 0 4.6 5 T2.3 10 T0 5 T2.3 0 M2.8 7.4 L4.7 10.6",
    "R": "M.3 10 V0 H2.4 Q4.5 0 4.5 2.6 T2.4 5.2 H.3 M2.4 5.2 L4.6 10",
    "S": "M4.4 1.4 Q3.8 0 2.3 0 Q.2 0 .3 2.4 Q.4 4.2 2.3 4.8 Q4.5 5.4 4.5 7.6 T2.2 10 Q.6 10 0 8.5",
    "T": "M0 0 H4.6 M2.3 0 V10",
    "U": "M.2 0 V6.4 Q.2 10 2.3 10 T4.4 6.4 V0",
    "Y": "M0 0 L2.3 5 L4.6 0 M2.3 5 V10",
}


def _title() -> Layer:
    body = _lettering("QUILLMERE", 210, 250, PINE) + _lettering("KITE DAYS", 150, 540, MADDER)
    return cropped("Title", shadowed(drawn(WIDTH, HEIGHT, body), 6, 0.25, 8))


def _badge() -> Layer:
    body = (
        f'<path d="{star(1340, 1560, 150, 122, 18)}" fill="{MADDER}"/>'
        f'<circle cx="1340" cy="1560" r="96" fill="none" stroke="{CHALK}" stroke-width="7"/>'
        f'<path d="{star(1340, 1560, 66, 27, 5)}" fill="{SAFFRON}"/>'
    )
    return cropped("Sun badge #icon", shadowed(drawn(WIDTH, HEIGHT, body), 10, 0.3, 10))


def _rain_notice() -> Layer:
    body = f'<rect x="180" y="1260" width="620" height="170" rx="26" fill="{TIDE}"/>' + "".join(
        f'<path d="M{250 + i * 62} 1300 l-18 84" stroke="{CHALK}" stroke-width="13"'
        ' stroke-linecap="round"/>'
        for i in range(9)
    )
    return cropped("Rain notice #figure", drawn(WIDTH, HEIGHT, body), shown=False)


def _layers() -> list[LayerGroup]:
    """The poster's three groups, topmost first."""
    return [
        LayerGroup(
            "Words",
            [_rain_notice(), _badge(), _title()],
        ),
        LayerGroup(
            "Kites",
            [
                _kite_layer("Red kite #figure", 560, 860, 150, 18, (MADDER, SAFFRON)),
                _kite_layer("Pine kite #figure", 1080, 1030, 105, -14, (PINE, SAND)),
                _kite_layer("Runaway kite #figure", 1560, 760, 170, 24, (TIDE, CHALK)),
                _kite_layer("Small kite", 300, 1180, 70, 8, (DUSK, SAFFRON)),
            ],
        ),
        LayerGroup(
            "Shore",
            [
                _tide_lines(),
                _hills("Near dune", 1860, 3, SAND, op="svg:multiply", opacity=0.9),
                _hills("Skyline #backdrop", 1690, 7, PINE),
                _hills("Far ridge", 1560, 9, TIDE, opacity=0.55),
                _glow(),
                _sky(),
            ],
        ),
    ]
