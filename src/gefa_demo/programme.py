"""The cover and map of the festival's programme, an OpenRaster design: badges of stalls that become
icons, and a picture in a wide and in a tall version."""

from __future__ import annotations

from pathlib import Path

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
    ridge,
    star,
)

WIDTH, HEIGHT = 2000, 1400
_COVER, _MAP = 1180, 1240
"""px: where the tall cover begins, and the map below the wide one ends"""


def draw_programme(target: Path) -> None:
    """Write the programme."""
    write_design(target, _layers(), WIDTH, HEIGHT)


def _scene(name: str, x: int, y: int, width: int, height: int, horizon: float) -> Layer:
    """Sky, sea and dune in a frame, with kites."""
    sea, dune = y + height * horizon, y + height * 0.82
    colours = (MADDER, SAFFRON), (PINE, SAND), (TIDE, CHALK)
    kites = "".join(
        kite(x + width * at, y + height * up, min(width, height) * size, turn, colours[i])
        for i, (at, up, size, turn) in enumerate(
            [(0.3, 0.3, 0.16, 16), (0.68, 0.22, 0.1, -12), (0.86, 0.46, 0.07, 22)]
        )
    )
    body = (
        f'<defs><linearGradient id="sky" x1="0" y1="0" x2="0" y2="1">'
        f'<stop offset="0" stop-color="#5f96b4"/><stop offset="1" stop-color="#f4e4c6"/>'
        f'</linearGradient><clipPath id="frame">'
        f'<rect x="{x}" y="{y}" width="{width}" height="{height}"/></clipPath></defs>'
        f'<g clip-path="url(#frame)">'
        f'<rect x="{x}" y="{y}" width="{width}" height="{height}" fill="url(#sky)"/>'
        f'<rect x="{x}" y="{sea}" width="{width}" height="{height}" fill="{TIDE}"/>'
        f'<path d="{ridge(WIDTH, HEIGHT, dune, 46, 5)}" fill="{SAND}"/>{kites}</g>'
    )
    return cropped(name, drawn(WIDTH, HEIGHT, body))


def _masthead() -> Layer:
    bands = "".join(
        f'<path d="M{100 + i * 130} 70 h104 l-52 {120 + 24 * (i % 2)} z" fill="{colour}"/>'
        for i, colour in enumerate([MADDER, SAFFRON, TIDE, PINE, MADDER, SAFFRON, TIDE, PINE])
    )
    cord = f'<path d="M60 70 H1160" stroke="{DUSK}" stroke-width="7"/>'
    return cropped("Masthead #figure", shadowed(drawn(WIDTH, HEIGHT, cord + bands), 8, 0.25, 8))


def _stall(index: int, name: str, mark: str) -> Layer:
    x, y = 130 + 190 * index, 1290
    colour = (MADDER, SAFFRON, TIDE, PINE, DUSK)[index % 5]
    body = (
        f'<circle cx="{x}" cy="{y}" r="76" fill="{colour}"/>'
        f'<g transform="translate({x} {y})" fill="none" stroke="{CHALK}" stroke-width="9"'
        f' stroke-linecap="round" stroke-linejoin="round">{mark}</g>'
    )
    return cropped(name, drawn(WIDTH, HEIGHT, body))


def _stalls() -> list[Layer]:
    marks = {
        "Tea tent #icon": '<path d="M-34 -12 h56 v30 q0 18 -28 18 t-28 -18 z M22 -4 q24 2 0 26"/>',
        "Kite clinic #icon": '<path d="M0 -40 L30 -6 L0 40 L-30 -6 Z M-16 0 h32 M0 -16 v32"/>',
        "Line and reel #icon width=96": '<circle r="34"/><circle r="10"/><path d="M34 0 h18"/>',
        "Lost children #icon formats=webp,png": f'<path d="{star(0, 0, 42, 18, 5)}"/>',
        "First aid #icon": '<path d="M0 -32 V32 M-32 0 H32"/>',
    }
    return [_stall(index, name, mark) for index, (name, mark) in enumerate(marks.items())]


def _map() -> list[Layer]:
    coast = (
        f'<path d="M90 {_MAP - 250} q220 -150 420 -60 t380 -40 q180 60 190 190 q-420 60 -990 20 z"'
        f' fill="{SAND}" stroke="{DUSK}" stroke-width="6"/>'
    )
    path = (
        f'<path d="M170 {_MAP - 150} q200 -80 380 -40 t420 -20" fill="none" stroke="{MADDER}"'
        ' stroke-width="12" stroke-dasharray="30 22" stroke-linecap="round"/>'
    )
    return [
        cropped("Path", drawn(WIDTH, HEIGHT, path)),
        cropped("Shore map #figure widths=480,960", drawn(WIDTH, HEIGHT, coast)),
    ]


def _layers() -> list[LayerGroup]:
    """The programme's groups, topmost first."""
    paper = f'<rect width="{WIDTH}" height="{HEIGHT}" fill="{CHALK}"/>'
    fold = (
        f'<path d="M{_COVER} 0 V{HEIGHT}" stroke="{DUSK}" stroke-opacity=".25" stroke-width="3"/>'
    )
    return [
        LayerGroup("Stalls", _stalls()),
        LayerGroup("Map", _map()),
        LayerGroup(
            "Cover",
            [
                _masthead(),
                _scene("Hero wide #backdrop widths=560,1080", 60, 250, 1080, 620, 0.62),
                _scene("Hero tall #backdrop widths=360,720", 1240, 60, 720, 1280, 0.66),
            ],
        ),
        LayerGroup(
            "Sheet",
            [
                cropped("Fold", drawn(WIDTH, HEIGHT, fold)),
                Layer("Paper", drawn(WIDTH, HEIGHT, paper)),
            ],
        ),
    ]
